"""The apparatus that answers reading by reading: one model with `simulate`, one seed a run, and nothing said that is not set."""

import math
from typing import Any

import numpy as np
import pytest
from scipy import stats

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.bench import Bench, NotYet, instrument_faults, truths
from cavrel.core.bench.shown import Found
from cavrel.core.definition.steps import Program
from cavrel.core.errors import DefinitionError
from cavrel.core.findings.verdict import verdict_of
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.run import RunDocument, trials
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity.reading import read
from cavrel.core.simulate import simulate
from cavrel.core.simulate.shown import written
from tests.thorough import THOROUGH, some


def program(experiment: str, **options: str) -> Program:
    return catalogue.program_of(catalogue.experiments()[experiment], options=options)


def settings(of: Program) -> RunDocument:
    """A run in which everything is set as the simulation sets it."""
    return runs.load(simulate(of, 0))


PLACES = [
    ("metre-bridge", "first.l.2.1"),
    ("balanced-rule", "quantities.c.1"),
    ("block-density", "pieces.m.2.1"),
    ("half-life", "counts.c.3.1"),
    ("young-modulus", "loads.x.4.1"),
    ("density-buoyancy", "quantities.m_2.1"),
    ("grating", "orders.x_l.2.1"),
    ("projectile-range", "shots.v_0.1.1"),
    ("projectile-range", "shots.s.5.1"),
    ("stepped-pulley", "turns.k.3.2"),
    ("galvanometer-conversion", "verify.V_2.3.1"),
    ("led-threshold", "lamps.U.2.1"),
    ("torsion-balance", "quantities.S_2.1"),
    ("spring", "loads.l.3.1"),
]


@pytest.mark.parametrize(("experiment", "place"), PLACES if THOROUGH else PLACES[:4])
def test_it_agrees_with_simulated_runs_in_distribution(experiment: str, place: str) -> None:
    of, slot = program(experiment), Slot.read(place)
    spec, run = of.input_of[slot.key], settings(of)
    seen, drawn = [], []
    for seed in range(300):
        shown = Bench(of, run, seed).shown(slot)
        seen.append(read(written(spec, shown.value) if not spec.count else f"{shown.value:.0f}", spec.unit.text).value)
        other = runs.load(simulate(of, 10_000 + seed, hidden=True))
        cell = other.series[slot.series][slot.name][slot.row - 1] if slot.series else other.quantities[slot.name]
        drawn.append(read(trials(cell)[slot.trial - 1], spec.unit.text).value)
    assert stats.ks_2samp(seen, drawn).pvalue > 0.001
    assert np.std(seen) > 0


def test_a_place_shows_the_same_until_it_is_done_once_more() -> None:
    of = program("density-buoyancy")
    run = settings(of)
    slot = Slot.read("quantities.a.1")
    shown = [Bench(of, run, 5).shown(slot, take).value for take in (1, 1, 2)]
    assert shown[0] == shown[1] != shown[2]
    assert Bench(of, run, 5).shown(Slot.read("quantities.a.2")).value != shown[0]
    assert Bench(of, run, 6).shown(slot).value != shown[0]


def test_what_was_shown_does_not_depend_on_what_was_looked_at_before() -> None:
    of = program("block-density")
    run = settings(of)
    slots = [Slot.read(f"pieces.{c}.{r}.1") for r in (1, 2, 3) for c in ("a", "b", "h", "m")]
    bench = Bench(of, run, 1)
    forwards = [bench.shown(s).value for s in slots]
    bench = Bench(of, run, 1)
    backwards = [bench.shown(s).value for s in reversed(slots)][::-1]
    assert forwards == backwards


