"""Every fit through the whole engine, against SciPy, ODRPACK and by hand."""

import math

import numpy as np
import pytest
from scipy import optimize, stats
from uncertainties import ufloat
from uncertainties.umath import sin

from cavrel.core.analysis.montecarlo import monte_carlo
from cavrel.core.document.notebook import notebook
from cavrel.core.findings import findings_of
from cavrel.core.slips import find
from tests.core.machine import columns, curve, program, run, texts

RNG = np.random.default_rng(5)


@pytest.mark.parametrize(
    ("model", "function", "truth", "x"),
    [
        ("power", lambda x, A, p: A * x**p, (2.0, 0.5), np.linspace(0.5, 3, 9)),
        ("exponential", lambda x, A, k: A * np.exp(k * x), (5.0, -0.6), np.linspace(0, 4, 9)),
        ("rise", lambda x, A, tau, c: A * (1 - np.exp(-x / tau)) + c, (3.0, 20.0, 1.0), np.linspace(0, 80, 12)),
        (
            "damped",
            lambda x, A, tau, T, phi, c: A * np.exp(-x / tau) * np.cos(2 * np.pi * x / T + phi) + c,
            (4.0, 15.0, 8.0, 0.4, 10.0),
            np.linspace(0, 24, 25),
        ),
        (
            "drifting",
            lambda x, A, tau, T, phi, c, r: A * np.exp(-x / tau) * np.cos(2 * np.pi * x / T + phi) + c + r * x,
            (4.0, 15.0, 8.0, 0.4, 10.0, -0.3),
            np.linspace(0, 24, 25),
        ),
        ("parabola", lambda x, a, b, c: a * x**2 + b * x + c, (1.0, -2.0, 3.0), np.linspace(0, 4, 9)),
        ("proportional", lambda x, slope: slope * x, (2.5,), np.linspace(1, 5, 6)),
    ],
)
def test_every_model_is_that_of_curve_fit(model, function, truth, x) -> None:
    u = 0.03
    y = function(x, *truth) + np.random.default_rng(11).normal(0, u, len(x))
    analysis = curve(
        model, [f"{v:.6f} ± 1e-9" for v in x], texts(y, u), {"fit_uncertainty": "propagated", "abscissae": "ignore"}
    )
    best, covariance = optimize.curve_fit(
        function, np.round(x, 6), np.round(y, 6), p0=truth, sigma=np.full(len(x), u), absolute_sigma=True
    )
    found = analysis.fits["f"]
    assert found.made, found.reason
    values = np.array([p.value for p in found.parameters.values()])
    assert values == pytest.approx(best, rel=1e-5, abs=1e-6)
    assert [p.u for p in found.parameters.values()] == pytest.approx(np.sqrt(np.diag(covariance)), rel=2e-3)
    scatter = curve(
        model, [f"{v:.6f} ± 1e-9" for v in x], texts(y, u), {"fit_uncertainty": "scatter", "abscissae": "ignore"}
    ).fits["f"]
    _, by_scatter = optimize.curve_fit(function, np.round(x, 6), np.round(y, 6), p0=truth)
    assert [p.u for p in scatter.parameters.values()] == pytest.approx(np.sqrt(np.diag(by_scatter)), rel=2e-3)


def test_a_mean_is_that_of_its_readings() -> None:
    """Weighted mean of readings with stated uncertainties; alone, their standard error."""
    values, u = [9.9, 10.3, 10.0, 10.1], [0.1, 0.2, 0.1, 0.3]
    made = program(series={"s": columns(y="")}, fits={"m": {"series": "s", "y": "y", "model": "mean"}})
    fit = run(
        made, series={"s": {"y": [f"{v} ± {w}" for v, w in zip(values, u)]}}, rules={"fit_uncertainty": "propagated"}
    ).fits["m"]
    w = 1 / np.square(u)
    assert fit.parameters["mean"].value == pytest.approx((w * values).sum() / w.sum())
    assert fit.parameters["mean"].u == pytest.approx(1 / math.sqrt(w.sum()))
    plain = program(series={"s": columns(exact=True, y="")}, fits={"m": {"series": "s", "y": "y", "model": "mean"}})
    fit = run(plain, series={"s": {"y": [str(v) for v in values]}}).fits["m"]
    assert fit.parameters["mean"].u == pytest.approx(stats.sem(values))


def test_a_formula_of_several_columns() -> None:
    """g from ranges of shots at several angles and speeds: one free parameter, two measured columns inside."""
    made = program(
        series={"shots": columns(phi="°", v="m/s", s="m")},
        fits={
            "f": {
                "series": "shots",
                "x": "phi",
                "y": "s",
                "model": "formula",
                "formula": "v^2*sin(2*phi)/g",
                "free": {"g": "5[m/s^2]"},
            }
        },
        results={"g": {"label": "g", "formula": "f.g", "unit": "m/s^2"}},
    )
    phi = np.array([30.0, 35, 40, 45, 50, 55, 60])
    speed = 3.0 + 0.01 * RNG.normal(size=7)
    s = speed**2 * np.sin(2 * np.radians(phi)) / 9.81
    shots = {
        "phi": [f"{v:.1f}" for v in phi],
        "v": [f"{v:.3f} ± 0.01" for v in speed],
        "s": [f"{v:.4f} ± 0.002" for v in s],
    }
    analysis = run(made, series={"shots": shots}, rules={"fit_uncertainty": "propagated"})
    g = analysis.results["g"]
    assert g.value == pytest.approx(9.81, rel=2e-3)
    # Each shot alone gives g with u(v), u(s), u(phi); weighted together they are the fit's uncertainty.
    single = []
    for a, v, r in zip(phi, speed, s):
        angle = ufloat(math.radians(a), math.radians(0.1) / math.sqrt(12))
        single.append((ufloat(v, 0.01) ** 2 * sin(2 * angle) / ufloat(r, 0.002)).std_dev)
    assert g.u == pytest.approx(1 / math.sqrt(sum(1 / u**2 for u in single)), rel=0.01)


