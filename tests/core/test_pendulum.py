"""The pendulum, whole, against independent computations."""

import math

import numpy as np
import pytest
from scipy import stats
from uncertainties import ufloat

from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition.steps import Program
from cavrel.core.logbook import run as runs

LENGTHS = [60.0, 75.0, 90.0, 105.0, 120.0, 135.0, 150.0, 165.0]
N = 20


def timings(seed: int, sigma: float = 0.08, trials: int = 5) -> list[list[str]]:
    rng = np.random.default_rng(seed)
    true = N * 2 * np.pi * np.sqrt(np.array(LENGTHS) / 100 / 9.81)
    return [[f"{t + e:.2f}" for e in rng.normal(0, sigma, trials)] for t in true]


def document(times: list[list[str]], lengths: list[str] | None = None, **more) -> runs.RunDocument:
    return runs.load(
        {
            "format": "cavrel-run/1",
            "experiment": "pendulum",
            "series": {"swings": {"L": lengths or [f"{v:.1f}" for v in LENGTHS], "t": times}},
            **more,
        }
    )


def squares(times: list[list[str]]) -> np.ndarray:
    return np.array([(np.mean([float(t) for t in row]) / N) ** 2 for row in times])


def run(pendulum: Program, seed: int = 1, **more) -> Analysis:
    return analyse(pendulum, document(timings(seed), **more))


def test_unweighted_line_is_that_of_linregress(pendulum: Program) -> None:
    times = timings(3)
    analysis = analyse(pendulum, document(times, rules={"weights": "equal", "fit_uncertainty": "scatter"}))
    fit, other = analysis.fits["line"], stats.linregress(np.array(LENGTHS) / 100, squares(times))
    assert fit.parameters["slope"].value == pytest.approx(other.slope, rel=1e-9)
    assert fit.parameters["intercept"].value == pytest.approx(other.intercept, rel=1e-9, abs=1e-12)
    # Shared components of the rule come on top of the textbook error; subtracted again it must be what is left.
    shared = [
        p
        for b, s in zip(analysis.perturbations.groups, analysis.perturbations.starts)
        if b.rows is None
        for p in range(s, s + b.size)
    ]
    for name, error in (("slope", other.stderr), ("intercept", other.intercept_stderr)):
        parts = fit.parameters[name].parts.copy()
        parts[shared] = 0
        assert math.sqrt((parts**2).sum()) == pytest.approx(error, rel=1e-9)
    assert fit.diagnostics is not None
    assert fit.diagnostics.r2 == pytest.approx(other.rvalue**2, rel=1e-9)


def test_the_budget_is_that_of_the_uncertainties_package(pendulum: Program) -> None:
    """The same run written out with ufloats: means, period, weighted line, g, the rule's and watch's shared components."""
    times = timings(5)
    analysis = analyse(
        pendulum, document(times, rules={"fit_uncertainty": "propagated", "abscissae": "ignore", "pool": "always"})
    )
    spread = [np.std([float(t) for t in row], ddof=1) for row in times]
    s = math.sqrt(np.mean(np.square(spread)))
    rule_zero, rule_scale, watch_scale = ufloat(0, 0.3e-3), ufloat(1, 2e-4), ufloat(1, 2e-5)
    lengths = [(ufloat(v / 100, math.hypot(1e-3, 1e-3 / math.sqrt(12)))) * rule_scale + rule_zero for v in LENGTHS]
    means = [ufloat(np.mean([float(t) for t in row]), s / math.sqrt(len(row))) * watch_scale for row in times]
    # What the scatter cannot show of the watch's last digit is nothing here, for s is far above it.
    y = [(m / N) ** 2 for m in means]
    own = np.array([2 * m.nominal_value / N**2 * s / math.sqrt(5) for m in means])
    w = 1 / own**2
    lengths, y = np.array(lengths), np.array(y)
    mean_x, mean_y = (w * lengths).sum() / w.sum(), (w * y).sum() / w.sum()
    slope = (w * (lengths - mean_x) * (y - mean_y)).sum() / (w * (lengths - mean_x) ** 2).sum()
    g = 4 * math.pi**2 / slope
    result = analysis.results["g"]
    assert result.value == pytest.approx(g.nominal_value, rel=1e-9)
    assert result.u == pytest.approx(g.std_dev, rel=1e-6)


def test_contributions_squared_add_up_to_u_squared(pendulum: Program) -> None:
    result = run(pendulum).results["g"]
    assert sum(s.contribution**2 for s in result.budget) == pytest.approx(result.u**2, rel=1e-12)
    assert sum(s.share for s in result.budget) == pytest.approx(1, rel=1e-12)
    assert (result.parts**2).sum() == pytest.approx(result.u**2, rel=1e-14)
    assert [s.contribution for s in result.budget] == sorted((s.contribution for s in result.budget), reverse=True)


def test_halving_a_source_does_what_it_says(pendulum: Program) -> None:
    result = run(pendulum).results["g"]
    first = result.budget[0]
    assert first.u_if_halved == pytest.approx(math.sqrt(result.u**2 - 0.75 * first.contribution**2))


