"""Counts by Poisson's likelihood, means that count scatter, and comparisons with the degrees of freedom of the difference."""

import math

import numpy as np
import pytest
from scipy import optimize, special, stats

from cavrel.core.findings import findings_of
from cavrel.core.findings.verdict import verdict_of
from tests.core.machine import columns, program, run
from tests.thorough import THOROUGH

T = np.arange(12) * 15.0 + 7.5
DECAY = program(
    instruments={"counter": {"label": "counter", "dead_time": "200 µs"}},
    quantities={"dt": {"label": "Interval", "unit": "s", "exact": True, "default": "10"}},
    series={
        "s": {
            "label": "S",
            "columns": {
                "t": {"label": "Time", "unit": "s", "role": "set", "exact": True},
                "c": {"label": "Counts", "role": "measured", "count": True, "instrument": "counter"},
                "n": {"label": "True counts", "role": "derived", "formula": "c/(1 - c*counter.dead_time/dt)"},
            },
        }
    },
    fits={"f": {"series": "s", "x": "t", "y": "c", "model": "exponential"}},
    results={"h": {"label": "Half-life", "formula": "-ln(2)/f.k", "unit": "s"}},
)


def decay(counts: list[str]):
    return run(DECAY, series={"s": {"t": [f"{v}" for v in T[: len(counts)]], "c": counts}})


def test_the_likeliest_decay_is_that_of_the_likelihood() -> None:
    counts = np.random.default_rng(4).poisson(40 * np.exp(-math.log(2) * T / 60))
    found = decay([str(n) for n in counts]).fits["f"]

    def cost(theta: np.ndarray) -> float:
        expected = math.exp(theta[0]) * np.exp(theta[1] * T)
        return float((expected - special.xlogy(counts, expected)).sum())

    best = optimize.minimize(cost, (math.log(40), -0.01), method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-12})
    assert found.counted
    assert found.parameters["A"].value == pytest.approx(math.exp(best.x[0]), rel=1e-4)
    assert found.parameters["k"].value == pytest.approx(best.x[1], rel=1e-4)
    expected = math.exp(best.x[0]) * np.exp(best.x[1] * T)
    information = np.array([[expected.sum(), (expected * T).sum()], [(expected * T).sum(), (expected * T**2).sum()]])
    assert found.parameters["k"].u == pytest.approx(math.sqrt(np.linalg.inv(information)[1, 1]), rel=1e-3)


@pytest.mark.parametrize("counts", [[9, 5, 2, 3, 1], [4, 1, 3, 0, 1], [6, 6, 3, 2, 2]])
def test_five_low_counts_are_fitted_by_the_likelihood(counts: list[int]) -> None:
    found = decay([str(n) for n in counts])
    t = T[:5]

    def cost(theta: np.ndarray) -> float:
        expected = math.exp(theta[0]) * np.exp(theta[1] * t)
        return float((expected - special.xlogy(counts, expected)).sum())

    best = optimize.minimize(cost, (1.5, -0.01), method="Nelder-Mead", options={"xatol": 1e-10, "fatol": 1e-13})
    assert found.fits["f"].parameters["k"].value == pytest.approx(best.x[1], rel=2e-3)
    low, high = found.results["h"].interval
    assert low < found.results["h"].value < high


def test_counts_that_do_not_fall_have_no_half_life() -> None:
    """The slope of equal counts is zero but for the last bits of its sum; minus a half over that was a half-life of 10¹⁷ s."""
    found = decay(["3", "3", "3", "3", "3"])
    assert found.fits["f"].parameters["k"].value == 0.0
    assert found.results["h"].reason
    assert math.isnan(found.results["h"].value)


def test_a_half_life_from_few_counts_has_a_lopsided_interval() -> None:
    """k to 29 %: one over it reaches twice as far up as down, and a law of first order would not say so."""
    found = decay(["16", "8", "15", "6", "8", "9", "5", "1"])
    k, result = found.fits["f"].parameters["k"], found.results["h"]
    assert 0.1 < k.u / -k.value < 0.4
    assert not result.linear
    low, high = result.interval
    assert high - result.value > 1.3 * (result.value - low)
    ends = [math.log(2) / (-k.value + side * 1.96 * k.u) for side in (1, -1)]
    assert (low, high) == pytest.approx(ends, rel=0.25)


