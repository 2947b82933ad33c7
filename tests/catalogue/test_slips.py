"""The slip finder on sheets whose slip is known, by hand and planted by rules that are not its own; long because each family has a sheet."""

import math
import random
from copy import deepcopy
from typing import Any

import numpy as np
import pytest

from cavrel import catalogue
from cavrel.core.analysis import Analysis, analyse, analyse_sheet
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from cavrel.core.slips import Found, carry, evidence, find
from cavrel.core.slips.families import PRIOR, PROPOSERS
from cavrel.core.slips.finder import priors
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings, figures
from cavrel.core.slips.whole import changed
from tools import slips as bench

LENGTHS = ["50.0", "70.0", "90.0", "110.0", "130.0", "150.0"]


def swings() -> dict[str, Any]:
    """Twenty swings at each length by g = 9.8147, three trials that a thumb errs by hundredths."""
    thumb = random.Random(7)
    times = []
    for length in LENGTHS:
        true = 20 * 2 * math.pi * math.sqrt(float(length) / 100 / 9.8147)
        times.append([f"{true + thumb.gauss(0, 0.05):.2f}" for _ in range(3)])
    return {
        "format": "cavrel-run/1",
        "experiment": "pendulum",
        "quantities": {"N": "20"},
        "series": {"swings": {"L": list(LENGTHS), "t": times}},
    }


def analysed(document: dict[str, Any]) -> Analysis:
    run = load(document)
    definition = catalogue.resolve(run.experiment)
    return analyse(catalogue.program_of(definition, run.instruments, run.options, run.accepted, run.headings), run)


def found(document: dict[str, Any], rejected: tuple[str, ...] = ()) -> Found:
    run = load(document)
    return find(analysed(document), catalogue.alternatives(catalogue.resolve(run.experiment), run), rejected)


def retyped(change: Any) -> dict[str, Any]:
    document = swings()
    change(document["quantities"], document["series"]["swings"]["L"], document["series"]["swings"]["t"])
    return document


def test_a_clean_sheet_is_left_in_peace() -> None:
    seen = found(swings())
    assert seen.suspects == ()
    assert seen.of_a_slip < 0.2
    assert seen.tried > 500


def times_of(factor: float, row: int | None = None) -> Any:
    def change(_: Any, __: Any, t: Any) -> None:
        for i, trials in enumerate(t):
            if row is None or i == row:
                t[i] = [figures(float(text) * factor, 4) for text in trials]

    return change


def swap_rows(_: Any, lengths: Any, __: Any) -> None:
    lengths[1], lengths[4] = lengths[4], lengths[1]


def put(row: int, trial: int, text: str) -> Any:
    def change(_: Any, __: Any, t: Any) -> None:
        t[row][trial] = text

    return change


def length_is(row: int, text: str) -> Any:
    def change(_: Any, lengths: Any, __: Any) -> None:
        lengths[row] = text

    return change


def all_lengths(more: float) -> Any:
    def change(_: Any, lengths: Any, __: Any) -> None:
        lengths[:] = [f"{float(text) + more:.1f}" for text in lengths]

    return change


@pytest.mark.parametrize(
    ("change", "family", "at"),
    [
        (put(2, 1, swings()["series"]["swings"]["t"][2][1].replace("38", "83")), "swapped", "swings.t.3.2"),
        (put(0, 0, "2.84"), "decimal", "swings.t.1.1"),
        (length_is(3, "11.0"), "decimal", "swings.L.4.1"),
        (times_of(21 / 20, 2), "count", "swings.t.3"),
        (lambda q, *_: q.update(N="21"), "count", "quantities.N"),
        (times_of(1 / 20), "derived", "swings.t"),
        (times_of(1000.0), "unit", "swings.t"),
        (all_lengths(-4.0), "offset", "swings.L"),
        (swap_rows, "exchanged", "swings.L.2"),
    ],
)
def test_a_slip_is_named_first(change: Any, family: str, at: str) -> None:
    seen = found(retyped(change))
    assert seen.suspects, seen.of_a_slip
    first = seen.suspects[0]
    assert (first.family, first.at) == (family, at)
    assert first.probability > 0.5
    assert first.say.endswith(".")


def test_what_a_fix_writes_is_the_clean_sheet_again() -> None:
    spoilt = found(retyped(put(0, 0, "2.84"))).suspects[0]
    assert spoilt.writes == (("swings.t", 1, 1, "28.4"),)
    everywhere = found(retyped(times_of(1000.0))).suspects[0]
    assert len(everywhere.writes) == 18
    clean = analysed(swings()).results["g"].value
    document = retyped(times_of(1000.0))
    for key, row, trial, text in everywhere.writes:
        series, column = key.split(".")
        document["series"][series][column][row - 1][trial - 1] = text
    assert analysed(document).results["g"].value == pytest.approx(clean, rel=2e-3)


