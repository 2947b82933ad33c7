"""The kinds of entries, one class each: what it may hold, what it does to the sheet, how it reads."""

from collections.abc import Mapping
from typing import Any

from cavrel.core.definition import Definition
from cavrel.core.logbook.entry import LONGEST, LONGEST_TEXT, EntryError
from cavrel.core.logbook.kinds.base import Kind, check_reading
from cavrel.core.logbook.kinds.planning import Foresee, InstrumentOfRun, Settings, Tick, Without, Words, Zero
from cavrel.core.logbook.kinds.reading import Correction, Late, LeaveOut, Reading, Stretch, TakeBack, Trace
from cavrel.core.logbook.kinds.remark import Imported, Note, OfRun, Stands, Timing, Undo
from cavrel.core.logbook.kinds.reporting import Marking, ReportText, Signed
from cavrel.core.logbook.kinds.ruling import HeadingOfRun, HouseRule, Mark, Option, Order, Rows, Trials

__all__ = ["KINDS", "check_entry", "check_reading"]

KINDS: Mapping[str, Kind] = {
    kind.name: kind()
    for kind in (
        Reading, Correction, Late, LeaveOut, TakeBack, Rows, Trials, Option, Trace, Stretch, Stands, Note, Timing, OfRun, Undo,
        Settings, InstrumentOfRun, Zero, Tick, Words, Foresee, Without, HouseRule, HeadingOfRun, Mark, Order,
        ReportText, Signed, Marking, Imported,
    )
}  # fmt: skip


def check_entry(definition: Definition, kind: str, slot: str, body: Mapping[str, Any]) -> None:
    """Raises EntryError where an entry does not fit its experiment; says what is wrong with it."""
    if kind not in KINDS:
        raise EntryError("kind", f"unknown kind '{kind[:20]}'")
    if not isinstance(body, Mapping):
        raise EntryError("body", "must be an object")
    for key, value in body.items():
        most = LONGEST.get(kind, LONGEST_TEXT) if key in ("text", "reason") else LONGEST_TEXT
        most = max(most, 1000) if key == "reason" else most
        if isinstance(value, str) and len(value) > most:
            raise EntryError(f"body.{key}", f"may have {most} characters, and this has {len(value)}")
    KINDS[kind].check(definition, slot, body)