def test_what_is_set_moves_what_is_shown() -> None:
    of = program("spring")
    bare = runs.load({"format": "cavrel-run/1", "experiment": "spring"})
    with pytest.raises(NotYet, match="first"):
        Bench(of, bare, 1).shown(Slot.read("loads.l.1.1"))
    lengths = []
    for n in ("0", "2", "4"):
        run = runs.load({"format": "cavrel-run/1", "experiment": "spring", "series": {"loads": {"n": [n]}}})
        lengths.append(Bench(of, run, 1).shown(Slot.read("loads.l.1.1")).value)
    assert lengths[1] - lengths[0] == pytest.approx(lengths[2] - lengths[1], abs=2e-3)
    assert lengths[2] > lengths[0] + 0.01


def test_a_dial_and_a_number_are_the_benchs_own() -> None:
    of = program("galvanometer-conversion")
    run = settings(of).model_dump(mode="json", exclude_defaults=True) | {"format": "cavrel-run/1", "experiment": "x"}
    shown = []
    for ohms in ("4939", "9878"):
        run["quantities"] = {**run["quantities"], "R_box": ohms}
        shown.append(Bench(of, runs.load(run), 1).shown(Slot.read("verify.V_2.3.1")).value)
    assert shown[1] / shown[0] == pytest.approx((9878 + 96) / (4939 + 96), rel=0.02)
    with pytest.raises(NotYet, match="yours to decide"):
        Bench(of, settings(of), 1).shown(Slot.read("quantities.R_box.1"))


def test_scenes() -> None:
    of = program("pendulum")
    shown = Bench(of, settings(of), 1).shown(Slot.read("swings.t.1.1"))
    assert (shown.laps, shown.motion) == (20, "swing")
    of = program("metre-bridge")
    shown = Bench(of, settings(of), 1).shown(Slot.read("first.l.1.1"))
    assert (shown.found.sign, shown.found.low, shown.found.high) == ("needle", 0.0, 1.0)
    of = program("young-modulus")
    shown = Bench(of, settings(of), 1).shown(Slot.read("loads.x.1.1"))
    assert shown.creep.tau == 15
    of = program("torsion-balance")
    course = Bench(of, settings(of), 1).shown(Slot.read("swing.s.1.1")).course
    assert course.times[-1] >= 24 * 60
    assert np.ptp(course.values) > 0.1
    of = program("half-life")
    assert Bench(of, settings(of), 1).shown(Slot.read("counts.c.1.1")).counts == 20
    of = program("newton-second-law")
    assert Bench(of, settings(of), 1).shown(Slot.read("force.a.1.1")).slope > 0


def test_truths_vary_from_run_to_run_as_far_as_the_definition_says() -> None:
    of = program("metre-bridge")
    found = [truths(of, seed)["R_1"] for seed in range(100)]
    assert 4.42 * 0.85 <= min(found) < 4.42 * 0.9
    assert 4.42 * 1.1 < max(found) <= 4.42 * 1.15
    both = truths(of, 7)
    assert both["R_s"] == pytest.approx(both["R_1"] + both["R_2"])
    assert {truths(program("pendulum"), seed)["g"] for seed in range(5)} == {9.806}


def test_faults_of_the_definition_and_of_instruments() -> None:
    of = program("metre-bridge")
    run = settings(of)
    slot = Slot.read("first.l.1.1")
    plain = Bench(of, run, 3).shown(slot).value
    assert Bench(of, run, 3, ["end"]).shown(slot).value == pytest.approx(plain - 0.008 * (1 - plain), abs=1e-4)
    names = dict(instrument_faults(of))
    assert names == {
        "zero:rule": "scale of the bridge: its zero is off",
        "scale:rule": "scale of the bridge: leans, or its scale is not true",
        "scale:box": "resistance box: leans, or its scale is not true",
    }
    assert Bench(of, run, 3, ["zero:rule"]).shown(slot).value == pytest.approx(plain + 0.006, abs=1e-5)
    assert Bench(of, run, 3, ["scale:rule"]).shown(slot).value == pytest.approx(plain * 1.02, rel=1e-3)
    zero = Bench(of, run, 3, ["zero:rule"]).zero("rule").value - Bench(of, run, 3).zero("rule").value
    assert zero == pytest.approx(0.006)
    for strange in ("nothing", "zero:nothing", "melts:rule"):
        with pytest.raises(DefinitionError):
            Bench(of, run, 3, [strange])


