"""Readings, roundings and units at the borders where a rule changes hands, each from both sides."""

import math

import pytest

from cavrel.core.errors import ReadingError, UnitError
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import read
from cavrel.core.quantity.rounding import in_step, significant
from cavrel.core.quantity.value import MeasuredValue


@pytest.mark.parametrize(
    ("text", "unit", "spread"),
    [
        ("20 ± 1 %", "°C", 0.2),  # of what the scale shows, not of kelvins
        ("-5 ± 2 %", "°C", 0.1),
        ("5.0 cm ± 2 %", "cm", 0.001),
        ("5.0 ± 2 %", "cm", 0.001),
        ("40 % ± 2 %", "%", 0.02),
        ("40 ± 2 %", "%", 0.02),
        ("20 °C ± 0.5 K", "°C", 0.5),
        ("12°30′ ± 2′", "°", 2 * math.pi / 180 / 60),
        ("12°30′ ± 0.1°", "°", 0.1 * math.pi / 180),
    ],
)
def test_what_a_stated_uncertainty_is_of(text: str, unit: str, spread: float) -> None:
    assert read(text, unit).stated == pytest.approx(spread, rel=1e-9)


def test_the_last_digit_of_an_angle_is_that_of_its_smallest_part() -> None:
    whole, parts = read("12°30′15″", "°"), read("12°30′15.25″", "°")
    assert (whole.decimals, parts.decimals) == (0, 2)
    assert (read("12°30.5′", "°").decimals, read("12°30′", "°").decimals) == (1, 0)
    assert parts.value == pytest.approx(math.radians(12 + 30 / 60 + 15.25 / 3600), rel=1e-12)


@pytest.mark.parametrize("text", ["3.2 m/(kg s)", "3.2 (m)/s", "3.2 m/s"])
def test_a_unit_with_closed_brackets_is_read(text: str) -> None:
    assert read(text, "m/(kg s)" if "kg" in text else "m/s").value == pytest.approx(3.2)


def test_a_bracket_too_many_is_said() -> None:
    for text in ("3.2 m/kg s)", "3.2 m/(kg s))"):
        with pytest.raises(ReadingError, match="bracket is not closed"):
            read(text, "m/(kg s)")


def test_how_large_a_number_may_be_typed() -> None:
    for text in ("1e250", "1e-250", "1e290"):
        assert read(text, "m").value == pytest.approx(float(text))
    for text in ("1e400", "1e-400", "1 ± 1e400", "1e301"):
        with pytest.raises(ReadingError, match="too large"):
            read(text, "m")


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (123456, "120000"),
        (954321, "950000"),
        (999999, "1.0 × 10⁶"),
        (1234567, "1.2 × 10⁶"),
        (0.00012, "0.00012"),
        (0.0001, "0.00010"),
        (0.0000996, "0.00010"),
        (0.000012, "1.2 × 10⁻⁵"),
        (-0.00012, "−0.00012"),
        (-1234567, "−1.2 × 10⁶"),
        (0, "0"),
    ],
)
def test_where_a_power_of_ten_begins(value: float, text: str) -> None:
    assert significant(value) == text


def test_a_value_of_nothing_is_written_on_its_uncertaintys_scale() -> None:
    assert (in_step(0.0, 0.0).value, in_step(0.0, 0.0).exponent) == ("0", 0)
    assert in_step(0.0, 0.04).value == "0.00"
    assert in_step(0.0, 4e-9).exponent == in_step(1e-12, 4e-9).exponent != 0


def test_an_exponent_of_a_unit_has_an_end() -> None:
    for power in (12, -12):
        assert units.unit(f"m^{power}").dimension == units.unit("m").dimension ** power
    for power in (13, -13):
        with pytest.raises(UnitError, match="too large"):
            units.unit(f"m^{power}")


def test_a_value_alone_is_rounded_in_step_with_how_far_it_spreads() -> None:
    """31.4159 mm with a spread of 0.2 mm, and with its own u of 0.004 mm: the spread is SI and the number is in millimetres."""
    value = MeasuredValue(value=0.0314159, u=4e-6, unit=units.unit("mm"))
    assert value.digits() == "31.416"
    assert value.digits(2e-4) == "31.4"
    assert value.uncertainty().startswith("± 0.004")
    assert value.uncertainty(2e-4).startswith("± 0.2")
