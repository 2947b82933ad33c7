"""Entries of the plan: what they do to the sheet, how they read, what they refuse; and zero readings in the numbers."""

import math
from datetime import datetime, timezone

import numpy as np
import pytest

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.definition.program import compile_program
from cavrel.core.errors import CavrelError, RunError
from cavrel.core.logbook import KINDS, Entry, EntryError, assemble, check_entry
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.progress import progress
from tests.core.machine import definition, run
from tests.core.test_logbook import PENDULUM, book, reading

GOOD = [
    ("settings", "settings:swings.L", {"texts": ["60", "90.5", "1.2 m"]}, "3 set points: 60, 90.5, 1.2 m cm"),
    ("settings", "settings:swings.L", {"texts": []}, "as suggested"),
    ("instrument", "instrument:watch", {"kind": "photogate timer"}, "photogate timer"),
    (
        "instrument",
        "instrument:rule",
        {"label": "dressmaker's tape", "least_count": "5 mm"},
        "dressmaker's tape, least count 5 mm",
    ),
    ("instrument", "instrument:rule", {}, "as the experiment specifies"),
    ("zero", "zero:rule", {"text": "0.3"}, "zero reading 0.3"),
    ("zero", "zero:rule", {"text": ""}, "no zero reading"),
    ("tick", "tick:caution.0", {"done": True}, "read"),
    ("tick", "tick:check.watch", {"done": True}, "It shows 0.00 before the start.: checked"),
    ("tick", "tick:apparatus.1", {"done": False}, "not yet"),
    ("words", "words:reason.range", {"text": "the stairs"}, "“the stairs”"),
    ("words", "words:role.times", {"text": "Ines"}, "“Ines”"),
    ("words", "words:foreseen.g", {"text": "9.8"}, "“9.8”"),
    ("foresee", "foresee:power", {"shape": "square root"}, "square root"),
]
BAD = [
    ("settings", "settings:swings.t", {"texts": ["1"]}, "names no column that is set"),
    ("settings", "settings:swings.L", {"texts": ["60", "long"]}, "set point 2"),
    ("settings", "settings:swings.L", {"texts": "60"}, "must be a list"),
    ("settings", "settings:swings.L", {"texts": ["60 kg"]}, "set point 1"),
    ("instrument", "instrument:clock", {"label": "x"}, "names no instrument"),
    ("instrument", "instrument:watch", {"colour": "red"}, "an instrument says"),
    ("instrument", "instrument:watch", {"least_count": "1 kg"}, "cannot be a part of what is read in s"),
    ("instrument", "instrument:watch", {"least_count": "tiny"}, "tiny"),
    ("instrument", "instrument:watch", {"calibration": "1 s"}, "is relative"),
    ("zero", "zero:rule", {"text": "crooked"}, "crooked"),
    ("zero", "zero:rule", {"text": "1 s"}, "s"),
    ("zero", "zero:clock", {"text": "1"}, "names no instrument"),
    ("tick", "tick:caution.7", {"done": True}, "names nothing to tick"),
    ("tick", "tick:caution.0", {"done": "yes"}, "true or false"),
    ("tick", "caution.0", {"done": True}, "no slot"),
    ("words", "words:reason.mood", {"text": "x"}, "no slot for words"),
    ("words", "words:role.times", {"text": "x" * 81}, "up to 80"),
    ("words", "words:foreseen.h", {"text": "x"}, "no slot for words"),
    ("foresee", "foresee:cubic", {"shape": "square"}, "names no graph"),
    ("foresee", "foresee:power", {"shape": "wavy"}, "is none of"),
    ("without", "without:swings", {"on": True}, "names no table that may be left out"),
]


@pytest.mark.parametrize(("kind", "slot", "body", "words"), GOOD)
def test_what_a_plan_holds_is_taken_and_read_in_words(kind: str, slot: str, body: dict, words: str) -> None:
    check_entry(PENDULUM, kind, slot, body)
    _, what = KINDS[kind].words(PENDULUM, {}, slot.partition(":")[2], body)
    assert words in what
    assemble(PENDULUM, book((kind, slot, body)))


