import pytest
from hypothesis import given
from hypothesis import strategies as st

from cavrel.core.errors import UnitError
from cavrel.core.quantity import units


@pytest.mark.parametrize(
    ("text", "factor", "si"),
    [
        ("cm", 0.01, "m"),
        ("m/s^2", 1, "m/s^2"),
        ("m/s²", 1, "m/s^2"),
        ("N m", 1, "kg m^2/s^2"),
        ("N*m/(rad/s^2)", 1, "kg m^2"),
        ("g/cm^3", 1000, "kg/m^3"),
        ("°", 3.141592653589793 / 180, ""),
        ("%", 0.01, ""),
        ("µH", 1e-6, "kg m^2/(s^2 A^2)"),
        ("kΩ", 1000, "kg m^2/(s^3 A^2)"),
        ("s⁻¹", 1, "1/s"),
        ("", 1, ""),
    ],
)
def test_factor_and_dimension(text: str, factor: float, si: str) -> None:
    unit = units.unit(text)
    assert unit.factor == pytest.approx(factor, rel=1e-12)
    assert unit.dimension.si() == si


def test_celsius_has_a_zero_of_its_own() -> None:
    unit = units.unit("°C")
    assert unit.to_si(20.0) == pytest.approx(293.15)
    assert unit.from_si(293.15) == pytest.approx(20.0)
    with pytest.raises(UnitError, match="zero of its own"):
        units.unit("J/°C")


@pytest.mark.parametrize(
    "text",
    [
        "furlongs per",
        "m/",
        "(m",
        "m)",
        "m^99",
        "m^1/0",
        "c",
        "e",
        "k",
        "9**9**9",
        "m.__class__",
        "__import__",
        "m" * 70,
        "m\x00",
    ],
)
def test_what_is_no_unit_is_refused(text: str) -> None:
    with pytest.raises(UnitError):
        units.unit(text)


@given(st.text(max_size=80))
def test_any_text_is_read_or_refused(text: str) -> None:
    try:
        units.unit(text)
    except UnitError as fault:
        assert fault.what


def test_pretty() -> None:
    assert units.pretty("kg m^2/s^-1") == "kg m²/s⁻¹"
    assert units.pretty("s^2/m") == "s²/m"


def test_amounts() -> None:
    assert units.quantity("1 mm")[0] == pytest.approx(1e-3)
    assert units.quantity("0,5 %")[0] == pytest.approx(5e-3)
    with pytest.raises(UnitError, match="number with a unit"):
        units.quantity("about a metre")


def test_what_ships_is_what_pint_says() -> None:
    table = units.shipped()
    assert len(table) > 500
    assert {name: units.from_pint(name) for name in table} == table
    for no_unit in ("c", "k", "e", "R_inf", "pi", "dB"):
        assert no_unit not in table
