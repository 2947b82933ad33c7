"""Values from outside: each with its source next to it."""

import math
from importlib import resources

import numpy as np
import pytest

from cavrel.core import definition as definitions
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.analysis.uncertainty import coverage_factor
from cavrel.core.definition.program import compile_program
from cavrel.core.definition.reference import normal_gravity
from cavrel.core.fit import york
from cavrel.core.fit.least_squares import response
from cavrel.core.logbook import run as runs
from cavrel.core.quantity.rounding import concise, with_u


def straight_line(x: list[str], y: list[str], rules: dict | None = None) -> Analysis:
    """The engine, whole, on plain columns without an uncertainty of their own: the scatter must speak."""
    definition = definitions.load(
        {
            "format": "cavrel-experiment/1",
            "id": "plain-line",
            "title": "A line",
            "field": "mechanics",
            "aim": "Fit a line.",
            "series": {
                "s": {
                    "label": "Points",
                    "columns": {
                        "x": {"label": "x", "role": "set", "exact": True},
                        "y": {"label": "y", "role": "measured", "exact": True},
                    },
                }
            },
            "fits": {"line": {"series": "s", "x": "x", "y": "y", "model": "line"}},
            "results": {"at_ten": {"label": "y at x = 10", "formula": "line.intercept + 10*line.slope"}},
        }
    )
    run = runs.load(
        {"format": "cavrel-run/1", "experiment": "plain-line", "rules": rules or {}, "series": {"s": {"x": x, "y": y}}}
    )
    return analyse(compile_program(definition, {}), run)


def test_norris() -> None:
    """NIST StRD, linear regression, Norris; certified values; the data ship with SciPy's tests."""
    text = (resources.files("scipy.stats.tests") / "data" / "nist_linregress" / "Norris.dat").read_text()
    rows = [line.split() for line in text.splitlines()[60:] if len(line.split()) == 2]
    assert len(rows) == 36
    fit = straight_line([r[1] for r in rows], [r[0] for r in rows]).fits["line"]
    assert fit.parameters["intercept"].value == pytest.approx(-0.262323073774029, rel=1e-9)
    assert fit.parameters["intercept"].u == pytest.approx(0.232818234301152, rel=1e-9)
    assert fit.parameters["slope"].value == pytest.approx(1.00211681802045, rel=1e-9)
    assert fit.parameters["slope"].u == pytest.approx(0.429796848199937e-3, rel=1e-9)
    assert fit.diagnostics is not None
    assert fit.diagnostics.s == pytest.approx(0.884796396144373, rel=1e-9)
    assert fit.diagnostics.r2 == pytest.approx(0.999993745883712, rel=1e-12)
    assert fit.source == "scatter"


def test_calibration_of_a_thermometer() -> None:
    """JCGM 100:2008, H.3: the fitted line, its correlation, and the prediction at 30 °C with both correlated."""
    t = ["21.521", "22.012", "22.512", "23.003", "23.507", "23.999", "24.513", "25.002", "25.503", "26.010", "26.511"]
    b = ["-0.171", "-0.169", "-0.166", "-0.159", "-0.164", "-0.165", "-0.156", "-0.157", "-0.159", "-0.161", "-0.160"]
    analysis = straight_line([f"{float(v) - 20:.3f}" for v in t], b)
    fit = analysis.fits["line"]
    assert fit.parameters["intercept"].value == pytest.approx(-0.1712, abs=5e-5)
    assert fit.parameters["intercept"].u == pytest.approx(0.0029, abs=5e-5)
    assert fit.parameters["slope"].value == pytest.approx(0.00218, abs=5e-6)
    assert fit.parameters["slope"].u == pytest.approx(0.00067, abs=5e-6)
    correlation = fit.covariance[0, 1] / (fit.parameters["slope"].u * fit.parameters["intercept"].u)
    assert correlation == pytest.approx(-0.930, abs=5e-4)
    assert fit.diagnostics is not None
    assert fit.diagnostics.s == pytest.approx(0.0035, abs=5e-5)
    prediction = analysis.results["at_ten"]
    assert prediction.value == pytest.approx(-0.1494, abs=5e-5)
    assert prediction.u == pytest.approx(0.0041, abs=5e-5)
    assert prediction.dof == pytest.approx(9)


def test_both_axes_uncertain() -> None:
    """Pearson's data with York's weights: York et al., Am. J. Phys. 72 (2004) 367, table II."""
    x = np.array([0.0, 0.9, 1.8, 2.6, 3.3, 4.4, 5.2, 6.1, 6.5, 7.4])
    y = np.array([5.9, 5.4, 4.4, 4.6, 3.5, 3.7, 2.8, 2.8, 2.4, 1.5])
    x_weight = np.array([1000.0, 1000, 500, 800, 200, 80, 60, 20, 1.8, 1])
    y_weight = np.array([1.0, 1.8, 4, 8, 20, 20, 70, 70, 100, 500])
    errors = york.Errors(1 / x_weight, 1 / y_weight, np.zeros(10))
    slope, intercept, adjusted = york.solve(x, y, errors, -0.5)
    assert slope == pytest.approx(-0.480533, abs=5e-7)
    assert intercept == pytest.approx(5.479910, abs=5e-7)
    weights = 1 / errors.of_residual(slope)
    gain, _ = response(np.stack([adjusted, np.ones(10)], axis=1), weights)
    u_slope, u_intercept = np.sqrt((gain**2 / weights).sum(axis=1))
    assert u_slope == pytest.approx(0.057985, abs=5e-7)
    assert u_intercept == pytest.approx(0.294971, abs=5e-7)
    assert (weights * (y - slope * x - intercept) ** 2).sum() == pytest.approx(11.866, abs=5e-4)


@pytest.mark.parametrize(("dof", "k"), [(1, 12.71), (2, 4.30), (4, 2.78), (10, 2.23), (math.inf, 1.960)])
def test_coverage_factors(dof: float, k: float) -> None:
    """JCGM 100:2008, table G.2, 95 %."""
    assert coverage_factor(dof) == pytest.approx(k, abs=0.005)


@pytest.mark.parametrize(
    ("value", "u", "text"), [(0.827, 0.119, "0.83 ± 0.12"), (0.827, 0.367, "0.8 ± 0.4"), (14.674, 0.964, "14.7 ± 1.0")]
)
def test_rounding_of_the_particle_data_group(value: float, u: float, text: str) -> None:
    """The Particle Data Group's rounding rule, Review of Particle Physics, introduction, 5.3."""
    assert with_u(value, u, rule="pdg") == text


@pytest.mark.parametrize(("latitude", "g"), [(0, 9.780325), (45, 9.80620), (90, 9.832185)])
def test_normal_gravity(latitude: float, g: float) -> None:
    """WGS 84 normal gravity at the equator, 45° and the pole."""
    assert normal_gravity(latitude, 0) == pytest.approx(g, abs=1e-6 if latitude != 45 else 5e-6)


def test_gravity_falls_with_height() -> None:
    """Free-air gradient, -3.086e-6 m/s² for each metre."""
    assert normal_gravity(45, 1000) - normal_gravity(45, 0) == pytest.approx(-3.086e-3, rel=1e-9)


def test_concise_notation() -> None:
    """JCGM 100:2008, 7.2.2, the mass standard: 100.02147 g with u = 0.35 mg is 100,021 47(35) g."""
    assert concise(100.02147, 0.00035, "two") == "100.02147(35)"