def test_a_component_that_crosses_a_pole_makes_no_linear_result() -> None:
    """1/a pushed through zero on both sides: the perturbations cancel in the sum, and each alone tells."""
    made = program(
        quantities={n: {"label": n} for n in ("a", "b")},
        results={"r": {"label": "r", "formula": "1/a - 1/b"}, "s": {"label": "s", "formula": "a - b"}},
    )
    found = run(made, quantities={"a": "1.00 ± 0.90", "b": "1.00 ± 0.90"})
    assert not found.results["r"].linear
    assert found.results["s"].linear


FAST = program(
    instruments={"counter": {"label": "counter"}},
    quantities={"dt": {"label": "Interval", "unit": "s", "exact": True, "default": "10"}},
    series=DECAY.definition.model_dump(mode="json", by_alias=True, exclude_none=True)["series"],
)


@pytest.mark.parametrize(("count", "said"), [("2600", True), ("450", False)])
def test_a_dead_time_that_nobody_typed_is_said_where_it_matters(count: str, said: bool) -> None:
    """260 a second: 100 µs would add 2.7 %; 45 a second: 0.5 %."""
    found = [f for f in findings_of(run(FAST, series={"s": {"t": ["1"], "c": [count]}})) if f.code == "dead-time"]
    assert bool(found) == said
    if said:
        assert "true counts would change by up to 2.7 %" in found[0].say
    assert not [f for f in findings_of(decay([count])) if f.code == "dead-time"]


def test_a_last_interval_without_a_count_changes_little() -> None:
    counts = ["38", "34", "25", "22", "19", "13", "9", "6", "3"]
    one, none = decay([*counts, "1"]).results["h"], decay([*counts, "0"]).results["h"]
    assert len(decay([*counts, "0"]).fits["f"].rows) == 10
    assert abs(one.value - none.value) < one.u
    assert none.u == pytest.approx(one.u, rel=0.15)


@pytest.mark.parametrize("first", [60, *[40] * THOROUGH])
def test_few_counts_hold_the_half_life(first: int) -> None:
    """300 short runs: 95 % intervals and standard uncertainties hold 60 s as often as they say, within three binomial errors."""
    inside = near = 0
    for seed in range(300):
        counts = np.random.default_rng(seed).poisson(first * np.exp(-math.log(2) * T / 60))
        result = decay([str(n) for n in counts]).results["h"]
        inside += result.interval[0] <= 60 <= result.interval[1]
        near += abs(result.value - 60) <= result.u
    assert abs(inside / 300 - 0.95) < 3 * math.sqrt(0.95 * 0.05 / 300)
    assert abs(near / 300 - 0.683) < 3 * math.sqrt(0.683 * 0.317 / 300)


def test_dead_time_is_a_property_of_the_counter() -> None:
    assert decay(["3000"]).values["s.n"].value[0] == pytest.approx(3000 / (1 - 300 * 200e-6))
    override = run(DECAY, series={"s": {"t": ["1"], "c": ["3000"]}})
    assert override.values["s.c"].u[0] == pytest.approx(math.sqrt(3000))


def test_counts_that_cannot_be_are_remarked_on() -> None:
    said = {f.at: f.code for f in findings_of(decay(["12", "-3", "4.5", "9"]))}
    assert said["s.c.2.1"] == "not-counted"
    assert said["s.c.3.1"] == "not-counted"
    assert "s.c.1.1" not in said


@pytest.mark.parametrize(("exact", "count"), [(True, False), (False, True)])
def test_a_typed_uncertainty_is_never_dropped(exact: bool, count: bool) -> None:
    made = program(
        quantities={"n": {"label": "n", "exact": exact, "count": count}},
        results={"r": {"label": "r", "formula": "n"}},
    )
    assert run(made, quantities={"n": "400 ± 7"}).results["r"].u == pytest.approx(7)


def test_a_mean_over_rows_counts_how_they_scatter() -> None:
    texts = ["2.00", "2.51", "1.59", "2.33"]
    made = program(
        series={"s": columns(x="")},
        fits={"f": {"series": "s", "y": "x", "model": "mean"}},
        results={"r": {"label": "r", "formula": "mean(s.x)"}, "f_r": {"label": "f", "formula": "f.mean"}},
    )
    analysis = run(made, series={"s": {"x": texts}}, rules={"weights": "equal"})
    values = np.array([float(t) for t in texts])
    for name in ("r", "f_r"):
        found = analysis.results[name]
        assert found.value == pytest.approx(values.mean())
        assert found.u == pytest.approx(stats.sem(values), rel=1e-9)
        assert found.dof == pytest.approx(3)


