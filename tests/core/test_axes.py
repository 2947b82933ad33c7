"""Axes that make readings straight, held against NumPy's own least squares; the end of a straight part; one more reading."""

import numpy as np
import pytest
from scipy import stats

from cavrel.core.analysis.axes import LOG, Pair, axis_formula, bend_of, on_axes, pairs, power_of, tried
from cavrel.core.analysis.segments import straight_end
from cavrel.core.formula.parse import parse

X = np.array([0.5, 0.8, 1.1, 1.5, 2.0, 2.6, 3.3])


def noisy(y: np.ndarray, size: float, seed: int = 3) -> tuple[np.ndarray, np.ndarray]:
    return y + np.random.default_rng(seed).normal(0, size, len(y)), np.full(len(y), size)


def by_powers(found: list[Pair], x: float, y: float) -> Pair:
    return next(pair for pair in found if (pair.x_power, pair.y_power) == (x, y))


@pytest.mark.parametrize(
    ("law", "straight"),
    [
        (lambda x: 2 * np.sqrt(x), {(0.5, 1.0), (1.0, 2.0), (LOG, LOG)}),
        (lambda x: 3 * x**2, {(2.0, 1.0), (1.0, 0.5), (LOG, LOG)}),
        (lambda x: 4 / x, {(-1.0, 1.0), (1.0, -1.0), (LOG, LOG)}),
        (lambda x: 5 * np.exp(-x), {(1.0, LOG)}),
        (lambda x: 7 + 2 * np.log(x), {(LOG, 1.0)}),
        (lambda x: 1 + 3 * x, {(1.0, 1.0)}),
        (lambda x: 6 / x**2, {(-2.0, 1.0), (1.0, -0.5), (LOG, LOG)}),
    ],
)
def test_the_axes_of_a_law_are_found_straight_and_no_others(law, straight) -> None:
    y, u = noisy(law(X), 1e-4 * float(np.ptp(law(X))))
    found = tried(X, y, np.zeros_like(X), u)
    assert {(p.x_power, p.y_power) for p in found if p.straight} == straight
    assert (found[0].x_power, found[0].y_power) in straight
    assert all("bends" in p.words or "scattered" in p.words for p in found if not p.straight)


def test_plainer_axes_come_first_of_those_that_are_straight_alike() -> None:
    y, u = noisy(4 * X, 0.02)
    found = tried(X, y, np.zeros_like(X), u)
    assert (found[0].x_power, found[0].y_power) == (1.0, 1.0)
    assert found[0].words == "straight within errors"


def test_line_and_chi_squared_are_those_of_numpy() -> None:
    y, u = noisy(2 * np.sqrt(X), 0.01)
    pair = by_powers(tried(X, y, np.zeros_like(X), u), 1.0, 2.0)
    squared, u_squared = y**2, 2 * y * u
    slope, intercept = np.polyfit(X, squared, 1, w=1 / u_squared)
    assert (pair.slope, pair.intercept) == pytest.approx((slope, intercept))
    left = (squared - intercept - slope * X) / u_squared
    assert pair.squares == pytest.approx(float(left @ left))
    assert pair.chi2_p == pytest.approx(stats.chi2.sf(float(left @ left), len(X) - 2))


def test_error_bars_along_x_count() -> None:
    y, u = noisy(3 * X, 0.05)
    u_x = np.full_like(X, 0.03)
    pair = by_powers(tried(X, y, u_x, u), 1.0, 1.0)
    weights = 1 / (u**2 + (np.polyfit(X, y, 1, w=1 / u)[0] * u_x) ** 2)
    slope, intercept = np.polyfit(X, y, 1, w=np.sqrt(weights))
    assert (pair.slope, pair.intercept) == pytest.approx((slope, intercept))


def test_the_missing_square_is_an_f_test_of_two_nested_fits() -> None:
    y, u = noisy(1 + 2 * X + 0.3 * X**2, 0.2)
    pair = by_powers(tried(X, y, np.zeros_like(X), np.zeros_like(X)), 1.0, 1.0)
    one, two = (np.polyfit(X, y, degree, full=True)[1][0] for degree in (1, 2))
    f = (one - two) / (two / (len(X) - 3))
    assert pair.curved_p == pytest.approx(stats.f.sf(f, 1, len(X) - 3), rel=1e-6)
    assert pair.bends == 1
    assert pair.chi2_p is None
    del u


