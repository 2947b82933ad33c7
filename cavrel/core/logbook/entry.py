"""One line of the logbook."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from cavrel.core.errors import CavrelError

LONGEST = {"reading": 200, "correction": 200, "late": 200, "leave-out": 1000, "note": 4000}
"""Characters of an entry's texts; what is longer is refused when it is sent, and a run document takes what is kept."""
LONGEST_TEXT = 4000
LATE = "late:"
"""Before the slot of a reading that came late."""


class EntryError(CavrelError):
    """An entry that no page of Cavrel would send."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One line of the logbook.

    ``id``: its number; later ones are larger.
    ``kind``: of entry.
    ``slot``: what it is about.
    ``body``: what it says.
    ``author``: who wrote it.
    ``made_at``: when it was written, by the page's clock.
    ``saved_at``: when the database had it.
    """

    id: int
    kind: str
    slot: str
    body: Mapping[str, Any]
    author: str
    made_at: datetime
    saved_at: datetime


def as_data(entry: Entry) -> dict[str, Any]:
    """The entry for JSON, without its number, which only its own logbook knows."""
    return {
        "kind": entry.kind,
        "slot": entry.slot,
        "body": dict(entry.body),
        "author": entry.author,
        "made_at": entry.made_at.isoformat(),
        "saved_at": entry.saved_at.isoformat(),
    }


def effective(entry: Entry) -> tuple[str | None, Mapping[str, Any]]:
    """Kind and body that an entry puts in force: its own, or, for an undo, those it brings back (None for an empty slot)."""
    if entry.kind != "undo":
        return entry.kind, entry.body
    return entry.body.get("kind"), entry.body.get("body") or {}


def text_in_force(entry: Entry) -> str:
    """The reading that an entry puts in force, empty where it is none."""
    kind, body = effective(entry)
    return str(body.get("text", "")) if kind in ("reading", "correction") else ""


def undo_of(history: Iterable[Entry]) -> dict[str, Any]:
    """The body of an undo entry that takes back the last of ``history``, the entries of one slot in order.

    Undoing an undo brings back what it took away.
    """
    line = list(history)
    last = line[-1]
    before = line[-2] if len(line) > 1 else None
    kind, body = effective(before) if before else (None, {})
    return {"undoes": last.id, "kind": kind, "body": dict(body)}