def test_a_fault_that_spoils_one_reading_spoils_one() -> None:
    of = program("pendulum")
    run = settings(of)
    slots = [Slot.read(f"swings.t.{r}.{t}") for r in range(1, 9) for t in range(1, 6)]
    changed = sum(Bench(of, run, 4, ["miscount"]).shown(s).value != Bench(of, run, 4).shown(s).value for s in slots)
    assert changed == 1


def test_doing_it_again_mends_a_slip_of_one_reading_and_no_fault_of_a_row() -> None:
    of = program("pendulum")
    slots = [Slot.read(f"swings.t.{r}.{t}") for r in range(1, 9) for t in range(1, 6)]
    run = settings(of)
    spoilt = next(
        s for s in slots if Bench(of, run, 4, ["miscount"]).shown(s).value != Bench(of, run, 4).shown(s).value
    )
    assert Bench(of, run, 4, ["miscount"]).shown(spoilt, 2).value == Bench(of, run, 4).shown(spoilt, 2).value
    of = program("led-threshold")
    run = settings(of)
    off = {
        (row, trial, take): Bench(of, run, 4, ["coated"]).shown(Slot.read(f"lamps.U.{row}.{trial}"), take).value
        - Bench(of, run, 4).shown(Slot.read(f"lamps.U.{row}.{trial}"), take).value
        for row in range(1, 7)
        for trial in (1, 2, 5)
        for take in (1, 2)
    }
    rows = {row for (row, _, _), size in off.items() if abs(size) > 0.1}
    assert len(rows) == 1
    assert all(size == pytest.approx(0.3, abs=0.05) for (row, _, _), size in off.items() if row in rows)


@pytest.mark.parametrize("experiment", some(sorted(catalogue.experiments())))
def test_nobody_who_reads_rightly_is_condemned(experiment: str) -> None:
    """Sixteen runs with truths of their own under every convention: constants of nature and chosen materials are what they are."""
    definition = catalogue.experiments()[experiment]
    for chosen in ({}, *({name: c} for name, o in definition.options.items() for c in o.choices if c != o.default)):
        of = catalogue.program_of(definition, options=chosen)
        condemned: dict[str, int] = {}
        for seed in range(16):
            analysis = analyse(of, runs.load(simulate(of, seed, options=chosen, hidden=True)))
            for name, result in analysis.results.items():
                condemned[name] = condemned.get(name, 0) + (verdict_of(analysis, result).kind == "disagrees")
        assert max(condemned.values(), default=0) <= 2, (chosen, condemned)


@pytest.mark.parametrize("experiment", sorted(catalogue.experiments()))
def test_every_reading_of_every_experiment_is_shown(experiment: str) -> None:
    definition = catalogue.experiments()[experiment]
    for chosen in ({}, *({name: c} for name, o in definition.options.items() for c in o.choices if c != o.default)):
        of = program(experiment, **chosen)
        run = settings(of)
        bench = Bench(of, run, 11)
        for spec in of.inputs:
            if not bench.is_read(spec) or (spec.optional and spec.series is None):
                continue
            rows = range(1, max(len(c) for c in run.series[spec.series].values()) + 1) if spec.series else [0]
            for row in rows:
                assert np.isfinite(bench.shown(Slot(spec.series or "", spec.name, row, 1)).value)


def test_a_place_that_is_none() -> None:
    of = program("pendulum")
    for place in ("swings.L.1", "swings.T.1.1", "swings.q.1.1", "quantities.x.1"):
        with pytest.raises(DefinitionError):
            Bench(of, settings(of), 1).shown(Slot.read(place))


