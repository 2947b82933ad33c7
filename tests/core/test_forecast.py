"""What a plan promises: held against simulated runs of other seeds, against the textbook, and at its edges."""

import json
import math

import numpy as np
import pytest
from click.testing import CliRunner

from cavrel import catalogue
from cavrel.cli import main
from cavrel.core.analysis import analyse
from cavrel.core.document.forecast import change_of, setup_of
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory.selection import of_task
from cavrel.core.logbook import run as runs
from cavrel.core.plan.changes import Setup
from cavrel.core.plan.forecast import DRAWN, forecast
from cavrel.core.plan.improvements import Planner
from cavrel.core.simulate import simulate
from cavrel.core.simulate.apparatus import Planned
from tests.conforms import conform


def planner(name: str = "pendulum") -> Planner:
    return catalogue.planner(catalogue.experiments()[name])


def found(name: str, setup: Setup, many: int) -> dict[str, float]:
    """Median u of simulated runs, by result."""
    program = planner(name).program_of(setup.instruments)
    sizes: dict[str, list[float]] = {}
    for seed in range(5000, 5000 + many):
        for key, r in analyse(program, runs.load(simulate(program, seed, planned=setup.planned))).results.items():
            sizes.setdefault(key, []).append(
                r.u if r.linear else (r.interval[1] - r.interval[0]) / 2 / r.coverage_factor
            )
    return {key: float(np.nanmedian(size)) for key, size in sizes.items()}


@pytest.mark.parametrize("name", ["pendulum", "spring", "rule-equilibrium", "half-life"])
def test_what_is_forecast_is_what_runs_find(name: str) -> None:
    """All of the catalogue with 200 runs each: ``./run forecasts``."""
    promised = planner(name).forecast(Setup()).results
    for key, u in found(name, Setup(), 60).items():
        assert promised[key].u == pytest.approx(u, rel=0.15), key


def test_a_plan_of_ones_own_is_forecast_as_it_is() -> None:
    planned = Planned(settings={"swings.L": ["50", "90", "130"]}, quantities={"N": "10"}, trials={"swings.t": 3})
    one = planner().forecast(Setup(planned=planned)).results["g"]
    assert one.u == pytest.approx(found("pendulum", Setup(planned=planned), 80)["g"], rel=0.12)


def test_twice_the_swings_halve_what_timing_gives() -> None:
    usual = planner().forecast(Setup()).results["g"]
    twice = planner().forecast(Setup(planned=Planned(quantities={"N": "40"}))).results["g"]

    def timing(one: object) -> float:
        return one.u * math.sqrt(dict(one.dominated)["Time for N swings, scatter of repeats"])  # type: ignore[attr-defined]

    assert timing(twice) == pytest.approx(timing(usual) / 2, rel=0.05)  # the lengths' share moves the weights a little


def test_three_trials_forecast_a_wider_interval_than_ten() -> None:
    few, many = (
        planner("block-density").forecast(Setup(planned=Planned(trials={"pieces.h": k}))).results["rho"]
        for k in (2, 10)
    )
    assert few.coverage_factor > many.coverage_factor
    assert few.u > many.u


def test_improvements_say_what_they_bring_and_more_trials_where_they_are_idle() -> None:
    improvements, idle = planner().improvements(Setup(), "g")
    said = [one.change.say for one in improvements]
    assert "40 swings instead of 20" in said
    assert not idle
    assert all(one.gain > 0.05 for one in improvements)
    _, idle = planner("led-threshold").improvements(Setup(), "h")
    assert idle == "More trials would not help: Wavelength, positioning is the limit."


@pytest.mark.parametrize(("name", "result"), [("pendulum", "g"), ("young-modulus", "E")])
def test_an_improvement_carried_out_brings_what_it_promised(name: str, result: str) -> None:
    improvements, _ = planner(name).improvements(Setup(), result)
    before = found(name, Setup(), 60)[result]
    for one in improvements:
        then = found(name, one.change.setup, 60)[result]
        assert then / before == pytest.approx(one.expected.u / one.before.u, rel=0.15), one.change.say


def test_backwards_from_a_precision_and_from_a_lesson() -> None:
    here = planner()
    setup, then, said = here.reaching(Setup(), "g", 0.1)
    assert then.results["g"].percent <= 0.1
    assert said
    _, then, said = planner("grating").reaching(Setup(), "lam", 0.01)
    assert then.results["lam"].percent > 0.01, "the spacing of the grating stands in the way of any plan"
    setup, then = here.within(Setup(), "g", 35)
    assert here.minutes(then, setup) <= 35
    longer, _ = here.within(Setup(), "g", 90)
    assert here.forecast(longer).results["g"].u < then.results["g"].u