def test_what_has_no_value_on_an_axis_is_not_tried() -> None:
    x = np.array([-1.0, 0.0, 1.0, 2.0, 3.0])
    found = tried(x, 2 * x + 1, np.zeros(5), np.full(5, 0.1))
    assert {p.x_power for p in found} == {1.0, 2.0}
    assert all(np.isfinite(p.x).all() and np.isfinite(p.y).all() for p in found)


@pytest.mark.parametrize("scale", [1e-80, 1e-9, 1.0, 1.7e9, 1e80])
def test_numbers_far_from_their_usual_size(scale: float) -> None:
    y, u = noisy(2 * X, 0.01)
    found = tried(X * scale, y, np.zeros_like(X), u)
    assert by_powers(found, 1.0, 1.0).straight
    assert by_powers(found, LOG, LOG).straight


@pytest.mark.parametrize("many", [0, 1, 2, 3])
def test_few_points_say_so(many: int) -> None:
    found = tried(X[:many], 2 * X[:many], np.zeros(many), np.full(many, 0.1))
    assert found == [] if many < 3 else all(p.words == "too few points to tell" for p in found)


def test_formulas_of_axes_are_read_back() -> None:
    for x, y in pairs():
        for power in (x, y):
            text = axis_formula("L", "cm", power)
            parse(text)
            assert power_of(text, "L") == power
    assert power_of("L*T", "L") is None


def test_a_law_is_straight_on_its_own_axes() -> None:
    grid = np.linspace(0.2, 2, 50)
    on = on_axes(grid, 2 * np.sqrt(grid), (1.0, 2.0))
    assert on is not None
    assert bend_of(*on) < 1e-12
    assert bend_of(grid, 2 * np.sqrt(grid)) > 0.05
    assert on_axes(np.array([0.0, 1.0]), np.array([1.0, 2.0]), (-1.0, 1.0)) is None


# --- where a straight part ends --------------------------------------------------------------------------------------


def bent(seed: int, knot: float = 7.3, beyond: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    x = np.linspace(1, 10, 10)
    y = 2 + 3 * np.minimum(x, knot) + beyond * np.maximum(x - knot, 0)
    return x, y + np.random.default_rng(seed).normal(0, 0.1, 10)


def test_the_bend_is_found_with_its_uncertainty() -> None:
    found = [straight_end(*bent(seed), np.ones(10)) for seed in range(200)]
    ends = [end for end in found if end is not None]
    assert len(ends) == 200
    off = np.array([(end.knot - 7.3) / end.u for end in ends])
    assert 0.9 < np.mean(np.abs(off) < stats.t.ppf(0.975, 6)) <= 0.99
    assert all(end.below and set(end.outside.tolist()) <= {6, 7, 8, 9} for end in ends)
    assert np.mean([end.slope for end in ends]) == pytest.approx(3.0, abs=0.02)


def test_one_line_is_hardly_ever_broken() -> None:
    x = np.linspace(1, 10, 10)
    noise = np.random.default_rng(5).normal(0, 0.1, (500, 10))
    assert sum(straight_end(x, 2 + 3 * x + n, np.ones(10)) is not None for n in noise) <= 3


def test_a_beginning_that_is_not_straight_yet() -> None:
    x = np.linspace(1, 10, 10)
    y = 1 + 3 * np.maximum(x - 3.4, 0) + np.random.default_rng(2).normal(0, 0.05, 10)
    end = straight_end(x, y, np.ones(10))
    assert end is not None
    assert not end.below
    assert end.outside.tolist() == [0, 1, 2]


def test_the_best_place_is_that_of_a_search_by_hand() -> None:
    x, y = bent(1)
    end = straight_end(x, y, np.ones(10))
    assert end is not None
    grid = np.linspace(2, 9, 200)
    left = []
    for knot in grid:
        design = np.stack([np.ones(10), x, np.maximum(x - knot, 0)], axis=1)
        left.append(float(np.linalg.lstsq(design, y, rcond=None)[1][0]))
    assert end.knot == pytest.approx(grid[int(np.argmin(left))], abs=0.04)


@pytest.mark.parametrize("count", [2, 5, 6])
def test_too_few_points_for_two_lines(count: int) -> None:
    assert straight_end(np.arange(float(count)), np.arange(float(count)) ** 2, np.ones(count)) is None


def test_points_at_one_place() -> None:
    assert straight_end(np.ones(9), np.arange(9.0), np.ones(9)) is None