@pytest.mark.parametrize(
    ("change", "place"),
    [
        (
            {"seek": {"first.q": {"sign": "needle", "width": "1[cm]", "low": "0[cm]", "high": "1[m]"}}},
            "simulate.seek.first.q",
        ),
        (
            {"seek": {"first.l": {"sign": "needle", "width": "1[s]", "low": "0[cm]", "high": "1[m]"}}},
            "simulate.seek.first.l.width",
        ),
        ({"settle": {"first.l": {"off": "1[mm]", "tau": "2[m]"}}}, "simulate.settle.first.l.tau"),
        ({"hidden": {"nothing": "0.1"}}, "simulate.hidden.nothing"),
        ({"hidden": {"R_1": "1[m]"}}, "simulate.hidden.R_1"),
        ({"motion": {"q": "swing"}}, "simulate.motion.q"),
        ({"turns": "1[m]"}, "simulate.turns"),
        ({"afloat": {"density": "2[g]", "liquid": "1[g/cm^3]"}}, "simulate.afloat.density"),
    ],
)
def test_what_the_screen_cannot_do_is_refused_with_its_place(change: dict, place: str) -> None:
    document = catalogue.experiments()["metre-bridge"].document()
    document["simulate"] = {**document["simulate"], **change}
    with pytest.raises(DefinitionError) as fault:
        catalogue.program_of(catalogue.resolve(document))
    assert fault.value.place == place


def test_samples_taken_once_more_or_in_another_trial_have_noise_of_their_own() -> None:
    of = program("newton-second-law")
    run = settings(of)
    seen = [
        Bench(of, run, 1).shown(Slot.read(place), take)
        for place, take in (("force.a.1.1", 1), ("force.a.1.1", 1), ("force.a.1.1", 2), ("force.a.1.2", 1))
    ]
    assert seen[0].unrest == seen[1].unrest
    assert len({s.unrest for s in seen}) == 3
    assert len({s.slope for s in seen}) == 1


def test_a_course_that_nobody_described_is_said_to_be_missing() -> None:
    document = catalogue.experiments()["torsion-balance"].document()
    del document["simulate"]["read"]["swing.s"]
    of = catalogue.program_of(catalogue.resolve(document))
    with pytest.raises(DefinitionError, match="is missing"):
        Bench(of, settings(program("torsion-balance")), 1).shown(Slot.read("swing.s.1.1"))


def test_a_block_swims_by_its_hidden_density() -> None:
    of = program("block-density")
    run = settings(of)
    for seed in range(20):
        density = truths(of, seed)["rho"]
        water = 998.2  # kg/m³ at 20 °C; the bowl is within a degree of it
        assert Bench(of, run, seed).afloat() == pytest.approx(density / water, rel=1e-3)


def test_nothing_swims_where_the_definition_puts_nothing_into_a_liquid() -> None:
    of = program("metre-bridge")
    with pytest.raises(DefinitionError, match="nothing is put into a liquid"):
        Bench(of, settings(of), 1).afloat()


def test_a_block_of_no_density_is_refused() -> None:
    document = catalogue.experiments()["block-density"].document()
    document["simulate"]["afloat"]["density"] = "0[g/cm^3]"
    of = catalogue.program_of(catalogue.resolve(document))
    with pytest.raises(DefinitionError, match="no density"):
        Bench(of, settings(program("block-density")), 1).afloat()


def responses(experiment: str, slot: str, seed: int = 5, faults: tuple[str, ...] = (), **document: Any) -> Found:
    run = runs.load({"format": "cavrel-run/1", "experiment": experiment, **document})
    place = Slot.read(slot)
    assert place is not None
    found = Bench(catalogue.program_of(catalogue.experiments()[experiment]), run, seed, faults).shown(place).found
    assert found is not None
    return found


