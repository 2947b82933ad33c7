"""Advice for a plan, carried out: what is proposed can be set and read, is entered as it stands, and brings about what it promises."""

import math

import numpy as np
import pytest

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.definition import load
from cavrel.core.document.forecast import change_of, setup_of
from cavrel.core.errors import CavrelError
from cavrel.core.findings import findings_of
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.planned import plan_entries, set_quantities
from cavrel.core.plan.changes import Change, Setup
from cavrel.core.plan.improvements import Planner
from cavrel.core.quantity.reading import read
from cavrel.core.simulate import simulate
from cavrel.core.simulate.apparatus import Planned
from cavrel.core.simulate.settable import resized, settable, step_of

NAMES = tuple(catalogue.experiments())
CARRIED_OUT = 5


def planner(name: str) -> Planner:
    return catalogue.planner(catalogue.experiments()[name])


def proposed(of: Planner, result: str) -> list[Change]:
    """Changes that bring something, the best first, of each kind in turn."""
    tried = sorted((one for one in of.tried(Setup(), result) if one.gain > 0.01), key=lambda one: -one.gain)
    return [one.change for one in tried][:CARRIED_OUT]


@pytest.mark.parametrize("name", NAMES)
def test_what_is_proposed_can_be_carried_out(name: str) -> None:
    """Five of each experiment: entered through the page's own entries, read off the simulation, and as good as was said."""
    definition, of = catalogue.experiments()[name], planner(name)
    usual = of.forecast(Setup())
    result = next(one.name for one in usual.results.values() if not one.reason and one.u > 0)
    for change in proposed(of, result):
        run = runs.load({"format": "cavrel-run/1", "experiment": name, **change_of(change.setup)})
        assert plan_entries(definition, run) or set_quantities(definition, run), change.say
        setup = setup_of(run, of)
        promised = of.forecast(setup, only=result).results[result]
        program = of.program_of(setup.instruments)
        found = []
        for seed in range(7):
            analysis = analyse(program, runs.load(simulate(program, 300 + seed, planned=setup.planned)))
            assert not analysis.sheet.faults, change.say
            # What apparatus gives by chance may be remarked; what was to be set may not.
            set_to = {spec.key for spec in program.inputs if spec.role == "set"}
            said = [f for f in findings_of(analysis) if f.code == "implausible"]
            assert not [f for f in said if any(place.startswith(tuple(set_to)) for place in f.at)], change.say
            one = analysis.results[result]
            found.append(one.u if one.linear else (one.interval[1] - one.interval[0]) / 2 / one.coverage_factor)
        assert np.median(found) == pytest.approx(promised.u, rel=0.5), change.say


@pytest.mark.parametrize("name", NAMES)
def test_settings_that_are_proposed_are_those_that_there_are(name: str) -> None:
    """Whole numbers of weights, masses of the set, intervals on the beat, coils and lines that are on the list."""
    of = planner(name)
    analysis = of.forecast(Setup(), drawn=1).analysis
    for change in of.changes(Setup(), analysis):
        for key, texts in change.setup.planned.settings.items():
            spec = analysis.program.input_of[key]
            values = np.array([read(text, spec.unit.text, spec.difference).value for text in texts])
            usual = analysis.nominal[key][0]
            if spec.listed:
                assert set(np.round(values, 12)) <= set(np.round(usual, 12))
            step = step_of(spec, analysis.nominal)
            if step:
                off = (values - usual[0]) / step
                assert np.allclose(off, np.round(off), atol=1e-6), (change.say, texts)


@pytest.mark.parametrize("name", NAMES)
def test_a_plan_for_one_of_two_set_columns_is_as_long_as_it_says(name: str) -> None:
    """What is planned for one column alone, longer or shorter than usual, sets as many rows in the others."""
    of = planner(name)
    analysis = of.forecast(Setup(), drawn=1).analysis
    for spec in (s for s in analysis.program.inputs if s.role == "set" and s.series is not None):
        usual = [f"{spec.unit.from_si(v):.9g}" for v in analysis.nominal[spec.key][0].tolist()]
        for texts in (usual[:-1], usual + usual[-2:]):
            for rows in ({}, {spec.series: len(usual)}, {spec.series: len(usual) + 3}):
                planned = Planned(settings={spec.key: texts}, rows=rows)
                made = simulate(analysis.program, 4, planned=planned)["series"]
                assert {len(cells) for cells in made[spec.series].values()} == {len(texts)}  # type: ignore[index]


def test_both_sides_of_an_angle_are_read_again_together() -> None:
    of = planner("hydrogen-lines")
    said = [one.say for one in of.changes(Setup(), of.forecast(Setup(), drawn=1).analysis)]
    assert "Reading on the left and reading on the right: 6 trials instead of 3" in said


def test_no_caliper_in_a_vacuum_and_no_micrometer_in_a_pipe() -> None:
    for name, never in (("charge-to-mass", "mirror rule"), ("resonance-tube", "micrometer")):
        of = planner(name)
        said = [one.say for one in of.changes(Setup(), of.forecast(Setup(), drawn=1).analysis)]
        assert not [say for say in said if never in say], said


def test_more_rows_go_between_then_beyond_then_from_the_first_on() -> None:
    program = planner("spring").program_of({})
    n = program.input_of["loads.n"]
    usual = np.arange(1.0, 5.0)
    assert resized(n, usual, 6, 1.0, True).tolist() == [1, 2, 3, 4, 5, 6]
    assert resized(n, usual, 3, 1.0, True).tolist() == [1, 3, 4]
    assert resized(n, usual, 6, 1.0, False).tolist() == [1, 2, 3, 4, 1, 2]
    length = planner("pendulum").program_of({}).input_of["swings.L"]
    assert settable(length, np.linspace(0.4, 1.8, 12), 0.0, 0.4) == pytest.approx(
        [0.4, 0.52, 0.66, 0.78, 0.9, 1.04, 1.16, 1.3, 1.42, 1.54, 1.68, 1.8]
    )
    assert settable(length, np.array([0.4, 0.4]), 0.0, 0.4).tolist() == [0.4, 0.4]


def test_of_a_sum_that_ought_to_be_zero_no_percent_is_promised() -> None:
    results = planner("rule-equilibrium").forecast(Setup()).results
    assert math.isnan(results["tau_sum"].percent)
    assert results["M"].percent == pytest.approx(0.5, abs=0.2)


def test_a_column_that_is_not_set_takes_no_step() -> None:
    document = catalogue.experiments()["pendulum"].document()
    document["series"]["swings"]["columns"]["t"]["step"] = "1[s]"
    with pytest.raises(CavrelError, match="only a set column"):
        load(document)
