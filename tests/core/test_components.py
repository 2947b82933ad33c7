"""Where uncertainty comes from, by each house rule."""

import math

import numpy as np
import pytest

from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition.steps import Program
from cavrel.core.logbook import run as runs


def run(pendulum: Program, cells: list, rules: dict | None = None, lengths: list | None = None) -> Analysis:
    series = {"L": lengths or [f"{60 + 10 * i}.0" for i in range(len(cells))], "t": cells}
    return analyse(
        pendulum,
        runs.load(
            {"format": "cavrel-run/1", "experiment": "pendulum", "rules": rules or {}, "series": {"swings": series}}
        ),
    )


def own_u(analysis: Analysis, key: str, row: int = 0) -> float:
    """u of a row from its independent components alone."""
    return float(analysis.values[key].own[row])


TRIALS = ["31.0", "31.2", "31.4"]


@pytest.mark.parametrize(("rule", "u"), [("sem", 0.2 / math.sqrt(3)), ("sd", 0.2), ("half_range", 0.2)])
def test_repeats(pendulum: Program, rule: str, u: float) -> None:
    assert own_u(run(pendulum, [TRIALS], {"repeats": rule}), "swings.t") == pytest.approx(u, rel=1e-9)


def test_a_single_reading_has_reaction_and_last_digit(pendulum: Program) -> None:
    assert own_u(run(pendulum, [["31.0"]]), "swings.t") == pytest.approx(
        math.hypot(0.1, 0.01 / math.sqrt(12)), rel=1e-9
    )


def test_seen_scatter_replaces_the_declared_reaction(pendulum: Program) -> None:
    analysis = run(pendulum, [["31.00", "31.01", "31.02"]])
    assert own_u(analysis, "swings.t") == pytest.approx(0.01 / math.sqrt(3), rel=1e-6)


@pytest.mark.parametrize(
    ("rule", "u"),
    [("half_rectangular", 1e-3 / math.sqrt(12)), ("full_rectangular", 1e-3 / math.sqrt(3)), ("half_standard", 0.5e-3)],
)
def test_resolution(pendulum: Program, rule: str, u: float) -> None:
    assert own_u(run(pendulum, [TRIALS], {"resolution": rule}), "swings.L") == pytest.approx(
        math.hypot(u, 1e-3), rel=1e-9
    )


@pytest.mark.parametrize(("rule", "u"), [("standard", 0.4e-2), ("limit", 0.4e-2 / math.sqrt(3))])
def test_a_typed_uncertainty(pendulum: Program, rule: str, u: float) -> None:
    analysis = run(pendulum, [TRIALS], {"stated": rule}, ["60.0 ± 0.4"])
    assert own_u(analysis, "swings.L") == pytest.approx(u, rel=1e-9)


def test_equal_trials_keep_the_last_digit(pendulum: Program) -> None:
    """JCGM 100:2008, F.2.2.1: readings that all agree are still known no better than the scale shows."""
    assert own_u(run(pendulum, [["31.00", "31.00", "31.00"]]), "swings.t") == pytest.approx(
        0.01 / math.sqrt(12), rel=1e-9
    )


def test_rows_that_scatter_alike_share_their_scatter(pendulum: Program) -> None:
    cells = [["31.0", "31.1", "31.2"], ["33.0", "33.2", "33.4"], ["36.0", "36.05", "36.1"]]
    spread = [np.std([float(t) for t in row], ddof=1) for row in cells]
    pooled = math.sqrt(np.mean(np.square(spread)))
    analysis = run(pendulum, cells)
    for row in range(3):
        assert own_u(analysis, "swings.t", row) == pytest.approx(pooled / math.sqrt(3), rel=1e-9)
    alone = run(pendulum, cells, {"pool": "never"})
    assert own_u(alone, "swings.t", 1) == pytest.approx(spread[1] / math.sqrt(3), rel=1e-9)


def test_one_bad_row_does_not_cost_the_others_their_common_scatter(pendulum: Program) -> None:
    cells = [["31.0", "31.1", "31.2"], ["33.0", "33.1", "33.2"], ["36.0", "38.05", "36.1"], ["38.2", "38.3", "38.4"]]
    analysis = run(pendulum, cells)
    assert own_u(analysis, "swings.t", 0) == pytest.approx(own_u(analysis, "swings.t", 3))
    assert own_u(analysis, "swings.t", 2) > 10 * own_u(analysis, "swings.t", 0)
    assert own_u(run(pendulum, cells, {"pool": "always"}), "swings.t", 0) == pytest.approx(
        own_u(run(pendulum, cells, {"pool": "always"}), "swings.t", 2)
    )


def test_a_row_read_once_borrows_the_scatter_of_the_others(pendulum: Program) -> None:
    analysis = run(pendulum, [["31.0", "31.1", "31.2"], ["33.0"]])
    assert own_u(analysis, "swings.t", 1) == pytest.approx(0.1, rel=1e-6)


def test_few_trials_widen_the_interval(pendulum: Program) -> None:
    cells = [["31.0", "31.4"], ["36.0", "36.1"], ["41.1", "41.2"]]
    narrow, wide = run(pendulum, cells, {"student": False}).results["g"], run(pendulum, cells).results["g"]
    assert narrow.coverage_factor == pytest.approx(1.96, abs=1e-3)
    assert wide.coverage_factor > 2.3
    assert narrow.u == pytest.approx(wide.u)


def test_scatter_beyond_the_error_bars_is_believed(pendulum: Program) -> None:
    cells = [["31.05", "31.06"], ["34.9", "34.91"], ["36.1", "36.11"], ["38.9", "38.91"]]
    larger = run(pendulum, cells)
    assert larger.fits["line"].source == "scatter"
    assert larger.results["g"].u > 2 * run(pendulum, cells, {"fit_uncertainty": "propagated"}).results["g"].u


def test_the_line_through_the_origin(pendulum: Program) -> None:
    cells = [["31.05", "31.1"], ["33.5", "33.55"], ["35.85", "35.9"]]
    analysis = run(pendulum, cells, {"origin": "forced", "weights": "equal", "abscissae": "ignore"})
    x = np.array([0.6, 0.7, 0.8])
    y = np.array([(np.mean([float(t) for t in row]) / 20) ** 2 for row in cells])
    assert analysis.fits["line"].parameters["slope"].value == pytest.approx((x * y).sum() / (x * x).sum(), rel=1e-12)
    assert analysis.fits["line"].parameters["intercept"].value == 0


def test_accepted_g_by_house_rule(pendulum: Program) -> None:
    cells = [["31.05"], ["33.5"], ["35.85"]]
    local = run(pendulum, cells, {"g": {"latitude": 54.6, "height": 12}}).results["g"].accepted
    fixed = run(pendulum, cells, {"g": 9.81}).results["g"].accepted
    assert local is not None
    assert fixed is not None
    assert local.value == pytest.approx(9.8147, abs=5e-5)
    assert (fixed.value, fixed.u) == (9.81, 0)
