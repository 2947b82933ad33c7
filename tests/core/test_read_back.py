"""Whatever Cavrel prints it reads back: value, uncertainty and unit; and what can be meant in two ways is asked about."""

import math

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cavrel.core.errors import DefinitionError, ReadingError
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import read
from cavrel.core.quantity.rounding import concise, in_step, u_figures, with_u
from cavrel.core.quantity.value import MeasuredValue
from tests.core.machine import program, run

UNITS = [
    "",
    "m",
    "cm",
    "m/s^2",
    "m^3/(kg s^2)",
    "1/µm",
    "N m",
    "kg m^2",
    "W/(m^2 K^4)",
    "°C",
    "%",
    "°",
    "Ω",
    "kΩ",
    "J s",
    "1/s",
    "g/cm^3",
]
RULES = ["one_or_two", "one", "two", "pdg"]


@settings(max_examples=600, deadline=None)
@given(
    st.floats(1, 10, exclude_max=True),
    st.integers(-60, 60),
    st.booleans(),
    st.floats(1e-9, 10),
    st.sampled_from(UNITS),
    st.sampled_from(RULES),
    st.booleans(),
)
def test_what_is_printed_is_read_back(
    figures: float, decade: int, negative: bool, share: float, unit: str, rule: str, ascii_only: bool
) -> None:
    value = (-figures if negative else figures) * 10.0**decade
    u = abs(value) * share
    text = with_u(value, u, unit, rule, ascii_only)
    found, own = read(text, unit), units.unit(unit)
    rounded = in_step(value, u, rule)
    scale = 10.0**rounded.exponent
    assert own.from_si(found.value) == pytest.approx(
        float(rounded.value) * scale, rel=1e-9, abs=1e-9 * u + 1e-12 * own.offset
    )
    assert found.stated is not None
    assert found.stated / own.factor == pytest.approx(float(rounded.u) * scale, rel=1e-9)
    assert found.unit.dimension == own.dimension
    # One step of the last figure apart at most from what it was before it was rounded.
    assert abs(own.from_si(found.value) - value) <= 0.51 * 10.0**rounded.last + 1e-12 * (abs(value) + own.offset)
    inside = read(concise(value, u, rule), unit)
    assert inside.stated is not None
    assert inside.stated / own.factor == pytest.approx(float(rounded.u) * scale, rel=1e-9)


@pytest.mark.parametrize(
    ("text", "unit", "value", "stated"),
    [
        ("3 × 10⁸ m/s", "m/s", 3e8, None),
        ("(1.23 ± 0.02) × 10⁵ m", "m", 1.23e5, 2e3),
        ("39.0 cm ± 0.1 cm", "m", 0.39, 1e-3),
        ("39.0 cm ± 2 mm", "m", 0.39, 2e-3),
        ("39.0 ± 2 %", "cm", 0.39, 0.0078),
        ("50 % ± 2 %", "", 0.5, 0.02),
        ("50 ± 2 %", "%", 0.5, 0.02),
        ("20 °C ± 0.5", "°C", 293.15, 0.5),
        ("-38.8", "°C", 234.35, None),
        ("31°24′ ± 1′", "°", math.radians(31.4), math.radians(1 / 60)),
        ("5893 Å", "nm", 5.893e-7, None),
        ("3 ‰", "%", 0.003, None),
        ("500 G", "mT", 0.05, None),
        ("600 /mm", "1/m", 6e5, None),
        ("60 rpm", "Hz", 1.0, None),
        ("60 rpm", "rad/s", math.tau, None),
        ("2 Hz", "rad/s", 2 * math.tau, None),
        ("1 rps", "1/s", 1.0, None),
        ("12.3(1.4)", "m", 12.3, 1.4),
    ],
)
def test_readings_as_they_are_written(text: str, unit: str, value: float, stated: float | None) -> None:
    found = read(text, unit)
    assert found.value == pytest.approx(value, rel=1e-12)
    assert found.stated == (None if stated is None else pytest.approx(stated, rel=1e-9))


@pytest.mark.parametrize(
    ("text", "unit"),
    [
        ("2x103", ""),
        ("1 x 105", "m"),
        ("50 ± 2 %", ""),
        ("3 dB", ""),
        ("0e400", ""),
        ("1(1)e400", ""),
        ("1e-400", "m"),
        ("5 ± 1e400", "m"),
        ("5(1) ± 1", "m"),
        ("(5 ± 1", "m"),
        ("5 m ± 1 s", "m"),
        ("31°24′ ± -1′", "°"),
        ("٣", "m"),
        ("1²", "m"),
    ],
)
def test_what_can_be_meant_in_two_ways_or_none_is_refused(text: str, unit: str) -> None:
    with pytest.raises(ReadingError):
        read(text, unit)


def test_a_comma_before_three_digits_is_asked_about() -> None:
    assert read("1,234", "mm").value == pytest.approx(1.234e-3)
    assert "write 1234" in read("1,234", "mm").doubt
    for clear in ("1,23", "0,234", "1,2345", "39,0", "1.234"):
        assert read(clear, "mm").doubt == ""