def test_a_shared_zero_offset_moves_the_intercept_and_not_the_slope(pendulum: Program) -> None:
    """All lengths shifted together: the slope stays, so the rule's zero adds nothing to u(g) and all to u(intercept)."""
    analysis = run(pendulum)
    fit = analysis.fits["line"]
    index = next(i for i, b in enumerate(analysis.perturbations.groups) if b.kind == "zero" and b.subject == "rule")
    part = analysis.perturbations.span(index)
    assert abs(fit.parameters["slope"].parts[part][0]) < 1e-12
    expected = -fit.parameters["slope"].value * 0.3e-3
    assert fit.parameters["intercept"].parts[part][0] == pytest.approx(expected, rel=1e-9)
    # Taken as one offset for each row on its own, the same 0.3 mm would wrongly widen the slope.
    times = timings(1)
    shifted = analyse(pendulum, document(times, [f"{v + 0.5:.1f}" for v in LENGTHS]))
    assert shifted.fits["line"].parameters["slope"].value == pytest.approx(fit.parameters["slope"].value, rel=1e-9)
    moved = shifted.fits["line"].parameters["intercept"].value - fit.parameters["intercept"].value
    assert moved == pytest.approx(-fit.parameters["slope"].value * 0.5e-2, rel=1e-6)


def test_the_zero_counts_where_it_does_not_cancel(pendulum: Program) -> None:
    forced = run(pendulum, rules={"origin": "forced"})
    assert any(s.kind == "zero" and s.share > 1e-4 for s in forced.results["g"].budget)


def test_many_runs_hold_the_truth_as_often_as_they_say(pendulum: Program) -> None:
    """400 simulated runs: value ± u holds g 68.3 % of the time, the 95 % interval 95 %, within 3.5 binomial errors."""
    rng = np.random.default_rng(20261125)
    lengths = np.array(LENGTHS) / 100
    inside = wide = 0
    runs_made = 400
    for _ in range(runs_made):
        scale, zero = 1 + rng.normal(0, 2e-4), rng.normal(0, 0.3e-3)
        true = (lengths - zero) / scale + rng.normal(0, 1e-3, len(lengths))
        times = 20 * 2 * np.pi * np.sqrt(true / 9.81)
        texts = [[f"{t + e:.2f}" for e in rng.normal(0, 0.1, 5)] for t in times]
        result = analyse(pendulum, document(texts, rules={"fit_uncertainty": "propagated"})).results["g"]
        inside += abs(result.value - 9.81) <= result.u
        wide += abs(result.value - 9.81) <= result.expanded_uncertainty
    for hits, share in ((inside, 0.6827), (wide, 0.95)):
        assert abs(hits / runs_made - share) < 3.5 * math.sqrt(share * (1 - share) / runs_made), (hits, share)


def test_order_of_rows_changes_nothing(pendulum: Program) -> None:
    times, order = timings(2), [3, 0, 7, 5, 1, 6, 4, 2]
    plain = analyse(pendulum, document(times)).results["g"]
    mixed = analyse(pendulum, document([times[i] for i in order], [f"{LENGTHS[i]:.1f}" for i in order])).results["g"]
    assert (mixed.value, mixed.u) == pytest.approx((plain.value, plain.u), rel=1e-9)


def test_units_of_readings_change_nothing(pendulum: Program) -> None:
    times = timings(2)
    plain = analyse(pendulum, document(times)).results["g"]
    other = analyse(
        pendulum,
        document([[f"{float(t) * 1000:.0f} ms" for t in row] for row in times], [f"{v * 10:.0f} mm" for v in LENGTHS]),
    ).results["g"]
    assert (other.value, other.u) == pytest.approx((plain.value, plain.u), rel=1e-9)


def test_what_is_missing_is_said_and_the_rest_goes_on(pendulum: Program) -> None:
    analysis = analyse(pendulum, document([["31.05", "31.11"]], ["60.0", "90.0"]))
    assert analysis.fits["line"].reason == "a line needs 2 complete rows; there is 1"
    assert math.isnan(analysis.results["g"].value)
    assert analysis.results["g"].reason
    assert analysis.values["swings.T"].value[0] == pytest.approx(31.08 / 20)
    assert math.isnan(analysis.values["swings.T"].value[1])


def test_equal_settings_make_no_line(pendulum: Program) -> None:
    analysis = analyse(pendulum, document([["31.05"], ["31.11"], ["31.2"]], ["60.0", "60.0", "60.0"]))
    assert "at least two different settings" in analysis.fits["line"].reason


def test_an_empty_run_is_no_fault(pendulum: Program) -> None:
    analysis = analyse(pendulum, runs.load({"format": "cavrel-run/1", "experiment": "pendulum"}))
    assert analysis.values["N"].value[0] == 20
    assert analysis.results["g"].reason


def test_a_row_left_out_has_no_say(pendulum: Program) -> None:
    times = timings(4)
    spoilt = [["50.00"] * 5 if i == 2 else row for i, row in enumerate(times)]
    out = analyse(pendulum, document(spoilt, excluded={"swings": {"3": "the bob hit the rail"}}))
    without = analyse(
        pendulum,
        document([r for i, r in enumerate(times) if i != 2], [f"{v:.1f}" for i, v in enumerate(LENGTHS) if i != 2]),
    )
    assert out.results["g"].value == pytest.approx(without.results["g"].value, rel=1e-6)


def test_a_trial_left_out_leaves_its_mean(pendulum: Program) -> None:
    analysis = analyse(pendulum, document([["31.0", "31.2", "41.1"]], ["60.0"], excluded={"swings": {"t.1.3": "late"}}))
    assert analysis.values["swings.t"].value[0] == pytest.approx(31.1)
    trials = analysis.values["swings.t"].trials
    assert trials is not None
    assert trials[0] == 2


def test_two_points_have_a_line_by_their_readings_alone(pendulum: Program) -> None:
    analysis = analyse(pendulum, document([["31.05", "31.11"], ["38.05", "38.1"]], ["60.0", "90.0"]))
    fit = analysis.fits["line"]
    assert fit.source == "propagated"
    assert fit.parameters["slope"].u > 0
