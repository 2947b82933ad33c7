import pytest
from hypothesis import given
from hypothesis import strategies as st

from cavrel.core.errors import ReadingError
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of, read


@pytest.mark.parametrize(
    ("text", "unit", "value", "decimals", "stated"),
    [
        ("39.0", "cm", 0.390, 1, None),
        ("39,0", "cm", 0.390, 1, None),
        ("390 mm", "cm", 0.390, 0, None),
        ("49.8 ± 0.1", "cm", 0.498, 1, 0.001),
        ("49.8+/-0.1", "cm", 0.498, 1, 0.001),
        ("49.8(2)", "cm", 0.498, 1, 0.002),
        ("1.2e-3", "m", 1.2e-3, 4, None),
        ("1.2 × 10⁻³", "m", 1.2e-3, 4, None),
        ("1.2 x 10^-3 m", "m", 1.2e-3, 4, None),
        ("(1.20 ± 0.05) × 10⁻³", "m", 1.2e-3, 5, 5e-5),
        ("1.2e3", "m", 1200, -2, None),
        ("−4.5", "cm", -0.045, 1, None),
        (".5", "s", 0.5, 1, None),
        ("7.", "s", 7, 0, None),
        ("1:23.45", "s", 83.45, 2, None),
        ("20.5", "°C", 293.65, 1, None),
        ("20", "", 20, 0, None),
        ("15°", "°", 0.2617993877991494, 0, None),
        ("55 %", "", 0.55, 0, None),
    ],
)
def test_readings_as_people_type_them(text: str, unit: str, value: float, decimals: int, stated: float | None) -> None:
    found = read(text, unit)
    assert found.value == pytest.approx(value, rel=1e-12)
    assert found.decimals == decimals
    assert found.stated == (None if stated is None else pytest.approx(stated, rel=1e-9))
    assert found.text == text


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("31.1q", "unknown unit"),
        ("31.1l", "is in l, but this column is in cm"),
        ("abc", "is not a number"),
        ("12.3.4", "two decimal marks"),
        ("1,234.5", "two decimal marks"),
        ("3 kg", "this column is in cm"),
        ("1:23", "minutes and seconds"),
        ("4 ± -1", "negative"),
        ("5(1) ± 2", "twice"),
        ("(5", "bracket"),
        ("1e999", "too large"),
        ("9" * 100, "too long|this long"),
        ("", "not a number"),
    ],
)
def test_what_is_no_reading_says_why(text: str, what: str) -> None:
    with pytest.raises(ReadingError, match=what):
        read(text, "cm")


@given(st.text(max_size=90))
def test_any_text_is_read_or_refused(text: str) -> None:
    try:
        read(text, "cm")
    except ReadingError as fault:
        assert fault.what


@given(st.decimals(min_value=0, max_value=9999, places=3))
def test_a_plain_number_keeps_its_decimals(number) -> None:
    found = read(str(number), "m")
    assert found.decimals == 3
    assert found.value == pytest.approx(float(number))
    assert found.last_digit == pytest.approx(1e-3)


@pytest.mark.parametrize(
    ("least", "unit", "decimals"),
    [(1e-3, "cm", 1), (5e-5, "mm", 2), (2e-5, "mm", 2), (0.01, "s", 2), (1, "s", 0), (0.25, "s", 2), (0.5, "s", 1)],
)
def test_decimals_an_instrument_gives(least: float, unit: str, decimals: int) -> None:
    assert decimals_of(least, units.unit(unit)) == decimals
