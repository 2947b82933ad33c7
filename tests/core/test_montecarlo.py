"""Distributions drawn through the same functions."""

import numpy as np
import pytest

from cavrel.core.analysis.montecarlo import monte_carlo
from cavrel.core.findings import monte_carlo_findings
from tests.core.machine import columns, program, run, texts

RNG = np.random.default_rng(5)


def test_linear_models_agree_with_their_distributions() -> None:
    made = program(
        series={"s": columns(x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"b": {"label": "slope", "formula": "f.slope"}},
    )
    x = np.arange(1.0, 9)
    y = 2 * x + np.random.default_rng(3).normal(0, 0.1, 8)
    series = {"x": [f"{v} ± 1e-9" for v in x], "y": texts(y, 0.1)}
    analysis = run(made, series={"s": series}, rules={"fit_uncertainty": "propagated", "rounding": "one"})
    drawn = monte_carlo(analysis, 200_000)["b"]
    assert drawn.mean == pytest.approx(analysis.results["b"].value, abs=0.01 * drawn.u)
    assert drawn.u == pytest.approx(analysis.results["b"].u, rel=0.01)
    assert drawn.stable
    assert drawn.agrees
    assert monte_carlo_findings(analysis, {"b": drawn}) == ()


def test_scatter_draws_from_students_distribution() -> None:
    """Four points without error bars: the 95 % interval of the slope is Student's with two degrees of freedom."""
    made = program(
        series={"s": columns(exact=True, x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"b": {"label": "slope", "formula": "f.slope"}},
    )
    analysis = run(made, series={"s": {"x": ["1", "2", "3", "4"], "y": ["2.1", "3.9", "6.2", "7.8"]}})
    drawn = monte_carlo(analysis, 200_000)["b"]
    result = analysis.results["b"]
    assert result.coverage_factor == pytest.approx(4.30, abs=0.01)
    assert (drawn.high95 - drawn.low95) / 2 == pytest.approx(result.expanded_uncertainty, rel=0.02)


def test_extreme_lines_are_drawn_beside_a_larger_shared_component() -> None:
    """The rule's calibration dwarfs the extreme lines here; both must be in the draws, each once."""
    made = program(
        instruments={"rule": {"least_count": "1 mm", "placement": "1 mm", "calibration": "30 %"}},
        series={
            "s": {
                "label": "s",
                "columns": {
                    "x": {"label": "x", "role": "set", "exact": True},
                    "y": {"label": "y", "unit": "cm", "role": "measured", "instrument": "rule"},
                },
            }
        },
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"b": {"label": "slope", "formula": "f.slope"}},
    )
    series = {"s": {"x": ["1", "2", "3"], "y": ["2.0", "4.0", "6.0"]}}
    analysis = run(made, series=series, rules={"fit_uncertainty": "extreme_lines"})
    assert analysis.fits["f"].source == "extreme lines"
    assert monte_carlo(analysis, 100_000)["b"].u == pytest.approx(analysis.results["b"].u, rel=0.01)


def test_a_bent_model_is_remarked_on() -> None:
    made = program(quantities={"x": {"label": "x"}}, results={"y": {"label": "y", "formula": "x^2"}})
    analysis = run(made, quantities={"x": "0.1 ± 1.0"})
    drawn = monte_carlo(analysis, 100_000)
    assert drawn["y"].low95 == pytest.approx(0, abs=0.01)
    assert drawn["y"].mean == pytest.approx(1.01, rel=0.02)
    assert "not-linear" in {f.code for f in monte_carlo_findings(analysis, drawn)}
    roots = program(quantities={"x": {"label": "x"}}, results={"y": {"label": "y", "formula": "sqrt(x)"}})
    lost = monte_carlo(run(roots, quantities={"x": "0.5 ± 0.5"}), 10_000)
    assert lost["y"].lost > 1000


def test_curved_fits_are_refitted_for_every_draw() -> None:
    x = np.linspace(0, 24, 20)
    y = 4 * np.exp(-x / 15) * np.cos(2 * np.pi * x / 8 + 0.4) + np.random.default_rng(2).normal(0, 0.05, 20)
    made = program(
        series={"s": columns(x="s", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "damped"}},
        results={"T": {"label": "T", "formula": "f.T", "unit": "s"}},
    )
    series = {"x": [f"{v:.4f} ± 1e-6" for v in x], "y": texts(y, 0.05)}
    analysis = run(made, series={"s": series}, rules={"fit_uncertainty": "propagated"})
    drawn = monte_carlo(analysis, 20_000)["T"]
    assert drawn.lost == 0
    assert drawn.u == pytest.approx(analysis.results["T"].u, rel=0.03)


def test_draws_out_of_bounds() -> None:
    made = program(quantities={"x": {"label": "x"}}, results={"y": {"label": "y", "formula": "x"}})
    with pytest.raises(ValueError, match="1000 to"):
        monte_carlo(run(made, quantities={"x": "1"}), 10)
