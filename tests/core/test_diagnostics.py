"""Solving and judging curves against the packages and textbook formulas."""

import itertools
import math

import numpy as np
import pytest
from odrpack import odr_fit
from scipy import stats

from cavrel.core.fit import models, solver, york
from cavrel.core.fit.diagnostics import Diagnostics, diagnose, runs_probability
from cavrel.core.fit.least_squares import NoFit, response
from tests.core.machine import curve

RNG = np.random.default_rng(8)
X = np.array([0.6, 0.9, 1.2, 1.5, 1.8, 2.1, 2.4])
U = np.array([0.02, 0.03, 0.02, 0.05, 0.02, 0.04, 0.03])
Y = 4.0 * X + 0.1 + RNG.normal(0, U)
ONES = np.ones(7)


def bound(model: models.Model, x: np.ndarray = X) -> solver.Curve:
    return solver.Curve(lambda t: model.predict(t, x[None, :]), lambda t: model.jacobian(t, x[None, :]), model.linear)


def fitted(
    w: np.ndarray, known: bool, y: np.ndarray = Y, model: models.Model | None = None
) -> tuple[np.ndarray, Diagnostics]:
    model = model or models.Line()
    curve = bound(model)
    theta = solver.nominal(curve, y, w, np.zeros((1, len(model.names))))
    _, basis = response(curve.jacobian(theta[None])[0], w)
    found = diagnose(X, y, curve.predict(theta[None])[0], basis, w, known, model.polynomial + 1)
    return theta, found


def test_weighted_line_is_that_of_polyfit() -> None:
    theta, found = fitted(1 / U**2, True)
    assert theta == pytest.approx(np.polyfit(X, Y, 1, w=1 / U), rel=1e-9)
    assert found.chi2 == pytest.approx((((Y - theta[0] * X - theta[1]) / U) ** 2).sum(), rel=1e-12)
    assert found.p == pytest.approx(stats.chi2.sf(found.chi2, 5), rel=1e-12)


def test_parabola_is_that_of_polyfit() -> None:
    theta, _ = fitted(1 / U**2, True, model=models.Parabola())
    best, covariance = np.polyfit(X, Y, 2, w=1 / U, cov="unscaled")
    assert theta == pytest.approx(best, rel=1e-8)
    gain, _ = response(models.Parabola().jacobian(theta[None], X[None])[0], 1 / U**2)
    assert (gain * U**2) @ gain.T == pytest.approx(covariance, rel=1e-8)


def test_doubling_all_weights_changes_no_parameter() -> None:
    assert fitted(2 / U**2, True)[0] == pytest.approx(fitted(1 / U**2, True)[0], rel=1e-12)


def test_leverage_is_the_hat_matrix() -> None:
    hat = np.stack([np.ones(7), X], axis=1)
    w = 1 / U**2
    projection = hat @ np.linalg.inv(hat.T @ (w[:, None] * hat)) @ hat.T * w
    found = fitted(w, True)[1]
    assert found.leverage == pytest.approx(np.diag(projection), rel=1e-9)
    assert found.leverage.sum() == pytest.approx(2)


def test_the_square_term_is_that_of_a_fitted_parabola() -> None:
    y = Y + 0.2 * (X - 1.5) ** 2
    found = fitted(ONES, False, y)[1]
    design = np.stack([np.ones(7), X, X**2], axis=1)
    best, squares, *_ = np.linalg.lstsq(design, y, rcond=None)
    error = math.sqrt(squares[0] / 4 * np.linalg.inv(design.T @ design)[2, 2])
    assert found.curvature_p == pytest.approx(2 * stats.t.sf(abs(best[2] / error), 4), rel=1e-8)
    assert found.curvature_sign == 1


def test_runs_of_one_sign() -> None:
    """Swed and Eisenhart 1943: 3 plus and 4 minus signs in two runs: 2 of 35 orders have so few."""
    assert runs_probability(np.array([1.0, 1, 1, -1, -1, -1, -1]), 5) == pytest.approx(2 / 35)
    assert runs_probability(np.array([1.0, -1, 1, -1, 1, -1, 1]), 5) == pytest.approx(1)


def test_york_without_x_errors_is_the_weighted_line() -> None:
    errors = york.Errors(np.zeros(7), U**2, np.zeros(7))
    slope, intercept, adjusted = york.solve(X, Y, errors, 3.0)
    assert (slope, intercept) == pytest.approx(tuple(np.polyfit(X, Y, 1, w=1 / U)), rel=1e-10)
    assert adjusted == pytest.approx(X)


def test_york_is_orthogonal_distance_regression() -> None:
    """ODRPACK minimises the same distances."""
    u_x = np.full(7, 0.03)
    found = odr_fit(
        lambda x, b: b[0] * x + b[1],
        X,
        Y,
        [4.0, 0.1],
        weight_x=1 / u_x**2 * np.ones_like(X),
        weight_y=1 / U**2 * np.ones_like(X),
    )
    slope, intercept, _ = york.solve(X, Y, york.Errors(u_x**2, U**2, np.zeros(7)), 4.0)
    assert (slope, intercept) == pytest.approx(tuple(found.beta), rel=1e-5)