def test_what_was_counted_wrong_is_never_written_anew() -> None:
    miscounted = retyped(put(2, 1, figures(float(swings()["series"]["swings"]["t"][2][1]) * 19 / 20, 4)))
    first = found(miscounted).suspects[0]
    assert first.family == "count"
    assert first.writes == ()
    assert first.leaves_out == (("swings.t", 3, 2),)
    left_out = analysed({**miscounted, "excluded": {"swings": {"t.3.2": "over 19"}}})
    assert first.after == left_out.results["g"].measured(left_out.rules.rounding).text()


def test_nothing_that_is_suspected_is_altered() -> None:
    analysis = analysed(retyped(put(0, 0, "2.84")))
    before, values = analysis.run.model_dump(), [entry.values.copy() for entry in analysis.sheet.inputs]
    assert find(analysis).suspects
    assert analysis.run.model_dump() == before
    assert all(np.array_equal(e.values, v, equal_nan=True) for e, v in zip(analysis.sheet.inputs, values, strict=True))


def test_what_a_person_refused_is_not_proposed_again() -> None:
    document = retyped(put(0, 0, "2.84"))
    first = found(document).suspects[0]
    again = found(document, (first.hypothesis.code,))
    assert first.hypothesis.code not in [s.hypothesis.code for s in again.suspects]


def test_two_that_fit_alike_say_which_reading_would_tell() -> None:
    """A slope through two rows that changed places says nothing of which column they changed in."""
    document = swings()
    document["series"]["swings"]["t"] = [row[:1] for row in document["series"]["swings"]["t"]]
    times, lengths = document["series"]["swings"]["t"], document["series"]["swings"]["L"]
    lengths[:] = ["50.0", "71.5", "90.0", "113.0", "130.0", "152.0"]
    for i, length in enumerate(lengths):
        times[i] = [f"{20 * 2 * math.pi * math.sqrt(float(length) / 100 / 9.8147):.2f}"]
    lengths[1], lengths[4] = lengths[4], lengths[1]
    seen = found(document)
    assert {s.at for s in seen.suspects[:2]} == {"swings.L.2", "swings.t.2"}
    assert "either decides" in seen.ask


def test_the_batch_and_the_whole_analysis_see_one_sheet_alike() -> None:
    """Chi-squared, differences and repeats of the sheet as it stands, by the batch and by the analysis; fits against NumPy."""
    analysis = analysed(swings())
    features = carry.features(analysis, [])
    line = analysis.fits["line"]
    assert line.diagnostics is not None
    assert features.fits["line"].squares[0] == pytest.approx(
        line.diagnostics.chi2, rel=1e-4
    )  # one step of York’s equations off
    whole = evidence.of_analysis(analysis, {})
    assert features.differences[0] == pytest.approx(whole.differences[0], abs=0.02)
    assert features.names == whole.names
    values = np.array([[float(t) for t in row] for row in swings()["series"]["swings"]["t"]])
    squares = ((values - values.mean(axis=1, keepdims=True)) ** 2).sum()
    entry = next(e for e in analysis.sheet.inputs if e.spec.key == "swings.t")
    own = features.repeats["swings.t"]
    rounding = 6 * 2 * 0.1 * 0.01**2 / 12  # a tenth of what the last digit scatters by
    assert own.squares[0] * evidence.declared(entry, analysis.rules) == pytest.approx(squares + rounding)
    assert own.dof == 12