def test_what_is_printed_is_a_plan_again() -> None:
    document = {"format": "cavrel-run/1", "experiment": "pendulum", "series": {"swings": {"L": ["50", "80", "110.5"]}}}
    done = CliRunner().invoke(main, ["forecast", "-"], input=json.dumps(document))
    assert done.exit_code == 0, done.output
    said = json.loads(done.stdout)
    conform(said, "cavrel-forecast-1")
    promised = said["results"]["g"]["improvements"][0]
    again = CliRunner().invoke(main, ["forecast", "-"], input=json.dumps({**document, **promised["change"]}))
    assert json.loads(again.stdout)["results"]["g"]["u"] == pytest.approx(promised["u"], rel=1e-6)
    run = runs.load({**document, **promised["change"]})
    assert change_of(setup_of(run, planner())) == promised["change"]


@pytest.mark.parametrize(
    ("more", "where"),
    [
        ({"plan": {"settings": {"swings.T": ["1"]}}}, "plan.settings.swings.T"),
        ({"plan": {"trials": {"swings.x": 3}}}, "plan.trials.swings.x"),
        ({"plan": {"rows": {"other": 3}}}, "plan.other"),
        ({"plan": {"settings": {"swings.L": ["long", "longer"]}}}, "plan.settings.swings.L"),
        ({"quantities": {"N": "many"}}, "plan.quantities.N"),
        ({"instruments": {"sundial": {"kind": "stopwatch"}}}, "instruments.sundial"),
        ({"instruments": {"watch": {"least_count": "1 kg"}}}, "watch"),
        ({"plan": {"surprise": 1}}, "plan.surprise"),
    ],
)
def test_a_plan_that_does_not_fit_is_refused_with_its_place(more: dict, where: str) -> None:
    done = CliRunner().invoke(
        main, ["forecast", "-"], input=json.dumps({"format": "cavrel-run/1", "experiment": "pendulum", **more})
    )
    assert done.exit_code == 2
    assert where in done.stderr


@pytest.mark.parametrize(
    "planned",
    [
        Planned(settings={"swings.L": ["60"]}),
        Planned(settings={"swings.L": ["60", "60", "60"]}),
        Planned(settings={"swings.L": ["1e-9", "2e-9", "1e9"]}),
        Planned(quantities={"N": "1"}, trials={"swings.t": 1}),
        Planned(trials={"swings.t": 30}, rows={"swings": 200}),
        Planned(rows={"swings": 1}),
    ],
)
def test_odd_plans_are_forecast_or_say_why_not(planned: Planned) -> None:
    for one in forecast(planner().program_of({}), planned, drawn=3).results.values():
        assert one.reason or math.isfinite(one.u)


def test_every_experiment_forecasts_under_every_convention() -> None:
    for definition in catalogue.experiments().values():
        for options in (
            {},
            *({name: choice} for name, option in definition.options.items() for choice in option.choices),
        ):
            promised = forecast(catalogue.program_of(definition, options=options), Planned(), drawn=3)
            assert any(not one.reason for one in promised.results.values()), (definition.id, options)


def test_an_experiment_without_a_stand_in_says_so() -> None:
    body = catalogue.experiments()["pendulum"].document()
    del body["simulate"]
    done = CliRunner().invoke(main, ["forecast", "-"], input=json.dumps({"format": "cavrel-run/1", "experiment": body}))
    assert done.exit_code == 2
    assert "no simulation" in done.stderr
    with pytest.raises(CavrelError):
        catalogue.planner(catalogue.resolve(body))


def test_where_runs_are_drawn_improvements_start_from_what_is_promised() -> None:
    here = planner("projectile-range")
    found = here.forecast(Setup(), DRAWN)
    assert found.drawn == DRAWN
    alike = here.forecast(Setup()).results["g"].u
    for one in here.tried(Setup(), "g", found):
        assert one.before.u == found.results["g"].u
        assert one.gain == pytest.approx(1 - here.forecast(one.change.setup).results["g"].u / alike)


def test_what_the_task_costs_stays_when_another_instrument_reads_it() -> None:
    flier = catalogue.experiments()["conical-pendulum"].instruments["sight"]
    assert "placement" in of_task(flier, catalogue.instruments())
    assert of_task(catalogue.experiments()["pendulum"].instruments["watch"], catalogue.instruments()) == {}
