"""Entries folded in one after the other amount to what all of them amount to, whoever asks and in whatever order."""

from datetime import datetime, timedelta, timezone
from itertools import pairwise

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cavrel import catalogue
from cavrel.core import laboratory as laboratories
from cavrel.core.logbook import EMPTY, Entry, as_written, assemble, sheet_of
from cavrel.service import opening
from cavrel.service.opening import follow, load, open_run
from cavrel.service.run_view import unstarted
from cavrel.store.pool import Pool, transaction
from tests.store.test_store import append, entry
from tests.store.test_store import run as run

PENDULUM = catalogue.experiments()["pendulum"]
BEGAN = datetime(2026, 11, 19, 19, 0, tzinfo=timezone.utc)
SLOTS = ["swings.t.1.1", "swings.t.1.2", "swings.L.1.1", "quantities.N.1"]

moves = st.lists(
    st.one_of(
        st.tuples(st.just("reading"), st.sampled_from(SLOTS), st.sampled_from(["31.1", "31.2", "", "60"])),
        st.tuples(st.just("undo"), st.sampled_from([*SLOTS, "out:swings.1"]), st.just("")),
        st.tuples(st.just("leave-out"), st.just("out:swings.1"), st.sampled_from(["spoilt", "moved"])),
        st.tuples(st.just("take-back"), st.just("out:swings.1"), st.just("")),
        st.tuples(st.just("note"), st.just("note:0123456789ab"), st.just("seen")),
    ),
    max_size=24,
)


def written(lines: list[tuple[str, str, str]]) -> list[Entry]:
    """The entries as the store would keep them."""
    kept: list[Entry] = []
    for kind, slot, text in lines:
        body = {"reading": {"text": text}, "note": {"text": text}, "leave-out": {"reason": text}}.get(kind, {})
        made = as_written([e for e in kept if e.slot == slot], kind, body)
        if made is not None:
            moment = BEGAN + timedelta(seconds=len(kept))
            kept.append(
                Entry(
                    id=len(kept) + 1,
                    kind=made[0],
                    slot=slot,
                    body=made[1],
                    author="Wick",
                    made_at=moment,
                    saved_at=moment,
                )
            )
    return kept


@given(moves, st.lists(st.integers(0, 24), max_size=6))
@settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_folding_in_parts_is_folding_at_once(lines: list[tuple[str, str, str]], cuts: list[int]) -> None:
    entries = written(lines)
    book = EMPTY
    marks = [0, *sorted(min(c, len(entries)) for c in cuts), len(entries)]
    for begin, end in pairwise(marks):
        book = book.with_entries(entries[begin:end])
    assert sheet_of(PENDULUM, book) == assemble(PENDULUM, entries)


def test_a_book_is_not_changed_by_what_follows_it() -> None:
    first = EMPTY.with_entries(written([("reading", "swings.t.1.1", "31.1")]))
    before = dict(first.history)
    first.with_entries(written([("reading", "swings.t.1.1", "31.1"), ("reading", "swings.t.1.1", "32.1")])[1:])
    assert first.history == before
    assert first.corrections == {}


def test_only_new_entries_are_read(pool: Pool, run: int, monkeypatch: pytest.MonkeyPatch) -> None:
    append(pool, run, *(entry("reading", f"swings.t.1.{i}", text=f"31.{i}") for i in range(1, 6)))
    assert open_run(pool, run).state.count == 5
    read: list[int] = []
    plain = opening.entry_store.after
    monkeypatch.setattr(opening.entry_store, "after", lambda c, r, last: read.append(last) or plain(c, r, last))
    newest = append(pool, run, entry("reading", "swings.t.2.1", text="38.1"))[0]
    opened = open_run(pool, run)
    assert opened.state.count == 6
    assert read == [newest.id - 1]
    assert open_run(pool, run) is opened
    assert len(read) == 1


def test_a_run_loaded_before_a_save_is_no_older_when_followed(pool: Pool, run: int) -> None:
    """Two requests overlap: the one that read first must not take the newer state's place."""
    append(pool, run, entry("reading", "swings.t.1.1", text="31.1"))
    with transaction(pool) as connection:
        early = load(connection, run)
    append(pool, run, entry("reading", "swings.t.1.2", text="31.2"))
    late = open_run(pool, run)
    assert follow(early).state.count in (1, 2)
    assert open_run(pool, run).entries == late.entries


def test_an_instrument_of_the_laboratory_that_does_not_fit_is_named_and_the_run_opens() -> None:
    """As where an experiment was written after the laboratory was laid out."""
    odd = laboratories.load(
        {"instruments": {"rule": {"label": "rule of grams", "kind": "metre rule", "least_count": "1 g", "usual": True}}}
    )
    opened = unstarted(PENDULUM, odd, {})
    assert [f.title for f in opened.findings if f.code == "clashing"] == [
        "An instrument or a value of the laboratory does not fit this experiment"
    ]
    assert opened.analysis.program.gauges["rule"].label == "metre rule"
