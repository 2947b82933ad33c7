"""Coverage, the check that counts: runs simulated with a known truth, and how often the intervals hold it.

800 runs each, 400 of the slow ones; `./run coverage` makes as many as one likes.
The expanded interval must hold the truth 95 %, and one standard uncertainty, widened by
Student's factor for the result's degrees of freedom, 68.27 % of the time, within three binomial standard errors.
"""

import math
from collections.abc import Callable

import numpy as np
import pytest
from scipy import special

from cavrel.core.analysis import ResultAnalysis
from cavrel.core.definition.steps import Program
from tests.core.machine import columns, program, run
from tests.thorough import thorough

RUNS = 800


def held(
    made: Program,
    truth: float,
    simulate: Callable[[np.random.Generator], dict],
    seed: int,
    many: int = RUNS,
    **rules: str,
) -> tuple[float, float]:
    """The shares of runs whose one-sigma and 95 % intervals hold ``truth``."""
    draw = np.random.default_rng(seed)
    one = wide = 0
    for _ in range(many):
        result: ResultAnalysis = run(made, **simulate(draw), rules=rules).results["r"]
        k = special.stdtrit(result.dof, 0.5 + 0.6827 / 2) if math.isfinite(result.dof) else 1.0
        one += abs(result.value - truth) <= k * result.u
        wide += abs(result.value - truth) <= result.expanded_uncertainty
    return one / many, wide / many


def check(shares: tuple[float, float], many: int = RUNS) -> None:
    for share, wanted in zip(shares, (0.6827, 0.95), strict=True):
        assert abs(share - wanted) <= 3 * math.sqrt(wanted * (1 - wanted) / many), (share, wanted)


def test_a_straight_line_with_a_shared_offset() -> None:
    """Extension against load, read with a rule whose zero is off by the same amount in every row; the rest length is sought."""
    made = program(
        instruments={"rule": {"least_count": "1 mm", "zero": "2 mm", "placement": "0.5 mm"}},
        series={
            "s": {
                "label": "Loads",
                "columns": {
                    "F": {"label": "F", "unit": "N", "role": "set", "exact": True},
                    "l": {"label": "l", "unit": "cm", "role": "measured", "instrument": "rule"},
                },
            }
        },
        fits={"f": {"series": "s", "x": "F", "y": "l", "model": "line"}},
        results={"r": {"label": "l0", "formula": "f.intercept", "unit": "cm"}},
    )
    loads = np.linspace(0.5, 4, 8)

    def simulate(draw: np.random.Generator) -> dict:
        zero = draw.normal(0, 0.2)
        lengths = 20.37 + 3.1 * loads + zero + draw.normal(0, 0.05, 8)
        return {"series": {"s": {"F": [f"{v}" for v in loads], "l": [f"{v:.1f}" for v in lengths]}}}

    check(held(made, 0.2037, simulate, 101))


@thorough
def test_a_power_law() -> None:
    made = program(
        series={"s": columns(x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "power"}},
        results={"r": {"label": "p", "formula": "f.p"}},
    )
    x = np.linspace(0.5, 3, 8)

    def simulate(draw: np.random.Generator) -> dict:
        seen = x + draw.normal(0, 0.01, 8)
        y = 2 * x**0.5 + draw.normal(0, 0.02, 8)
        return {"series": {"s": {"x": [f"{v:.5f} ± 0.01" for v in seen], "y": [f"{v:.5f} ± 0.02" for v in y]}}}

    check(held(made, 0.5, simulate, 102))


@thorough
def test_a_damped_oscillation() -> None:
    made = program(
        series={"s": columns(x="s", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "damped"}},
        results={"r": {"label": "T", "formula": "f.T"}},
    )
    x = np.linspace(0, 24, 25)
    clean = 4 * np.exp(-x / 15) * np.cos(2 * np.pi * x / 8 + 0.4) + 10

    def simulate(draw: np.random.Generator) -> dict:
        y = clean + draw.normal(0, 0.1, 25)
        return {"series": {"s": {"x": [f"{v:.5f} ± 1e-7" for v in x], "y": [f"{v:.5f} ± 0.1" for v in y]}}}

    check(held(made, 8.0, simulate, 103, many=400), 400)


@thorough
@pytest.mark.parametrize("rule", ["larger", "scatter"])
def test_five_points_whose_scatter_alone_is_known(rule: str) -> None:
    """Three degrees of freedom: without Student's factor the 95 % interval would hold 86 %."""
    made = program(
        series={"s": columns(exact=True, x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"r": {"label": "slope", "formula": "f.slope"}},
    )
    x = np.arange(1.0, 6)

    def simulate(draw: np.random.Generator) -> dict:
        y = 1 + 0.5 * x + draw.normal(0, 0.1, 5)
        return {"series": {"s": {"x": [f"{v}" for v in x], "y": [f"{v:.6f}" for v in y]}}}

    check(held(made, 0.5, simulate, 104, fit_uncertainty=rule))


@thorough
def test_a_few_trials_each_with_pooled_scatter() -> None:
    """Three rows of three trials: six degrees of freedom for all."""
    made = program(
        series={
            "s": {
                "label": "s",
                "columns": {
                    "x": {"label": "x", "role": "set", "exact": True},
                    "y": {"label": "y", "role": "measured", "repeats": 3},
                },
            }
        },
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"r": {"label": "slope", "formula": "f.slope"}},
    )
    x = np.arange(1.0, 4)

    def simulate(draw: np.random.Generator) -> dict:
        y = 1 + 0.5 * x[:, None] + draw.normal(0, 0.1, (3, 3))
        return {"series": {"s": {"x": [f"{v}" for v in x], "y": [[f"{v:.6f}" for v in row] for row in y]}}}

    check(held(made, 0.5, simulate, 105, fit_uncertainty="propagated"))