def test_one_round_for_a_draw_is_as_good_as_many() -> None:
    """Draws about the nominal line: one round at its weights against each draw solved to the end, correlated errors too."""
    draw = np.random.default_rng(6)
    errors = york.Errors(np.full(7, 0.02**2), U**2, np.full(7, 0.0001))
    x, y = X + draw.normal(0, 0.02, (200, 7)), Y + draw.normal(0, U, (200, 7))
    slope0, _, _ = york.solve(X, Y, errors, 4.0)
    start = np.array([np.polyfit(a, b, 1, w=1 / U)[0] for a, b in zip(x, y)])
    slopes, intercepts = york.nearby(x, y, errors, slope0, start)
    full = np.array([york.solve(a, b, errors, slope0)[:2] for a, b in zip(x, y)])
    assert np.abs(slopes - full[:, 0]).max() < 0.05 * full[:, 0].std()
    assert np.abs(intercepts - full[:, 1]).max() < 0.05 * full[:, 1].std()


def test_correlated_errors_that_cancel_leave_nothing() -> None:
    """An error that moves each point along the line itself leaves the residual alone."""
    errors = york.Errors(np.full(7, 0.01), np.full(7, 0.16), np.full(7, 0.04))
    assert errors.of_residual(4.0) == pytest.approx(0)


@pytest.mark.parametrize(
    ("model", "theta", "x"),
    [
        (models.Power(), [2.0, 0.5], np.linspace(0.4, 3, 9)),
        (models.Power(), [5e-3, -2.0], np.linspace(0.01, 0.2, 8)),
        (models.Exponential(), [3.0, -0.8], np.linspace(0, 5, 10)),
        (models.Exponential(), [1e-3, 12.0], np.linspace(0, 0.5, 8)),
        (models.Rise(True), [4.0, 30.0, 1.0], np.linspace(0, 120, 13)),
        (models.Rise(False), [4.0, 200.0], np.linspace(0, 120, 13)),
        (models.Damped(), [5.0, 1 / 600, 480.0, 0.4, 20.0], np.arange(0, 1441, 120.0)),
        (models.Damped(), [0.02, 1 / 3, 0.7, -1.0, 0.5], np.linspace(0, 4, 200)),
        (models.Damped(), [1.0, 1 / 40, 9.0, 2.0, 0.0], np.linspace(0, 12, 25)),
    ],
)
def test_starts_come_from_the_data_and_derivatives_are_right(
    model: models.Model, theta: list[float], x: np.ndarray
) -> None:
    truth = np.array(theta)
    clean = model.predict(truth[None], x[None])[0]
    curve = bound(model, x)
    for seed in range(6):
        noisy = clean + np.random.default_rng(seed).normal(0, 0.02 * np.ptp(clean), len(x))
        w = np.ones(len(x))
        best = model.tidy(solver.nominal(curve, noisy, w, model.starts(x, noisy, w)))
        left = float(((noisy - model.predict(best[None], x[None])[0]) ** 2).sum())
        assert left <= 1.0001 * float(((noisy - clean) ** 2).sum())
        # A batch started from there stays there, and from the truth comes there.
        again, _ = solver.batch(curve, noisy[None], w, truth[None])
        assert model.tidy(again[0]) == pytest.approx(best, rel=1e-6, abs=1e-9 * np.abs(best).max())
    h = 1e-6 * np.maximum(np.abs(truth), 1e-3)
    for i in range(len(truth)):
        up, down = truth.copy(), truth.copy()
        up[i] += h[i]
        down[i] -= h[i]
        slope = (model.predict(up[None], x[None]) - model.predict(down[None], x[None]))[0] / (2 * h[i])
        assert model.jacobian(truth[None], x[None])[0, :, i] == pytest.approx(
            slope, rel=1e-5, abs=1e-6 * np.abs(slope).max() + 1e-12
        )


def test_points_that_tell_nothing_apart_make_no_fit() -> None:
    same = np.full(5, 2.0)
    with pytest.raises(NoFit):
        solver.nominal(bound(models.Parabola(), same), np.arange(5.0), np.ones(5), np.zeros((1, 3)))
    assert models.Power().starts(np.array([-1.0, 1, 2]), np.ones(3), np.ones(3)).shape == (0, 2)


def test_few_runs_of_one_sign_are_as_rare_as_counting_says() -> None:
    up, down = np.ones(3), -np.ones(3)
    assert runs_probability(np.concatenate([up, down]), 4) == pytest.approx(2 / 20)
    assert runs_probability(np.tile([1.0, -1.0], 3), 4) == pytest.approx(1.0)
    signs = [one for one in itertools.product([1.0, -1.0], repeat=7) if sum(one) == 1]
    runs = [1 + sum(a != b for a, b in itertools.pairwise(one)) for one in signs]
    three = next(one for one, many in zip(signs, runs) if many == 3)
    assert runs_probability(np.array(three), 5) == pytest.approx(sum(many <= 3 for many in runs) / len(runs))
    assert runs_probability(np.tile([1.0, -1.0], 200), 398) == pytest.approx(1.0)
    assert runs_probability(np.tile([1.0, -1.0], 201), 400) is None  # the counting would take too long
    assert runs_probability(np.array([1.0, -1.0, -1.0, -1.0]), 3) is None


@pytest.mark.parametrize("exponent", [40.0, -55.0])
def test_a_steep_power_over_a_narrow_band_is_found(exponent: float) -> None:
    x = np.linspace(1.0, 1.1, 9)
    found = curve("power", [f"{v:.6f}" for v in x], [f"{3 * v**exponent:.9g}" for v in x])
    assert found.fits["f"].parameters["p"].value == pytest.approx(exponent, rel=1e-4)
