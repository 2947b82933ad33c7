"""The line's diagnostics against the packages and textbook formulas."""

import math

import numpy as np
import pytest
from scipy import stats

from cavrel.core.fit import line

RNG = np.random.default_rng(8)
X = np.array([0.6, 0.9, 1.2, 1.5, 1.8, 2.1, 2.4])
U = np.array([0.02, 0.03, 0.02, 0.05, 0.02, 0.04, 0.03])
Y = 4.0 * X + 0.1 + RNG.normal(0, U)
PLAIN = line.Weighting(np.zeros(7), np.ones(7), False, False)
KNOWN = line.Weighting(np.zeros(7), U**2, True, False)


def fitted(weighting: line.Weighting, y: np.ndarray = Y) -> tuple[float, float, line.Diagnostics]:
    slope, intercept = (float(v[0]) for v in line.solve(X[None], y[None], weighting))
    return slope, intercept, line.diagnose(X, y, slope, intercept, weighting)


def test_weighted_line_is_that_of_polyfit() -> None:
    slope, intercept, found = fitted(KNOWN)
    assert (slope, intercept) == pytest.approx(tuple(np.polyfit(X, Y, 1, w=1 / U)), rel=1e-9)
    assert found.chi2 == pytest.approx((((Y - slope * X - intercept) / U) ** 2).sum(), rel=1e-12)
    assert found.p == pytest.approx(stats.chi2.sf(found.chi2, 5), rel=1e-12)


def test_doubling_all_weights_changes_no_parameter() -> None:
    double = line.Weighting(np.zeros(7), U**2 / 2, True, False)
    assert fitted(double)[:2] == pytest.approx(fitted(KNOWN)[:2], rel=1e-12)


def test_leverage_adds_up_to_the_number_of_parameters() -> None:
    hat = np.stack([np.ones(7), X], axis=1)
    w = 1 / U**2
    projection = hat @ np.linalg.inv(hat.T @ (w[:, None] * hat)) @ hat.T * w
    found = fitted(KNOWN)[2]
    assert found.leverage == pytest.approx(np.diag(projection), rel=1e-9)
    assert found.leverage.sum() == pytest.approx(2)


def test_the_square_term_is_that_of_a_fitted_parabola() -> None:
    y = Y + 0.2 * (X - 1.5) ** 2
    found = fitted(PLAIN, y)[2]
    design = np.stack([np.ones(7), X, X**2], axis=1)
    best, squares, *_ = np.linalg.lstsq(design, y, rcond=None)
    error = math.sqrt(squares[0] / 4 * np.linalg.inv(design.T @ design)[2, 2])
    assert found.curvature_p == pytest.approx(2 * stats.t.sf(abs(best[2] / error), 4), rel=1e-8)
    assert found.curvature_sign == 1


def test_runs_of_one_sign() -> None:
    """Swed and Eisenhart 1943: 3 plus and 4 minus signs in two runs: 2 of 35 orders have so few."""
    residuals = np.array([1.0, 1, 1, -1, -1, -1, -1])
    assert line._runs(residuals, 5) == pytest.approx(2 / 35)
    assert line._runs(np.array([1.0, -1, 1, -1, 1, -1, 1]), 5) == pytest.approx(1)


def test_error_bars_along_x_count_only_where_they_matter() -> None:
    small, large = np.full(7, 1e-8), np.full(7, 1e-2)
    assert not line.choose_weighting(small, U**2, 4.0, False, "auto").york
    assert line.choose_weighting(small, U**2, 4.0, False, "york").york
    assert line.choose_weighting(large, U**2, 4.0, False, "auto").york
    assert not line.choose_weighting(large, U**2, 4.0, False, "ignore").york
    assert not line.choose_weighting(large, U**2, 4.0, True, "auto").known


def test_york_without_x_errors_is_the_weighted_line() -> None:
    york = line.Weighting(np.zeros(7), U**2, True, True)
    assert fitted(york)[:2] == pytest.approx(fitted(KNOWN)[:2], rel=1e-12)


def test_a_batch_is_solved_row_by_row() -> None:
    y = np.stack([Y, Y + 1, 2 * Y])
    slope, intercept = line.solve(np.repeat(X[None], 3, axis=0), y, KNOWN)
    assert slope[1] == pytest.approx(slope[0])
    assert intercept[1] == pytest.approx(intercept[0] + 1)
    assert slope[2] == pytest.approx(2 * slope[0])