def test_a_tangent_touches_where_it_is_told() -> None:
    x = np.linspace(0, 10, 21)
    analysis = curve("tangent", texts(x), texts(x**2 + 1), at="4", points=7)
    found = analysis.fits["f"].parameters
    assert found["slope"].value == pytest.approx(8, rel=1e-6)
    assert found["value"].value == pytest.approx(17, rel=1e-6)


def test_a_formula_with_error_bars_along_x_is_orthogonal_regression() -> None:
    from odrpack import odr_fit

    x = np.linspace(0.5, 3, 10)
    draw = np.random.default_rng(4)
    seen_x, seen_y = x + draw.normal(0, 0.03, 10), 2 * x**0.7 + draw.normal(0, 0.02, 10)
    fit = curve("power", texts(seen_x, 0.03), texts(seen_y, 0.02), {"fit_uncertainty": "propagated"}).fits["f"]
    other = odr_fit(
        lambda v, b: b[0] * v ** b[1],
        np.round(seen_x, 6),
        np.round(seen_y, 6),
        [2.0, 0.7],
        weight_x=1 / 0.03**2,
        weight_y=1 / 0.02**2,
    )
    assert [p.value for p in fit.parameters.values()] == pytest.approx(other.beta, abs=0.2 * min(other.sd_beta))
    assert fit.diagnostics is not None
    assert fit.diagnostics.chi2 == pytest.approx(other.sum_square, rel=0.05)


@pytest.mark.parametrize(
    ("model", "x", "y", "what"),
    [
        ("power", ["-1", "1", "2", "3"], ["1", "2", "3", "4"], "every x above zero"),
        ("line", ["1"], ["2"], "a line needs 2 complete rows; there is 1"),
        ("parabola", ["1", "1", "1", "1"], ["1", "2", "3", "4"], "all points stand at the same x"),
        ("parabola", ["1", "1", "2", "2"], ["1", "2", "3", "4"], "do not tell the parameters apart"),
        ("exponential", ["1", "2", "3"], ["0", "0", "0"], "depend on every parameter"),
        ("damped", ["1", "2", "3"], ["1", "2", "1"], "a damped oscillation needs 5 complete rows"),
        ("proportional", ["0", "0"], ["1", "2"], "all points stand at x = 0"),
    ],
)
def test_a_fit_that_cannot_be_made_says_why_and_the_rest_goes_on(
    model: str, x: list[str], y: list[str], what: str
) -> None:
    analysis = curve(model, x, y)
    assert what in analysis.fits["f"].reason
    findings = findings_of(analysis)
    assert any(f.code == "no-fit" and what in f.say[0].lower() + f.say[1:] for f in findings)
    assert analysis.values["s.x"].value[0] == float(x[0])


def test_extreme_lines_are_those_through_the_corners() -> None:
    """Three points with equal boxes: the steepest line runs from the last box's top to the first one's bottom."""
    analysis = curve(
        "line",
        ["1 ± 1e-9", "2 ± 1e-9", "3 ± 1e-9"],
        ["1 ± 0.1", "2 ± 0.1", "3 ± 0.1"],
        {"fit_uncertainty": "extreme_lines"},
    )
    fit = analysis.fits["f"]
    assert fit.source == "extreme lines"
    assert fit.parameters["slope"].u == pytest.approx(0.1, rel=1e-5)
    none = curve(
        "line",
        ["1 ± 1e-9", "2 ± 1e-9", "3 ± 1e-9"],
        ["1 ± 0.1", "2.9 ± 0.1", "3 ± 0.1"],
        {"fit_uncertainty": "extreme_lines"},
    )
    assert none.fits["f"].source == "scatter"
    assert "no-extremes" in {f.code for f in findings_of(none)}


def test_a_formula_linear_in_its_parameters_over_exact_abscissae_goes_everywhere() -> None:
    """Its derivatives are alike for every draw and every hypothesis: one design for a batch of many."""
    made = program(
        series={
            "s": {
                "label": "S",
                "columns": {
                    "x": {"label": "x", "role": "set", "exact": True, "unit": "s"},
                    "y": {"label": "y", "unit": "m", "role": "measured"},
                },
            }
        },
        fits={
            "f": {
                "series": "s", "x": "x", "y": "y", "model": "formula", "formula": "a*x + b",
                "free": {"a": "1[m/s]", "b": "0.1[m]"},
            }
        },
        results={"r": {"label": "r", "formula": "f.a", "unit": "m/s", "accepted": "2[m/s]"}},
    )  # fmt: skip
    x = np.arange(1.0, 7.0)
    y = 2 * x + 0.3 + 0.01 * np.sin(9 * x)
    analysis = run(made, series={"s": {"x": [f"{v:g}" for v in x], "y": [f"{v:.4f}" for v in y]}})
    slope, _ = np.polyfit(x, np.round(y, 4), 1)
    assert analysis.results["r"].value == pytest.approx(slope, rel=1e-9)
    drawn = monte_carlo(analysis, 20_000)["r"]
    # Drawn from Student's distribution with four degrees of freedom, whose standard deviation is √2 times its scale.
    assert drawn.u == pytest.approx(analysis.results["r"].u * math.sqrt(2), rel=0.06)
    assert find(analysis, (), frozenset()).tried > 10
    assert notebook(analysis)["cells"]
