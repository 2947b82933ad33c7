"""Several results: combined, compared, and at odds."""

import math

import numpy as np
import pytest
from scipy import stats

from cavrel.core.analysis.binding import combination
from cavrel.core.document import result_document
from cavrel.core.findings import findings_of
from cavrel.core.findings.verdict import verdict_of
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
    assert verdict_of(analysis, analysis.results["B2"]).percent == pytest.approx(percent)


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


def several(*values: str):
    names = [f"v{i}" for i in range(len(values))]
    made = program(
        quantities={f"q{n}": {"label": n, "unit": "T"} for n in names},
        results={
            **{n: {"label": f"way {n}", "formula": f"q{n}"} for n in names},
            "B": {"label": "Field", "combine": names, "accepted": "0.5[T]"},
        },
    )
    return run(made, quantities={f"q{n}": value for n, value in zip(names, values, strict=True)})


def test_a_mean_of_values_that_contradict_each_other_counts_them_and_says_so() -> None:
    """u by the scatter of three values has two degrees of freedom, and so has what is compared with it."""
    analysis = several("0.500 ± 0.001", "0.512 ± 0.001", "0.495 ± 0.001")
    mean = analysis.results["B"]
    assert mean.birge > 5
    assert mean.u == pytest.approx(np.std([0.5, 0.512, 0.495], ddof=1) / math.sqrt(3))
    assert mean.dof == pytest.approx(2, rel=0.1)
    assert mean.coverage_factor == pytest.approx(stats.t.ppf(0.975, mean.dof))
    assert mean.compared.coverage_factor == pytest.approx(mean.coverage_factor, rel=1e-9)
    (said,) = [f for f in findings_of(analysis) if f.code == "contradicting"]
    assert said.say.startswith(
        "Field is the mean of 0.500 kg/(s² A), 0.512 kg/(s² A) and 0.495 kg/(s² A), which differ"
    )
    assert said.at == "results.B"


def test_a_mean_of_values_that_agree_keeps_its_degrees_of_freedom() -> None:
    analysis = several("0.500 ± 0.001", "0.501 ± 0.001", "0.4995 ± 0.001")
    mean = analysis.results["B"]
    assert mean.birge < 1
    assert mean.dof == math.inf
    assert mean.coverage_factor == pytest.approx(1.96, abs=0.001)
    assert "contradicting" not in {f.code for f in findings_of(analysis)}


def test_slightly_more_scatter_than_expected_costs_little() -> None:
    """A Birge ratio of 1.1 widens u by a tenth, and k hardly."""
    apart = 1.1 * math.hypot(0.001, 0.001)
    analysis = several("0.500 ± 0.001", f"{0.5 + apart:.6f} ± 0.001")
    mean = analysis.results["B"]
    assert mean.birge == pytest.approx(1.1, rel=1e-2)
    assert 1.96 < mean.coverage_factor < 2.1
    assert "contradicting" not in {f.code for f in findings_of(analysis)}


def test_a_tiny_value_against_a_large_one_keeps_its_uncertainty() -> None:
    made = program(
        quantities={"a": {"label": "a", "unit": "m/s^2"}, "b": {"label": "b", "unit": "m/s^2"}},
        results={
            "x": {"label": "x", "formula": "a", "accepted": "9.81[m/s^2]"},
            "y": {"label": "y", "formula": "b"},
            "z": {"label": "z", "formula": "a", "accepted": "y"},
        },
    )
    analysis = run(made, quantities={"a": "1.00e-30 ± 0.10e-30", "b": "9.81 ± 0"})
    assert analysis.results["x"].compared.u == pytest.approx(1e-31, rel=1e-6)
    assert analysis.results["z"].compared.u == pytest.approx(1e-31, rel=1e-6)
