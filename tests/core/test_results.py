"""Several results: combined, compared, and at odds."""

import math

import numpy as np
import pytest

from cavrel.core.analysis.binding import combination
from cavrel.core.document import result_document
from cavrel.core.findings.judge import judge
from tests.core.machine import program, run

RNG = np.random.default_rng(5)


def two_ways(a: str, b: str, **more) -> object:
    made = program(
        quantities={n: {"label": n, "unit": "T"} for n in ("a", "b")},
        results={
            "B1": {"label": "first", "formula": "a"},
            "B2": {"label": "second", "formula": "b", "accepted": "B1"},
            "B": {"label": "both", "combine": ["B1", "B2"], "accepted": "0.5[T]"},
        },
    )
    return run(made, quantities={"a": a, "b": b}, **more)


def test_methods_are_combined_by_weight() -> None:
    """Agreeing methods: the weighted mean, its u from the weights, a Birge ratio under one."""
    both = two_ways("0.50 ± 0.01", "0.51 ± 0.02").results["B"]
    assert both.value == pytest.approx((0.50 / 1e-4 + 0.51 / 4e-4) / (1 / 1e-4 + 1 / 4e-4))
    assert both.u == pytest.approx(1 / math.sqrt(1 / 1e-4 + 1 / 4e-4), rel=1e-6)
    assert both.birge == pytest.approx(0.01 / math.hypot(0.01, 0.02), rel=1e-6)


def test_methods_that_disagree_widen_their_mean() -> None:
    both = two_ways("0.50 ± 0.01", "0.60 ± 0.01").results["B"]
    birge = 0.1 / math.hypot(0.01, 0.01)
    assert both.birge == pytest.approx(birge, rel=1e-6)
    assert both.u == pytest.approx(birge * 0.01 / math.sqrt(2), rel=1e-6)


@pytest.mark.parametrize(("rule", "percent"), [("mean", 100 * 0.02 / 0.51), ("second", 100 * 0.02 / 0.50)])
def test_two_measured_values_differ_by_house_rule(rule: str, percent: float) -> None:
    analysis = two_ways("0.50 ± 0.01", "0.52 ± 0.01", rules={"difference": rule})
    assert judge(analysis, analysis.results["B2"]).percent == pytest.approx(percent)


def test_results_that_share_everything_differ_by_nothing() -> None:
    made = program(
        quantities={"a": {"label": "a", "unit": "m"}},
        results={"x": {"label": "x", "formula": "2*a"}, "y": {"label": "y", "formula": "a + a", "accepted": "x"}},
    )
    analysis = run(made, quantities={"a": "1.0 ± 0.1"})
    assert analysis.results["y"].compared.u == pytest.approx(0, abs=1e-12)
    document = result_document(analysis, (), ())
    assert document["correlation"]["matrix"] == [
        [pytest.approx(1), pytest.approx(1)],
        [pytest.approx(1), pytest.approx(1)],
    ]


def test_a_singular_covariance_still_has_a_mean() -> None:
    weights, birge = combination(np.array([1.0, 1.0]), np.array([[1.0, 1.0], [1.0, 1.0]]), plain=False)
    assert weights.sum() == pytest.approx(1)
    assert birge == pytest.approx(0)
