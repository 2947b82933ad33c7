"""Covariances of every model against SciPy and ODRPACK, seen from outside: through results that take two parameters at once."""

import itertools

import numpy as np
import pytest
from odrpack import odr_fit
from scipy import optimize

from cavrel.core.analysis import Analysis
from tests.core.machine import columns, program, run, texts

U = 0.03
CURVES = {
    "line": (lambda x, m, c: m * x + c, ("slope", "intercept"), (2.5, -0.8), np.linspace(1, 5, 7)),
    "power": (lambda x, A, p: A * x**p, ("A", "p"), (2.0, 0.5), np.linspace(0.5, 3, 9)),
    "exponential": (lambda x, A, k: A * np.exp(k * x), ("A", "k"), (5.0, -0.6), np.linspace(0, 4, 9)),
    "rise": (
        lambda x, A, t, c: A * (1 - np.exp(-x / t)) + c,
        ("A", "tau", "c"),
        (3.0, 20.0, 1.0),
        np.linspace(0, 80, 12),
    ),
    "damped": (
        lambda x, A, t, T, p, c: A * np.exp(-x / t) * np.cos(2 * np.pi * x / T + p) + c,
        ("A", "tau", "T", "phi", "c"),
        (4.0, 15.0, 8.0, 0.4, 10.0),
        np.linspace(0, 24, 25),
    ),
    # Far from x = 0, where the curve is fitted about an origin of its own and its parameters are carried back.
    "rise@40": (
        lambda x, A, t, c: A * (1 - np.exp(-x / t)) + c,
        ("A", "tau", "c"),
        (3.0 * np.exp(2), 20.0, 1.0),
        np.linspace(40, 140, 14),
    ),
    "damped@100": (
        lambda x, A, t, T, p, c: A * np.exp(-x / t) * np.cos(2 * np.pi * x / T + p) + c,
        ("A", "tau", "T", "phi", "c"),
        (4.0 * np.exp(100 / 15), 15.0, 8.0, 0.4, 10.0),
        np.linspace(100, 124, 25),
    ),
    "drifting": (
        lambda x, A, t, T, p, c, r: A * np.exp(-x / t) * np.cos(2 * np.pi * x / T + p) + c + r * x,
        ("A", "tau", "T", "phi", "c", "r"),
        (4.0, 15.0, 8.0, 0.4, 10.0, 0.11),
        np.linspace(0, 24, 25),
    ),
    "drifting@100": (
        lambda x, A, t, T, p, c, r: A * np.exp(-x / t) * np.cos(2 * np.pi * x / T + p) + c + r * x,
        ("A", "tau", "T", "phi", "c", "r"),
        (4.0 * np.exp(100 / 15), 15.0, 8.0, 0.4, 10.0, -0.11),
        np.linspace(100, 124, 25),
    ),
    "parabola": (lambda x, a, b, c: a * x**2 + b * x + c, ("a", "b", "c"), (1.0, -2.0, 3.0), np.linspace(0, 4, 9)),
}
PAIRS = [(m, i, j) for m, (_, names, _, _) in CURVES.items() for i, j in itertools.combinations(range(len(names)), 2)]


def fitted(model: str, x: np.ndarray, y: np.ndarray, i: int, j: int, weight: float, u_x: float = 1e-9) -> Analysis:
    """A fit and a result that adds one parameter and ``weight`` times another."""
    names = CURVES[model][1]
    made = program(
        series={"s": columns(x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": model.partition("@")[0]}},
        results={"both": {"label": "both", "formula": f"f.{names[i]} + {weight!r}*f.{names[j]}"}},
    )
    rules = {"fit_uncertainty": "propagated", "abscissae": "york" if u_x > 1e-8 else "ignore"}
    return run(made, series={"s": {"x": [f"{v:.6f} ± {u_x}" for v in x], "y": texts(y, U)}}, rules=rules)


@pytest.mark.parametrize(("model", "i", "j"), PAIRS)
def test_every_covariance_is_that_of_curve_fit(model: str, i: int, j: int) -> None:
    function, _, truth, x = CURVES[model]
    x = np.round(x, 6)
    y = np.round(function(x, *truth) + np.random.default_rng(12).normal(0, U, len(x)), 6)
    _, covariance = optimize.curve_fit(function, x, y, p0=truth, sigma=np.full(len(x), U), absolute_sigma=True)
    for sign in (1, -1):
        weight = sign * float(np.sqrt(covariance[i, i] / covariance[j, j]))
        wanted = covariance[i, i] + 2 * weight * covariance[i, j] + weight**2 * covariance[j, j]
        found = fitted(model, x, y, i, j, weight).results["both"]
        assert found.u**2 == pytest.approx(wanted, rel=1e-2, abs=1e-5 * covariance[i, i])


def test_a_line_with_errors_along_both_axes_has_the_covariance_of_odrpack() -> None:
    function, _, truth, x = CURVES["line"]
    draw = np.random.default_rng(13)
    along = np.round(x + draw.normal(0, 0.05, len(x)), 6)
    up = np.round(function(x, *truth) + draw.normal(0, U, len(x)), 6)
    made = odr_fit(
        lambda a, b: b[0] * a + b[1],
        along,
        up,
        np.array(truth),
        weight_x=np.full(len(x), 0.05**-2),
        weight_y=np.full(len(x), U**-2),
    )
    covariance = made.cov_beta
    for sign in (1, -1):
        weight = sign * float(np.sqrt(covariance[0, 0] / covariance[1, 1]))
        wanted = covariance[0, 0] + 2 * weight * covariance[0, 1] + weight**2 * covariance[1, 1]
        found = fitted("line", along, up, 0, 1, weight, 0.05)
        assert found.fits["f"].parameters["slope"].value == pytest.approx(made.beta[0], rel=1e-6)
        assert found.results["both"].u ** 2 == pytest.approx(wanted, rel=3e-2, abs=2e-3 * covariance[0, 0])
