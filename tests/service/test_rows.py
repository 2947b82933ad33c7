"""A table that is made with the help of what stood before a save is the one that would be made without it."""

import random
from dataclasses import replace
from datetime import datetime, timezone

import pytest

from cavrel import catalogue
from cavrel.core import laboratory
from cavrel.core.logbook import EMPTY, Entry, as_written, slots_of
from cavrel.core.logbook import run as runs
from cavrel.core.simulate import simulate
from cavrel.present import page_changes, tables
from cavrel.present.table_layout import Field, Row
from cavrel.service.run_view import RunView, compute, unstarted

NOW = datetime(2026, 11, 27, tzinfo=timezone.utc)


def rows(opened: RunView) -> list[Row]:
    return [row for table in tables.tables(opened) for row in table.rows]


def fields(opened: RunView) -> dict[str, Field]:
    return {field.slot: field for row in rows(opened) for field in row.fields}


def saved(before: RunView, number: int, kind: str, slot: str, **body: object) -> RunView:
    """The same run with one more entry, as a save finds it; as it was where the entry says nothing new."""
    made = as_written([entry for entry in before.entries if entry.slot == slot], kind, body)
    if made is None:
        return before
    entry = Entry(id=number, kind=made[0], slot=slot, body=made[1], author="", made_at=NOW, saved_at=NOW)
    entries = (*before.entries, entry)
    return compute(before.run, before.base, entries, before.laboratory, EMPTY.with_entries(entries))


@pytest.mark.parametrize("experiment", ["pendulum", "metre-bridge", "half-life", "projectile-range", "young-modulus"])
def test_every_save_gives_the_table_that_a_look_gives(experiment: str) -> None:
    definition = catalogue.experiments()[experiment]
    slots = slots_of(runs.load(simulate(catalogue.program_of(definition), 21)))
    draw = random.Random(experiment)
    opened = unstarted(definition, laboratory.EMPTY, {}, slots[: len(slots) // 2])
    tables.tables(opened)
    kept = 0
    for number in range(1000, 1040):
        slot, text = draw.choice(slots)
        series = slot.partition(".")[0]
        kinds = [("reading", slot, {"text": draw.choice([text, "1", "", "x", f"{text}9", "999"])})] * 8
        kinds += [
            ("leave-out", slot, {"reason": "bumped"}),
            ("undo", slot, {}),
            ("rows", f"rows:{series}", {"count": draw.randint(8, 14)}),
            ("mark", f"mark:{series}.1", {"text": draw.choice(["wet", "dry"])}),
        ]
        kind, place, body = draw.choice(kinds)
        after = saved(opened, number, kind, place, **body)
        if after is opened:
            continue
        sent, computed = page_changes.cells(after, opened)
        look = replace(after, shown={})
        assert tables.tables(after) == tables.tables(look)
        was, now = fields(opened), fields(look)
        assert {field.slot for field in sent if field.slot in now} == {s for s in now if now[s] != was.get(s)}
        stood = dict(cell for row in rows(opened) for cell in row.computed)
        assert computed == [c for row in rows(look) for c in row.computed if stood.get(c[0]) != c[1]]
        kept += sum(a.fields is b.fields for a, b in zip(rows(after), rows(opened), strict=False))
        opened = after
    assert kept > 20, "no row was taken over"