def loud_places(found: Found) -> list[float]:
    """Where the sign is at its best, SI."""
    scale, size = np.linspace(found.low, found.high, len(found.response)), np.array(found.response)
    return [float(scale[i]) for i in range(1, len(size) - 1) if size[i] > 0.9 and size[i - 1] <= size[i] > size[i + 1]]


def test_a_tube_sounds_at_every_resonance() -> None:
    """A quarter, three and five quarters of a wave, the end correction once in each: the spacing is half a wave in the tube."""
    found = responses("resonance-tube", "tones.l.1.1", series={"tones": {"f": ["512"]}})
    places = loud_places(found)
    assert len(places) == 3
    half = 343.5 * 0.9955 / 512 / 2
    assert np.diff(places) == pytest.approx([half, half], rel=6e-3)
    assert places[0] == pytest.approx(half / 2 - 0.6 * 0.01735, abs=0.006)
    assert min(found.response) < 0.02
    assert (found.width, found.loops) == (None, ())


@pytest.mark.parametrize(("faults", "share"), [((), 1.0), (("stuck",), math.sqrt(0.93))])
def test_a_string_swings_in_any_number_of_loops(faults: tuple[str, ...], share: float) -> None:
    """Whatever is set in the row, the string stands in n loops at n times its ground tone; a pulley that sticks lowers them all."""
    typed = {"M": "403.2", "l": "126.4", "m_piece": "5.80", "l_piece": "312.0"}
    found = responses(
        "string-waves", "loops.f.2.1", faults=faults, quantities=typed, series={"loops": {"n": ["3", "2"]}}
    )
    places = loud_places(found)
    wanted = share * math.sqrt(0.4032 * 9.81 / 1.86e-3) / (2 * 1.264)
    assert np.diff(places) == pytest.approx(np.full(len(places) - 1, places[0]), rel=0.02)
    assert places[0] == pytest.approx(wanted, rel=0.06)  # the mass of this run's string is its own
    scale = np.linspace(found.low, found.high, len(found.response))
    assert [found.loops[int(np.argmin(abs(scale - place)))] for place in places] == list(range(1, len(places) + 1))
    unspoilt = responses("string-waves", "loops.f.2.1", quantities=typed, series={"loops": {"n": ["3", "2"]}})
    assert places[1] / loud_places(unspoilt)[1] == pytest.approx(share, abs=0.004)


@pytest.mark.parametrize(("faults", "reversed_beyond"), [((), False), (("stray",), True)])
def test_a_photocells_current_ends_and_turns_round_only_in_stray_light(
    faults: tuple[str, ...], reversed_beyond: bool
) -> None:
    found = responses("photoelectric", "lines.U.1.1", faults=faults, series={"lines": {"lam": ["435.8"]}})
    scale, current = np.linspace(found.low, found.high, len(found.response)), np.array(found.response)
    assert (np.diff(current) <= 1e-9).all(), "more voltage never gives more current"
    ends = scale[np.argmax(current <= 1e-5)]
    unfaulted = responses("photoelectric", "lines.U.1.1", series={"lines": {"lam": ["435.8"]}})
    right = scale[np.argmax(np.array(unfaulted.response) <= 1e-5)]
    assert right - ends == pytest.approx(0.08 if reversed_beyond else 0.0, abs=0.004)
    assert (current[-1] < -0.02) == reversed_beyond
    # The knee: a tenth of a volt before its end little of the current is left, so that a coarse meter calls it nothing before it is.
    assert 0.0 < current[np.searchsorted(scale, right - 0.02)] - current[-1] < 0.02


def test_a_rule_sinks_on_the_side_away_from_a_pivot_that_was_moved() -> None:
    bare = responses("balanced-rule", "quantities.c.1")
    assert bare.width is not None and bare.width < 0
    run = {"quantities": {"c": "50.1", "p_2": "45.0", "m_a": "100", "x_a": "20", "m_b": "100"}}
    load = responses("rule-equilibrium", "quantities.x_b.1", **run)
    assert load.width is not None and load.width > 0
