"""The sheet that entries amount to."""

from datetime import datetime, timedelta, timezone

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cavrel import catalogue
from cavrel.core.logbook import KINDS, Entry, EntryError, assemble, check_entry, undo_of

PENDULUM = catalogue.experiments()["pendulum"]
BEGAN = datetime(2026, 11, 19, 19, 0, tzinfo=timezone.utc)


def book(*lines: tuple[str, str, dict]) -> list[Entry]:
    return [
        Entry(
            id=i + 1,
            kind=kind,
            slot=slot,
            body=body,
            author="Wick",
            made_at=BEGAN + timedelta(seconds=i),
            saved_at=BEGAN + timedelta(seconds=i),
        )
        for i, (kind, slot, body) in enumerate(lines)
    ]


def reading(slot: str, text: str, **more) -> tuple[str, str, dict]:
    return ("reading", slot, {"text": text, **more})


def test_the_sheet_is_the_latest_entry_of_each_slot() -> None:
    state = assemble(
        PENDULUM,
        book(
            reading("swings.L.1.1", "60.0"),
            reading("swings.t.1.1", "13.1"),
            ("correction", "swings.t.1.1", {"text": "31.1", "reason": "digits swapped"}),
        ),
    )
    assert state.run.series == {"swings": {"L": ["60.0"], "t": [["31.1"]]}}
    correction = state.corrections["swings.t.1.1"]
    assert (correction.texts, correction.text, correction.reason) == (("13.1",), "31.1", "digits swapped")


def test_rows_out_of_order_and_gaps() -> None:
    state = assemble(
        PENDULUM,
        book(reading("swings.t.3.2", "44.0"), reading("swings.L.9.1", "150.0"), reading("quantities.N.1", "10")),
    )
    assert state.run.series["swings"]["t"] == [[], [], ["", "44.0"]]
    assert state.run.quantities == {"N": "10"}
    assert state.rows["swings"] == 9
    assert state.trials["swings.t"] == 5


def test_left_out_and_taken_back() -> None:
    out = ("leave-out", "out:swings.t.4.2", {"reason": "miscounted"})
    assert assemble(PENDULUM, book(out)).run.excluded == {"swings": {"t.4.2": "miscounted"}}
    assert assemble(PENDULUM, book(out, ("take-back", "out:swings.t.4.2", {}))).run.excluded == {}


def test_undo_and_undo_of_an_undo() -> None:
    lines = book(reading("swings.t.1.1", "31.1"), reading("swings.t.1.1", "13.1"))
    undone = [
        *lines,
        Entry(
            id=3, kind="undo", slot="swings.t.1.1", body=undo_of(lines), author="Wick", made_at=BEGAN, saved_at=BEGAN
        ),
    ]
    state = assemble(PENDULUM, undone)
    assert state.run.series["swings"]["t"] == [["31.1"]]
    assert state.corrections == {}
    again = [
        *undone,
        Entry(
            id=4, kind="undo", slot="swings.t.1.1", body=undo_of(undone), author="Wick", made_at=BEGAN, saved_at=BEGAN
        ),
    ]
    assert assemble(PENDULUM, again).run.series["swings"]["t"] == [["13.1"]]


def test_undo_of_a_first_reading_empties_the_cell() -> None:
    lines = book(reading("swings.t.1.1", "31.1"))
    state = assemble(
        PENDULUM,
        [
            *lines,
            Entry(
                id=2,
                kind="undo",
                slot="swings.t.1.1",
                body=undo_of(lines),
                author="Wick",
                made_at=BEGAN,
                saved_at=BEGAN,
            ),
        ],
    )
    assert state.run.series == {}
    assert state.count == 2


def test_two_pages_that_did_not_know_of_each_other() -> None:
    state = assemble(
        PENDULUM, book(reading("swings.t.1.1", "31.1", over=None), reading("swings.t.1.1", "31.7", over=None))
    )
    assert state.clashes == {"swings.t.1.1": "31.1"}
    known = assemble(
        PENDULUM, book(reading("swings.t.1.1", "31.1", over=None), reading("swings.t.1.1", "31.7", over=1))
    )
    assert known.clashes == {}


def test_a_cleared_cell_is_empty_and_its_past_is_kept() -> None:
    state = assemble(
        PENDULUM, book(reading("swings.t.1.1", "31.1"), ("correction", "swings.t.1.1", {"text": "", "was": "31.1"}))
    )
    assert state.run.series == {}
    assert state.corrections["swings.t.1.1"].texts == ("31.1",)


@pytest.mark.parametrize(
    ("kind", "slot", "body", "what"),
    [
        ("reading", "swings.t.0.1", {"text": "1"}, "no place"),
        ("reading", "swings.T.1.1", {"text": "1"}, "computed"),
        ("reading", "swings.q.1.1", {"text": "1"}, "no place"),
        ("reading", "swings.t.1000.1", {"text": "1"}, "999 rows"),
        ("reading", "quantities.Q.1", {"text": "1"}, "no place"),
        ("reading", "swings.t.1.1", {}, "has a text"),
        ("reading", "swings.t.1.1", {"text": "x" * 5000}, "may have 200 characters"),
        ("leave-out", "out:swings.t.1.1", {"reason": " "}, "needs a reason"),
        ("leave-out", "out:swings.t.1", {"reason": "x"}, "no row or trial"),
        ("leave-out", "swings.1", {"reason": "x"}, "no row or trial"),
        ("rows", "rows:swings", {"count": 0}, "whole number"),
        ("rows", "rows:swings", {"count": "8"}, "whole number"),
        ("trials", "trials:swings", {"count": 3}, "no table"),
        ("note", "note:abc", {"text": "x"}, "no slot"),
        ("note", "note:0123456789ab", {"text": ""}, "empty note"),
        ("stands", "stands:what", {}, "no slot"),
        ("delete", "swings.t.1.1", {}, "unknown kind"),
    ],
)
def test_entries_no_page_would_send_are_refused(kind: str, slot: str, body: dict, what: str) -> None:
    with pytest.raises(EntryError, match=what):
        check_entry(PENDULUM, kind, slot, body)


@given(st.sampled_from(["reading", "leave-out", "rows", "stands", "note"]), st.text(max_size=40))
def test_no_slot_breaks_anything(kind: str, slot: str) -> None:
    try:
        check_entry(PENDULUM, kind, slot, {"text": "1", "reason": "x", "count": 3})
    except EntryError:
        return
    assemble(PENDULUM, book((kind, slot, {"text": "1", "reason": "x", "count": 3})))


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ({"begin": 0.5, "end": 1.9}, "stretch from 0.5 to 1.9 s chosen"),
        ({"begin": None, "end": 1.9}, "stretch from the start to 1.9 s chosen"),
        ({"begin": 0.5, "end": None}, "stretch from 0.5 s to the end chosen"),
    ],
)
def test_a_stretch_open_at_one_end_is_said_so(body: dict, words: str) -> None:
    assert KINDS["stretch"].words(PENDULUM, {}, "swings.t.1", body)[1] == words