@pytest.mark.parametrize(("kind", "slot", "body", "what"), BAD)
def test_what_does_not_fit_is_refused(kind: str, slot: str, body: dict, what: str) -> None:
    with pytest.raises(EntryError) as fault:
        check_entry(PENDULUM, kind, slot, body)
    assert what in str(fault.value)


def test_a_plan_stands_in_the_run_document_and_can_be_taken_back() -> None:
    lines = [
        ("settings", "settings:swings.L", {"texts": ["60", "120", "180"]}),
        ("trials", "trials:swings.t", {"count": 3, "planned": True}),
        ("instrument", "instrument:watch", {"kind": "photogate timer"}),
        ("zero", "zero:rule", {"text": "0.3"}),
        ("words", "words:reason.range", {"text": "the stairs"}),
        ("words", "words:foreseen.g", {"text": "9.8"}),
        ("foresee", "foresee:power", {"shape": "square root"}),
        ("tick", "tick:caution.0", {"done": True}),
    ]
    state = assemble(PENDULUM, book(*lines))
    assert state.rows["swings"] == 3
    assert state.trials["swings.t"] == 3
    assert state.run.plan.settings == {"swings.L": ["60", "120", "180"]}
    assert state.run.plan.trials == {"swings.t": 3}
    assert state.run.plan.reasons == {"range": "the stairs"}
    assert state.run.plan.foreseen == {"g": "9.8"}
    assert state.run.instruments == {"watch": {"kind": "photogate timer"}}
    assert state.run.zeros == {"rule": "0.3"}
    assert state.run.expected == {"power": "square root"}
    assert set(state.ticks) == {"caution.0"}
    again = runs.load(state.run.model_dump(mode="json", by_alias=True))
    assert again == state.run, "what is exported is a run document"
    undone = assemble(PENDULUM, book(*lines, ("undo", "settings:swings.L", {"undoes": 1, "kind": None})))
    assert undone.rows["swings"] == 8
    untold = assemble(PENDULUM, book(*lines, ("tick", "tick:caution.0", {"done": False})))
    assert not untold.ticks


def test_progress_follows_the_plan_and_added_trials_do_not_count_before_they_are_used() -> None:
    planned = [
        ("settings", "settings:swings.L", {"texts": ["60", "120"]}),
        ("trials", "trials:swings.t", {"count": 2, "planned": True}),
    ]
    assert progress(assemble(PENDULUM, book(*planned))).wanted == 4
    assert progress(assemble(PENDULUM, book(("trials", "trials:swings.t", {"count": 9})))).wanted == 40
    more = assemble(PENDULUM, book(*planned, ("rows", "rows:swings", {"count": 5})))
    assert progress(more).wanted == 4
    assert more.rows["swings"] == 5


def test_what_was_planned_under_another_convention_breaks_nothing() -> None:
    bridge = catalogue.experiments()["metre-bridge"]
    for name, option in bridge.options.items():
        for choice in option.choices:
            state = assemble(
                bridge,
                book(
                    ("settings", "settings:nowhere.x", {"texts": ["1"]}),
                    ("instrument", "instrument:nothing", {"label": "x"}),
                    ("foresee", "foresee:nothing", {"shape": "square"}),
                    ("option", f"option:{name}", {"choice": choice}),
                ),
            )
            assert not state.run.plan.settings
            analyse(catalogue.program_of(bridge, state.run.instruments, state.run.options), state.run)


def test_an_optional_table_can_be_left_out() -> None:
    grating = catalogue.experiments()["grating"]
    check_entry(grating, "without", "without:fringes", {"on": True})
    state = assemble(grating, book(("without", "without:fringes", {"on": True})))
    assert state.run.plan.without == ["fringes"]


