"""A number and its unit come from one place: no text takes the one in SI and the other from the bench."""

import re
from pathlib import Path

import pytest

import cavrel
from cavrel.core.quantity import units
from cavrel.core.quantity.value import amount_text

ROOT = Path(cavrel.__file__).parent
_APART = re.compile(r"(?:significant\(|/ [\w.]*factor|from_si\()[^\n]*\{[\w.]*\.pretty\}")
_ALONE = {
    "present/graphs.py",  # a gradient read off in the axes' own units, and two slopes that share one unit
    "present/result.py",  # the two ends of an interval share one unit
}


@pytest.mark.parametrize(
    ("value", "unit", "figures", "difference", "text"),
    [
        (0.0146, "g", 3, False, "14.6 g"),
        (3.79e8, "MPa", 3, False, "379 MPa"),
        (293.15, "°C", 3, False, "20.0 °C"),
        (5.0, "°C", 2, True, "5.0 °C"),
        (0.11, "", 2, False, "0.11"),
        (-0.0004, "mm", 1, False, "−0.4 mm"),
    ],
)
def test_an_amount_in_a_unit(value: float, unit: str, figures: int, difference: bool, text: str) -> None:
    assert amount_text(value, units.unit(unit), figures, difference) == text


def test_no_text_takes_number_and_unit_from_two_places() -> None:
    apart = [
        f"{path.relative_to(ROOT)}:{number}"
        for path in ROOT.rglob("*.py")
        for number, line in enumerate(path.read_text().splitlines(), 1)
        if _APART.search(line) and str(path.relative_to(ROOT)) not in _ALONE | {"core/quantity/value.py"}
    ]
    assert apart == []