def test_a_difference_of_temperatures_is_in_kelvins() -> None:
    assert read("5 °C", "K").value == pytest.approx(278.15)
    assert read("5 °C", "K", difference=True).value == pytest.approx(5)
    assert read("5", "°C", difference=True).value == pytest.approx(5)
    two = {"a": {"label": "a", "unit": "°C"}, "b": {"label": "b", "unit": "°C"}}
    with pytest.raises(DefinitionError, match="difference = true"):
        program(quantities=two, results={"d": {"label": "d", "formula": "a - b", "unit": "°C"}})
    shown = {"label": "d", "formula": "a - b", "unit": "°C", "difference": True}
    found = run(program(quantities=two, results={"d": shown}), quantities={"a": "25", "b": "20"})
    assert found.results["d"].unit.from_si(found.results["d"].value) == pytest.approx(5)
    mean = {"label": "m", "formula": "(a + b)/2", "unit": "°C"}
    found = run(program(quantities=two, results={"m": mean}), quantities={"a": "25", "b": "20"})
    assert found.results["m"].unit.from_si(found.results["m"].value) == pytest.approx(22.5)


def test_a_literal_below_its_zero_and_a_percentage_of_its_number() -> None:
    made = program(
        instruments={"t": {"label": "thermometer", "calibration": "1 %"}},
        quantities={"a": {"label": "a", "unit": "°C", "instrument": "t", "range": "-38.8[°C] <= a <= 50[°C]"}},
        results={"r": {"label": "r", "formula": "a", "unit": "°C"}},
    )
    analysis = run(made, quantities={"a": "20.000000"})
    assert analysis.results["r"].u == pytest.approx(0.2, rel=1e-6)  # of 20 °C, not of 293 K
    assert made.inputs[0].plausible is not None
    assert float(made.inputs[0].plausible(analysis.environment)[0, 0]) == 1.0


@pytest.mark.parametrize(
    ("value", "u", "rule", "text"),
    [
        (9.96, 9.96, "two", "10 ± 10"),
        (1.0, 0.096, "one", "1.0 ± 0.1"),
        (1.0, 0.096, "one_or_two", "1.00 ± 0.10"),
        (1234.0, 250.0, "one", "(1.2 ± 0.3) × 10³"),  # half up, as with a pencil
        (99999.6, 30.0, "one_or_two", "(1.0000 ± 0.0003) × 10⁵"),
        (0.25, 0.5, "one", "0.3 ± 0.5"),
        (14.674, 0.964, "pdg", "14.7 ± 1.0"),
    ],
)
def test_rounding_at_the_carry(value: float, u: float, rule: str, text: str) -> None:
    assert with_u(value, u, "", rule) == text


def test_an_interval_stands_on_the_scale_of_its_value() -> None:
    sigma = MeasuredValue(value=5.67e-8, u=1.8e-9, unit=units.unit("W/(m^2 K^4)"))
    assert sigma.interval(5.3e-8, 6.03e-8).replace("\u2009", " ") == "(5.30 to 6.03) × 10⁻⁸ W/(m² K⁴)"
    assert sigma.uncertainty(9e-10).replace("\u2009", " ") == "± 0.09 × 10⁻⁸ W/(m² K⁴)"
    assert sigma.bare() == "(5.67 ± 0.18) × 10⁻⁸"


@pytest.mark.parametrize(
    ("u", "figures", "shown"),
    [
        (0.100, 2, "0.10"),
        (0.354, 2, "0.35"),
        (0.355, 1, "0.4"),
        (0.949, 1, "0.9"),
        (0.950, 2, "1.0"),
        (0.999, 2, "1.0"),
        (1.00, 2, "1.0"),
        (3.54, 2, "3.5"),
        (3.5449, 2, "3.5"),
        (3.5499, 2, "3.5"),
        (9.49, 1, "9"),
        (9.4949, 1, "9"),
        (9.499, 1, "9"),
        (9.50, 2, "10"),
    ],
)
def test_the_rule_of_the_particle_data_group_at_its_borders(u: float, figures: int, shown: str) -> None:
    """Between 100 and 354 two figures, 355 to 949 one, 950 to 999 rounded up to 1000 with two (Review of Particle Physics, introduction, 5.3)."""
    assert in_step(12.3456, u, "pdg").u == shown
    rounded = in_step(12.3456, u, "pdg")
    decimals = len(shown.partition(".")[2])
    assert len(rounded.value.partition(".")[2]) == decimals
    assert u_figures(u, "pdg") == figures


@pytest.mark.parametrize(
    ("u", "shown"), [(0.0949, "0.09"), (0.0951, "0.10"), (0.194, "0.19"), (0.195, "0.2"), (0.1949, "0.19"), (2.0, "2")]
)
def test_one_or_two_figures_at_their_borders(u: float, shown: str) -> None:
    assert in_step(12.3456, u, "one_or_two").u == shown