RULED = {
    "instruments": {"rule": {"least_count": "1 mm", "zero": "2 mm"}},
    "series": {
        "s": {
            "label": "Lengths",
            "columns": {
                "l": {"label": "l", "unit": "cm", "role": "measured", "instrument": "rule"},
                "d": {"label": "d", "unit": "cm", "role": "measured", "instrument": "rule", "difference": True},
            },
        }
    },
}


def test_a_zero_reading_is_taken_off_once_and_its_own_u_takes_the_zeros_place() -> None:
    made = definition(**RULED, results={"m": {"label": "mean", "formula": "mean(s.l)", "unit": "cm"}})
    program = catalogue.program_of(made)
    body = {
        "format": "cavrel-run/1",
        "experiment": made.document(),
        "series": {"s": {"l": ["10.0", "12.0"], "d": ["3.0", "4.0"]}},
    }
    plain, zeroed = (analyse(program, runs.load({**body, **more})) for more in ({}, {"zeros": {"rule": "0.4"}}))
    np.testing.assert_allclose(zeroed.values["s.l"].value, plain.values["s.l"].value - 0.004)
    (
        np.testing.assert_allclose(zeroed.values["s.d"].value, plain.values["s.d"].value),
        "a difference of two readings has lost it already",
    )
    budget = {source.source: source.contribution for source in zeroed.results["m"].budget}
    assert budget["rule, zero as read"] == pytest.approx(1e-3 / math.sqrt(12))
    assert "rule, zero" not in budget


@pytest.mark.parametrize(
    ("zeros", "where"),
    [({"ruler": "1"}, "zeros.ruler"), ({"rule": "one"}, "zeros.rule"), ({"rule": "1 s"}, "zeros.rule")],
)
def test_a_zero_that_cannot_be_is_refused_with_its_place(zeros: dict, where: str) -> None:
    with pytest.raises(RunError) as fault:
        run(catalogue.program_of(definition(**RULED)), zeros=zeros)
    assert fault.value.place == where


def test_a_reading_over_a_planned_instrument_keeps_its_text() -> None:
    state = assemble(
        PENDULUM, book(reading("swings.t.1.1", "31.11"), ("instrument", "instrument:watch", {"least_count": "0.2 s"}))
    )
    assert state.run.series["swings"]["t"] == [["31.11"]]
    program = catalogue.program_of(PENDULUM, state.run.instruments)
    assert program.gauges["watch"].least_count == 0.2
    assert program.gauges["watch"].reaction == 0.1


def test_a_trial_of_a_quantity_is_left_out_like_any_other() -> None:
    made = definition(
        quantities={"d": {"label": "Width", "unit": "mm", "repeats": 4}},
        results={"w": {"label": "Width", "formula": "mean(d)", "unit": "mm"}},
    )
    now = datetime.now(timezone.utc)
    texts = ["8.1", "8.3", "18.2", "8.2"]
    body = [("reading", f"quantities.d.{i}", {"text": text}) for i, text in enumerate(texts, 1)]
    body += [
        ("leave-out", "out:quantities.d.3", {"reason": "wrong jaw"}),
        ("leave-out", "out:quantities.x.1", {"reason": "none"}),
    ]
    lines = [
        Entry(id=i, kind=k, slot=s, body=b, author="", made_at=now, saved_at=now) for i, (k, s, b) in enumerate(body, 1)
    ]
    for kind, slot, said in body[:-1]:
        check_entry(made, kind, slot, said)
    with pytest.raises(CavrelError):
        check_entry(made, *body[-1])
    state = assemble(made, lines)
    assert state.run.excluded == {"quantities": {"d.3": "wrong jaw"}}
    found = analyse(compile_program(made, {}), runs.load(state.run.model_dump(mode="json")))
    assert found.results["w"].value == pytest.approx(np.mean([8.1, 8.3, 8.2]) * 1e-3)
    assert found.results["w"].u == pytest.approx(np.std([8.1, 8.3, 8.2], ddof=1) / np.sqrt(3) * 1e-3, rel=0.1)
    with pytest.raises(CavrelError, match="names no row"):
        runs.load({**state.run.model_dump(mode="json"), "excluded": {"loads": {"d.3": "x"}}})
