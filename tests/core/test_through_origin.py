"""A line whose free intercept hides what each row says: held against NumPy, row by row and through the origin."""

import math

import numpy as np
import pytest

from cavrel.core.analysis.through_origin import otherwise
from tests.core.machine import columns, program, run

FALL = program(
    series={"s": columns(x="m^2/s^2", y="m")},
    fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line", "origin": True}},
    results={"g": {"label": "g", "formula": "1/f.slope", "unit": "m/s^2"}},
)
X = np.array([13.0, 13.6, 14.1, 14.5, 14.9, 15.2])
"""A narrow range, far from the origin."""


def found(y: np.ndarray, x: np.ndarray = X, u: float = 0.03, of=FALL, **rules: str):
    texts = [f"{v:.6f} ± {u}" for v in y]
    return run(of, series={"s": {"x": [f"{v} ± 1e-9" for v in x], "y": texts}}, rules=rules)


def test_every_row_near_and_the_line_far_off() -> None:
    """Rows within a few percent of 9.81; a slope that noise tilts by a fifth."""
    y = X / 9.81 + np.array([0.06, 0.03, 0.0, -0.01, -0.04, -0.05])
    analysis = found(y, u=0.05)
    one = otherwise(analysis)["g"]
    slope, _ = np.polyfit(X, y, 1)
    assert one.free.value == pytest.approx(1 / slope, rel=1e-4)
    assert one.forced.value == pytest.approx((X @ X) / (X @ y), rel=1e-4)
    assert one.rows == pytest.approx(X / y, rel=1e-5)
    assert one.free.value > one.rows.max() * 1.05
    assert one.reach == pytest.approx((15.2 - 13.0) / 15.2)
    assert one.chance
    intercept = analysis.fits["f"].parameters["intercept"]
    assert one.z == pytest.approx(intercept.value / intercept.u)


def test_an_intercept_that_is_there_is_believed() -> None:
    """Half a metre too much in every row: rows run away from each other, and the line with its intercept is right."""
    x = np.linspace(4, 16, 7)
    one = otherwise(found(x / 9.81 + 0.5, x))["g"]
    assert one.free.value == pytest.approx(9.81, rel=1e-4)
    assert one.rows.max() < 9.81
    assert not one.chance
    assert one.z > 10


def test_rows_that_say_the_same_are_left_in_peace() -> None:
    x = np.linspace(4, 16, 7)
    noise = 0.01 * np.array([1, -1, 1, -1, 1, -1, 1])
    assert not otherwise(found(x / 9.81 + noise, x))


def test_nothing_is_said_where_the_line_is_sent_through_the_origin_or_theory_has_an_intercept() -> None:
    y = X / 9.81 + np.array([0.06, 0.03, 0.0, -0.01, -0.04, -0.05])
    assert not otherwise(found(y, u=0.05, origin="forced"))
    free = program(
        series={"s": columns(x="m^2/s^2", y="m")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"g": {"label": "g", "formula": "1/f.slope", "unit": "m/s^2"}},
    )
    assert not otherwise(found(y, u=0.05, of=free))


def test_a_row_at_the_origin_says_nothing_alone() -> None:
    x = np.concatenate([[0.0], X])
    y = np.concatenate([[0.3], X / 9.81 + np.array([0.06, 0.03, 0.0, -0.01, -0.04, -0.05])])
    assert not otherwise(found(y, x, u=0.05))
    assert math.isfinite(found(y, x, u=0.05).results["g"].value)