def test_a_sheet_of_the_batch_is_the_sheet_worked_out_whole() -> None:
    """Whole columns in another unit: the result that the batch finds is the one that an analysis of that sheet finds."""
    analysis = analysed(swings())
    readings = Readings(analysis)
    proposals = [
        one for propose in PROPOSERS for one in propose(readings) if one.family in ("unit", "diameter", "count")
    ]
    proposals = [one for one in proposals if one.at in ("swings.t", "swings.L", "quantities.N")]
    carrying = carry._Carrying(analysis, proposals)
    with np.errstate(all="ignore"):
        carrying.run()
    values = np.broadcast_to(carrying.values["g"][:, 0], carrying.count)
    assert values[0] == pytest.approx(analysis.results["g"].value, rel=1e-4)
    for index, one in list(enumerate(proposals, 1))[:: max(1, len(proposals) // 15)]:
        other = analyse_sheet(analysis.program, analysis.run, analysis.rules, changed(analysis.sheet, one))
        assert values[index] == pytest.approx(other.results["g"].value, rel=0.02), one.say


def test_what_no_single_slip_explains_is_said_to_be_so() -> None:
    """The flier whose radius is wrong by any amount: no factor, no digit and no count brings its two angles together."""
    flier = {
        "format": "cavrel-run/1",
        "experiment": "conical-pendulum",
        "quantities": {"m": "155.5", "l": "110.0", "n": "10", "t": ["19.87"] * 3, "r": ["83.1", "83.0", "83.2"]},
        "series": {},
    }
    seen = found(flier)
    assert seen.suspects == ()
    assert seen.unexplained
    assert not found(swings()).unexplained


def test_a_proposal_that_leaves_nothing_to_compare_is_no_agreement() -> None:
    """A radius longer than its string has no angle: to lose a comparison is not to win it."""
    flier = {
        "format": "cavrel-run/1",
        "experiment": "conical-pendulum",
        "quantities": {"m": "155.5", "l": "110.0", "n": "10", "t": ["19.87"] * 3, "r": ["83.1", "83.0", "83.2"]},
        "series": {},
    }
    for suspect in found(flier).suspects:
        assert suspect.after != "no result"
        assert suspect.family != "offset"


def test_priors_are_shared_within_a_family() -> None:
    proposals = [one for propose in PROPOSERS for one in propose(Readings(analysed(swings())))]
    # What a text says for a proposal comes on top of its share.
    shares = np.exp(priors(proposals) - np.array([one.bonus for one in proposals]))
    assert {one.family for one in proposals} <= PRIOR.keys()
    assert sum(PRIOR.values()) == pytest.approx(1.0)
    assert shares.sum() == pytest.approx(1.0, abs=0.05)


@pytest.mark.parametrize(
    "change",
    [
        lambda d: d["series"]["swings"].update(L=["50.0"], t=[["28.41"]]),
        lambda d: d["series"]["swings"].update(L=[], t=[]),
        lambda d: d["series"]["swings"].update(L=["50.0", "70.0"], t=[["28.41", "28.5"], ["33.5", ""]]),
        lambda d: d["series"]["swings"].update(t=[["1e150"] * 3] * 6),
        lambda d: d["series"]["swings"].update(t=[["1.7e9", "1.7e9", "1700000000.1"]] * 6),
        lambda d: d["series"]["swings"].update(t=[["0"] * 3] * 6),
        lambda d: d["series"]["swings"].update(t=[["abc", "-", "28.4 ± 0.1"]] * 6),
        lambda d: d["quantities"].update(N="0"),
        lambda d: d["quantities"].clear(),
    ],
)
def test_any_sheet_is_looked_through(change: Any) -> None:
    document = deepcopy(swings())
    change(document)
    seen = found(document)
    assert 0 <= seen.of_a_slip <= 1
    assert all(0 < s.probability <= 1 for s in seen.suspects)


def test_a_large_sheet_tries_the_readings_that_stand_out() -> None:
    document = swings()
    rows = 300
    lengths = [f"{50 + i / 2:.1f}" for i in range(rows)]
    times = [[f"{20 * 2 * math.pi * math.sqrt(float(x) / 100 / 9.8147):.2f}"] for x in lengths]
    times[200][0] = times[200][0][1] + times[200][0][0] + times[200][0][2:]
    document["series"]["swings"] = {"L": lengths, "t": times}
    seen = found(document)
    assert seen.tried < 4000
    assert (seen.suspects[0].family, seen.suspects[0].at) == ("swapped", "swings.t.201.1")


@pytest.mark.parametrize(
    ("experiment", "series", "column", "factor"),
    [
        ("charge-to-mass", "circles", "I", 1000.0),
        ("spring", "loads", "l", 10.0),
        ("young-modulus", "loads", "x", 0.001),
    ],
)
def test_a_whole_column_in_another_unit_is_named_though_every_test_fails(
    experiment: str, series: str, column: str, factor: float
) -> None:
    """What instruments declare in one unit says nothing right of a sheet in another: the sheet it would be is worked out whole."""
    document = simulate(catalogue.program_of(catalogue.resolve(experiment)), 11)
    rows = document["series"][series][column]
    for i, row in enumerate(rows):
        trials = [figures(float(text) * factor, 4) for text in (row if isinstance(row, list) else [row])]
        rows[i] = trials if isinstance(row, list) else trials[0]
    first = found(document).suspects[0]
    assert (first.family, first.at) == ("unit", f"{series}.{column}")
    assert first.probability > 0.5


def test_trials_that_are_all_alike_say_nothing_of_their_unit() -> None:
    """A thumb is rarely so steady, but a coarse scale is: no scatter is no scatter in any unit."""
    document = swings()
    document["series"]["swings"]["t"] = [[row[0]] * 3 for row in document["series"]["swings"]["t"]]
    assert found(document).suspects == ()


def test_a_reading_of_the_row_before_is_seen_to_the_last_digit() -> None:
    """Readings of a swing are alike within their scatter now and then, but hardly to the last digit."""
    document = simulate(catalogue.program_of(catalogue.resolve("torsion-balance")), 5)
    marks = document["series"]["swing"]["s"]
    marks[6] = deepcopy(marks[5])
    seen = found(document)
    assert seen.suspects[0].at in ("swing.s.7.1", "swing.s.6.1")
    assert "swing.s.7.1" in {s.at for s in seen.suspects[:2]}


def cart(stretches: dict[int, tuple[float, float]]) -> dict[str, Any]:
    """Part A of the cart from a motion sensor: at rest, pulled, caught; ``stretches`` by row from 0, all the others well chosen."""
    document = simulate(catalogue.program_of(catalogue.resolve("newton-second-law")), 5)
    force = document["series"]["force"]
    noise, traces = random.Random(3), []
    for row, text in enumerate(force["a"]):
        a, values = float(text), []
        for i in range(150):
            t = i / 50
            speed = 0.0 if t < 0.8 else a * (t - 0.8) if t < 2.2 else 0.0
            values.append(round(speed + noise.gauss(0, 0.004), 4))
        begin, end = stretches.get(row, (0.86, 2.14))
        traces.append({"rate": "50 Hz", "values": values, "unit": "m/s", "begin": begin, "end": end})
    del force["a"]
    return {**document, "traces": {"force": {"a": traces}}}


def test_a_stretch_with_rest_in_it_is_named_and_cut() -> None:
    assert found(cart({})).suspects == ()
    spoilt = cart({2: (0.1, 2.14)})
    first = found(spoilt).suspects[0]
    assert (first.family, first.at) == ("stretch", "force.a.3.1")
    assert "before the release: at rest" in first.say
    ((key, row, trial, begin, end),) = first.stretches
    assert (key, row, trial) == ("force.a", 3, 1)
    assert begin == pytest.approx(0.8, abs=0.06) and end == pytest.approx(2.14, abs=0.04)
    assert first.writes == () and first.leaves_out == ()
    spoilt["traces"]["force"]["a"][2] |= {"begin": begin, "end": end}
    result = analysed(spoilt).results["m_A"]
    assert first.after == result.measured(analysed(spoilt).rules.rounding).text()
    assert found(spoilt).suspects == ()


@pytest.mark.parametrize(
    ("experiment", "a", "b"),
    [("charge-to-mass", "circles.I", "circles.U"), ("stepped-pulley", "turns.D", "turns.m")],
)
def test_columns_under_each_others_heads_turn_the_slope_upside_down(experiment: str, a: str, b: str) -> None:
    document = simulate(catalogue.program_of(catalogue.resolve(experiment)), 21)
    series, one = a.split(".")
    table, other = document["series"][series], b.split(".")[1]
    right = deepcopy(table)
    table[one], table[other] = table[other], table[one]
    first = found(document).suspects[0]
    assert first.family == "exchanged" and first.at in (a, b)
    assert "upside down" in first.say
    for key, row, trial, text in first.writes:
        rows = table[key.split(".")[1]]
        if isinstance(rows[row - 1], list):
            rows[row - 1][trial - 1] = text
        else:
            rows[row - 1] = text
    assert table == right


def test_clean_runs_of_every_experiment_raise_hardly_any() -> None:
    raised = []
    for name, definition in catalogue.experiments().items():
        run = load(simulate(catalogue.program_of(definition), 501))
        seen = find(analyse(catalogue.program_of(definition), run), catalogue.alternatives(definition, run))
        raised += [name] if seen.suspects else []
    assert len(raised) <= 2, raised


def test_planted_slips_are_named_and_the_odds_given_are_kept() -> None:
    """A small draw of what `./run slips` counts in thousands; its goals are 80 % named first, and odds that are kept."""
    names = [
        "pendulum",
        "balanced-rule",
        "hydrogen-lines",
        "grating",
        "speed-of-sound",
        "resonance-tube",
        "metre-bridge",
    ]
    outcomes = [bench._one((name, kind, 77)) for name in names for kind in bench.PLANTS]
    seen = [o for o in outcomes if o is not None]
    assert len(seen) > 50
    assert sum(o.rank == 1 for o in seen) >= 0.8 * len(seen)
    assert sum(1 <= o.rank <= 3 for o in seen) >= 0.85 * len(seen)
    sure = [o for o in seen if o.probability > 0.9]
    assert sum(o.first_true for o in sure) >= 0.85 * len(sure)


def test_a_code_names_a_proposal() -> None:
    one = Hypothesis(family="offset", at="swings.L", say="every reading is 3 cm too large", do="", amount=0.03)
    other = Hypothesis(family="offset", at="swings.L", say="every reading is 3.1 cm too large", do="", amount=0.031)
    assert one.code == other.code
    assert one.code != Hypothesis(family="offset", at="swings.t", say="", do="", amount=1.0).code