def test_two_formulas_with_one_mean_share_its_uncertainty() -> None:
    made = program(
        series={"s": columns(x="m")},
        quantities={"m": {"label": "m", "unit": "m", "formula": "mean(s.x)"}},
        results={"d": {"label": "d", "formula": "m - mean(s.x)"}},
    )
    assert run(made, series={"s": {"x": ["2.0", "2.5", "1.6"]}}).results["d"].u == pytest.approx(0, abs=1e-12)


def test_weights_that_their_own_scatter_refutes_are_not_used() -> None:
    made = program(
        series={"s": columns(x="")},
        fits={"f": {"series": "s", "y": "x", "model": "mean"}},
        results={"r": {"label": "r", "formula": "f.mean"}},
    )
    refuted = run(made, series={"s": {"x": ["7.9 ± 0.079", "9.6 ± 0.096"]}})
    assert refuted.results["r"].value == pytest.approx(8.75)
    assert refuted.results["r"].u == pytest.approx(0.85)
    assert not refuted.fits["f"].weighted
    assert refuted.fits["f"].diagnostics is not None
    assert refuted.fits["f"].diagnostics.chi2 == pytest.approx(187, abs=1)
    agreeing = run(made, series={"s": {"x": ["7.9 ± 0.1", "8.1 ± 0.2"]}})
    assert agreeing.fits["f"].weighted
    assert agreeing.results["r"].value == pytest.approx((7.9 * 4 + 8.1) / 5)


@pytest.mark.parametrize(("rule", "value"), [("weighted", 7.94), ("plain", 8.0)])
def test_two_values_are_combined_by_house_rule(rule: str, value: float) -> None:
    made = program(
        quantities={"a": {"label": "a"}, "b": {"label": "b"}},
        results={
            "x": {"label": "x", "formula": "a"},
            "y": {"label": "y", "formula": "b"},
            "z": {"label": "z", "combine": ["x", "y"]},
        },
    )
    analysis = run(made, quantities={"a": "7.9 ± 0.1", "b": "8.1 ± 0.2"}, rules={"combine": rule})
    assert analysis.results["z"].value == pytest.approx(value)


TWO = program(
    series={"a": columns(x=""), "b": columns(x="")},
    results={
        "m": {"label": "m", "formula": "mean(a.x)", "accepted": "n"},
        "n": {"label": "n", "formula": "mean(b.x)"},
    },
)


def test_the_difference_has_degrees_of_freedom_of_its_own() -> None:
    """A value from two trials with u = 0.0005 against one known to 0.1: the difference is as well known as the worse of them."""
    made = program(
        series={"a": columns(x="")},
        quantities={"b": {"label": "b"}},
        results={"m": {"label": "m", "formula": "mean(a.x)", "accepted": "b"}},
    )
    far = run(made, series={"a": {"x": ["10.0000", "10.0010"]}}, quantities={"b": "9.0 ± 0.1"})
    found = verdict_of(far, far.results["m"])
    assert found.kind == "disagrees"
    assert found.z == pytest.approx(10, rel=0.01)
    turned = program(
        series={"a": columns(x="")},
        quantities={"b": {"label": "b"}},
        results={"m": {"label": "m", "formula": "b", "accepted": "mean(a.x)"}},
    )
    loose = run(turned, series={"a": {"x": ["9.9", "10.1"]}}, quantities={"b": "9.6 ± 0.0001"})
    assert loose.results["m"].compared is not None
    assert loose.results["m"].compared.dof == pytest.approx(1, rel=0.05)
    assert verdict_of(loose, loose.results["m"]).kind in ("agrees", "wide")


def test_consistent_values_disagree_as_often_as_chance_says() -> None:
    beyond = 0
    for seed in range(600):
        draw = np.random.default_rng(seed)
        a, b = draw.normal(10, 0.3, 4), draw.normal(10, 0.1, 6)
        series = {"a": {"x": [f"{v:.5f}" for v in a]}, "b": {"x": [f"{v:.5f}" for v in b]}}
        result = run(TWO, series=series).results["m"]
        assert result.compared is not None
        z = abs(result.value - result.compared.accepted.value) / result.compared.u
        beyond += z > result.compared.coverage_factor
    assert abs(beyond / 600 - 0.05) < 3 * math.sqrt(0.05 * 0.95 / 600)
