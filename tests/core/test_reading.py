import math
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cavrel.core.errors import ReadingError
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of, read, read_at


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


@pytest.mark.parametrize(
    ("text", "unit", "value", "decimals"),
    [
        ("300 lines/mm", "1/mm", 3e5, 0),
        ("300 lines per mm", "1/mm", 3e5, 0),
        ("300 lines/mm", "um", 1 / 3e5, 2),
        ("1/300 mm", "mm", 1 / 3e5, 5),
        ("1/300 mm", "um", 1 / 3e5, 2),
        ("1200 rpm", "Hz", 20.0, 0),
        ("400°", "deg", math.radians(400), 0),
    ],
)
def test_units_as_people_write_them(text: str, unit: str, value: float, decimals: int) -> None:
    found = read(text, unit)
    assert found.value == pytest.approx(value, rel=1e-12)
    assert found.decimals == decimals


@pytest.mark.parametrize(
    ("text", "unit", "ends", "decimals"),
    [
        ("0 to 30", "s", (0, 30), 0),
        ("30 to 60 s", "s", (30, 60), 0),
        ("1.5 to 2.5 min", "s", (90, 150), 1),
        ("−5 to 5", "cm", (-0.05, 0.05), 0),
    ],
)
def test_an_interval_is_read_at_its_middle(text: str, unit: str, ends: tuple[float, float], decimals: int) -> None:
    found = read(text, unit)
    assert found.ends == pytest.approx(ends)
    assert found.value == pytest.approx(sum(ends) / 2)
    assert found.decimals == decimals


@pytest.mark.parametrize(
    ("text", "least", "value"),
    [("4.3 + 7", 1e-4, 0.0437), ("4.3+0", 1e-4, 0.043), ("4.3", 1e-4, 0.043), ("0.1 + 49", 2e-5, 0.00198)],
)
def test_main_scale_and_coincidence(text: str, least: float, value: float) -> None:
    found = read_at(text, "cm", False, least)
    assert found.value == pytest.approx(value, rel=1e-12)
    assert found.text == text


@pytest.mark.parametrize(
    ("text", "unit", "said"),
    [
        ("60 to 30", "s", "ends before it begins"),
        ("10 s to 20 cm", "s", "but this column is in s"),
        ("600 lines/mm", "s", "cannot be a reading in s"),
        ("0 lines/mm", "1/mm", "no number of lines"),
        ("4.3 + 7", "cm", "least count"),
    ],
)
def test_what_such_texts_cannot_mean(text: str, unit: str, said: str) -> None:
    with pytest.raises(ReadingError, match=said):
        read_at(text, unit, False, None)


@pytest.mark.parametrize("text", ["2.5134E+00", "1.2e+3", "2×10+5", "5 ± 0+1"])
def test_a_power_of_ten_is_no_vernier(text: str) -> None:
    def said(reader: Callable[..., object]) -> object:
        try:
            return reader()
        except ReadingError as fault:
            return str(fault)

    assert said(lambda: read_at(text, "cm", False, 1e-4)) == said(lambda: read(text, "cm"))
