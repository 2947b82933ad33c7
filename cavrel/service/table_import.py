"""A table imported into a run: looked at first, taken whole or not at all, and taken back whole."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta, timezone
from typing import Any
from uuid import UUID, uuid5

from cavrel.core.document.grid import Grid, Heading, decimal_signs, head_of, headings, plain, summaries
from cavrel.core.document.matching import Cell, Target, cells, guess
from cavrel.core.errors import CavrelError, ReadingError
from cavrel.core.logbook import Entry, check_entry, effective
from cavrel.core.logbook.slots import MOST_ROWS, MOST_TRIALS, Slot
from cavrel.core.quantity.reading import read
from cavrel.core.words import counted
from cavrel.service.opening import follow, load
from cavrel.service.run_view import RunView, compute
from cavrel.store import entries as entry_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Pool, transaction

MOST_CELLS = 20_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Choice:
    """What a person chose, or left to the guess.

    ``series``: the table it goes into.
    ``turned``: rows for columns.
    ``stacked``: trials stand one under the other.
    ``head``: rows of headings, None for the guess.
    ``first``: the row that it begins in, 0 for the first empty one.
    ``targets``: by column, as texts; those not named are guessed.
    ``marks``: decimal signs by column.
    ``rest``: what cannot be read is left aside.
    """

    series: str
    turned: bool = False
    stacked: bool = False
    head: int | None = None
    first: int = 0
    targets: Mapping[int, str]
    marks: Mapping[int, str]
    rest: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Looked:
    """What a table would give.

    ``grid``, ``head``, ``headings``, ``targets``: as understood.
    ``first``: the row that it begins in.
    ``cells``: the readings.
    ``faults``: (row, column, what) of the table, for cells that cannot be read.
    ``replaced``: slot -> the text that stands there and differs.
    ``differ``: what a computed column of the table says otherwise than its formula, as sentences.
    ``asked``: columns that are read, from 0, whose numbers can be meant in two ways and that nobody has chosen for -> one of them.
    ``aside``: (row, word) of rows that were computed from the others.
    ``what``: why nothing can be imported, empty where it can.
    """

    grid: Grid
    head: int
    headings: Sequence[Heading]
    targets: Sequence[Target]
    first: int
    cells: Sequence[Cell]
    faults: Sequence[tuple[int, int, str]]
    replaced: Mapping[str, str]
    differ: Sequence[str]
    asked: Mapping[int, str]
    aside: Sequence[tuple[int, str]]
    what: str


def look(opened: RunView, grid: Grid, choice: Choice) -> Looked:
    """What ``grid`` would give into a run; nothing is written."""
    grid = grid.turned() if choice.turned else grid
    head = head_of(grid) if choice.head is None else min(max(choice.head, 0), len(grid.rows) - 1)
    found = headings(grid, head)
    targets = guess(opened.definition, choice.series, found)
    for i, text in choice.targets.items():
        if 0 <= i < len(targets):
            targets[i] = Target.read(text)
    first = choice.first or _first_empty(opened, choice.series)
    columns = opened.definition.series[choice.series].columns
    signs = decimal_signs([[row[c] for row in grid.rows[head:]] for c in range(len(targets))])
    marks = {c: choice.marks.get(c, sign.mark) for c, sign in enumerate(signs)}
    asked = {
        c: sign.seen
        for c, sign in enumerate(signs)
        if targets[c].column in columns and not sign.sure and c not in choice.marks
    }
    base: dict[str, Any] = {
        "grid": grid,
        "head": head,
        "headings": found,
        "targets": targets,
        "first": first,
        "asked": asked,
        "aside": [(head + i + 1, word) for i, word in summaries(grid.rows[head:]).items()],
    }
    try:
        imported = cells(opened.definition, choice.series, grid, head, found, targets, first, marks, choice.stacked)
        _fits(imported)
    except CavrelError as fault:
        return Looked(**base, cells=(), faults=(), replaced={}, differ=(), what=str(fault))
    faults = _faults(opened, imported)
    good = [cell for cell in imported if (cell.row, cell.at) not in {(r, c) for r, c, _ in faults}]
    standing = {slot: str(effective(e)[1].get("text", "")) for slot, e in opened.state.latest.items()}
    replaced = {c.slot: standing[c.slot] for c in good if standing.get(c.slot, "").strip() not in ("", c.text)}
    what = ""
    if not good:
        what = "no column is assigned to one that is read" if not imported else "none of its cells can be read"
    elif faults and not choice.rest:
        what = f"{counted(len(faults), 'cell')} cannot be read; correct {'it' if len(faults) == 1 else 'them'} in the table, or skip"
    if asked and not what:
        what = "; ".join(
            f"“{seen}” of column {c + 1} can be read in two ways: choose one above" for c, seen in asked.items()
        )
    differ = _differ(opened, choice, grid, head, targets, first, good, marks) if good and not choice.stacked else ()
    return Looked(**base, cells=good, faults=faults, replaced=replaced, differ=differ, what=what)


def _first_empty(opened: RunView, series: str) -> int:
    """The row after the last that holds a reading."""
    last = 0
    for column in opened.state.run.series.get(series, {}).values():
        for i, cell in enumerate(column, 1):
            texts = cell if isinstance(cell, list) else [cell]
            last = max(last, i) if any(text and text.strip() for text in texts) else last
    return last + 1


def _fits(imported: Sequence[Cell]) -> None:
    """Raises CavrelError where two columns go to one place, or there are too many."""
    seen: dict[str, Cell] = {}
    if len(imported) > MOST_CELLS:
        raise CavrelError("", f"holds {len(imported)} readings, and {MOST_CELLS} are the most at once")
    for cell in imported:
        other = seen.setdefault(cell.slot, cell)
        if other is not cell and other.at != cell.at:
            raise CavrelError(f"column {cell.at}", f"goes where column {other.at} goes; leave one of them aside")
        place = Slot.read(cell.slot)
        if place is None or place.row > MOST_ROWS or place.trial > MOST_TRIALS:
            raise CavrelError(
                f"row {cell.row}", f"is beyond the size of a table: {MOST_ROWS} rows and {MOST_TRIALS} trials"
            )


def _faults(opened: RunView, imported: Sequence[Cell]) -> list[tuple[int, int, str]]:
    found = []
    for cell in imported:
        spec = opened.program.input_of[".".join(cell.slot.split(".")[:2])]
        try:
            check_entry(opened.definition, "reading", cell.slot, {"text": cell.text})
            read(cell.text, spec.unit.text, spec.difference)
        except (ReadingError, CavrelError) as fault:
            found.append((cell.row, cell.at, f"“{cell.text[:30]}”: {fault.what}"))
    return found


def _differ(
    opened: RunView,
    choice: Choice,
    grid: Grid,
    head: int,
    targets: Sequence[Target],
    first: int,
    good: Sequence[Cell],
    marks: Mapping[int, str],
) -> list[str]:
    """Cells of computed columns that their formulas do not give, within half of their last digit."""
    body = opened.definition.series[choice.series]
    computed = [
        (c, t.column) for c, t in enumerate(targets) if t.column in body.columns and body.columns[t.column].formula
    ]
    if not computed:
        return []
    now = datetime.now(timezone.utc)
    start = opened.last
    extra = tuple(
        Entry(id=start + i, kind="reading", slot=c.slot, body={"text": c.text}, author="", made_at=now, saved_at=now)
        for i, c in enumerate(good, 1)
    )
    after = compute(opened.run, opened.base, (*opened.entries, *extra), opened.laboratory)
    found = []
    summary_rows = summaries(grid.rows[head:])
    lines = [i for i in range(head, len(grid.rows)) if i - head not in summary_rows]
    for c, column in computed:
        values = after.analysis.values[f"{choice.series}.{column}"]
        for i, line in enumerate(lines):
            text = plain(grid.rows[line][c], marks[c])
            at = first + i - 1
            if not text or at >= len(values.value):
                continue
            try:
                typed = read(text, values.unit.text)
            except ReadingError:
                continue
            value = float(values.value[at])
            if abs(typed.value - value) > 0.51 * typed.last_digit + 1e-9 * abs(value):
                digits = max(len(text.lstrip("-0.").replace(".", "")), 3)
                given = f"{values.unit.from_si(value):.{min(digits, 10)}g}"
                found.append(f"Row {line + 1}, {body.columns[column].label}: {text} typed, {given} from its formula")
    return found


def take(pool: Pool, run: int, grid: Grid, file: str, choice: Choice, author: str, key: UUID) -> Looked | None:
    """Bring a table in as one act of the logbook; the same ``key`` again brings nothing twice. None where there is no such run; what stands
    in the way is in ``what``, and nothing is written then. Raises DatabaseAway."""
    with transaction(pool) as connection:
        entry_store.lock(connection, run)
        loaded = load(connection, run)
        if loaded is None:
            return None
        opened = follow(loaded)
        if f"imported:{key}" in opened.state.latest:
            return look(opened, grid, choice)
        looked = look(opened, grid, choice)
        if looked.what:
            return looked
        now = datetime.now(timezone.utc)
        whose = author or opened.run.bench
        act = {"file": file[:120], "cells": len(looked.cells), "series": choice.series}
        new = [_entry(key, "imported", f"imported:{key}", act, whose, now)]
        for i, cell in enumerate(looked.cells):
            body = {"text": cell.text, "by": "import", "import": str(key)}
            moment = now + timedelta(microseconds=i)
            new.append(_entry(uuid5(key, cell.slot), "reading", cell.slot, body, whose, moment))
        entry_store.append(connection, run, new, locked=True)
        return looked


def take_back(pool: Pool, run: int, act: str, author: str) -> int:
    """Take back what an import imported, where nothing was written over it since; returns how many readings. Raises DatabaseAway."""
    with transaction(pool) as connection:
        entry_store.lock(connection, run)
        loaded = load(connection, run)
        if loaded is None:
            return 0
        opened = follow(loaded)
        slots = [
            slot
            for slot, entry in opened.state.latest.items()
            if entry.kind in ("reading", "correction") and entry.body.get("import") == act
        ]
        now = datetime.now(timezone.utc)
        key = UUID(act)
        new = [
            _entry(uuid5(key, f"back {opened.last} {slot}"), "undo", slot, {}, author or opened.run.bench, now)
            for slot in slots
        ]
        entry_store.append(connection, run, new, locked=True)
        return len(slots)


def _entry(key: UUID, kind: str, slot: str, body: Mapping[str, object], author: str, moment: datetime) -> NewEntry:
    return NewEntry(kind=kind, slot=slot, body=body, author=author[:80], made_at=moment, client_key=key)


def imports(opened: RunView) -> list[tuple[str, Entry, int]]:
    """Tables that were imported: key, entry, and how many of their readings still stand; newest first."""
    standing: dict[str, int] = {}
    for entry in opened.state.latest.values():
        if entry.kind in ("reading", "correction") and "import" in entry.body:
            standing[entry.body["import"]] = standing.get(entry.body["import"], 0) + 1
    found = [
        (slot.removeprefix("imported:"), entry)
        for slot, entry in opened.state.latest.items()
        if entry.kind == "imported"
    ]
    return [(key, entry, standing.get(key, 0)) for key, entry in sorted(found, key=lambda f: -f[1].id)]
