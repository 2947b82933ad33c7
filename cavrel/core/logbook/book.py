"""The logbook folded: what each slot holds now and held before. New entries are folded in; the old ones are not read again."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from cavrel.core.logbook.entry import LONGEST, Entry, effective, text_in_force, undo_of


@dataclass(frozen=True, slots=True)
class Correction:
    """A reading that replaced another: the ``texts`` before it, oldest first, and the reason, empty while none is given."""

    slot: str
    texts: tuple[str, ...]
    text: str
    reason: str
    entry: Entry


@dataclass(frozen=True, slots=True, kw_only=True)
class Book:
    """A logbook up to some entry.

    ``history``: slot -> its entries in order; the last one is in force.
    ``corrections``: slot -> correction, where a reading replaced another.
    ``clashes``: slot -> the text that was written over by a page that did not know of it.
    ``notes``: the remarks in time.
    ``count``: how many entries there are.
    """

    history: Mapping[str, tuple[Entry, ...]]
    corrections: Mapping[str, Correction]
    clashes: Mapping[str, str]
    notes: tuple[Entry, ...]
    count: int

    @property
    def latest(self) -> dict[str, Entry]:
        """Slot -> the entry in force."""
        return {slot: line[-1] for slot, line in self.history.items()}

    def with_entries(self, entries: Iterable[Entry]) -> "Book":
        """The book with ``entries``, in the order they were saved, after its own."""
        new: dict[str, list[Entry]] = {}
        notes, count = list(self.notes), self.count
        for entry in entries:
            new.setdefault(entry.slot, []).append(entry)
            count += 1
            if entry.kind == "note":
                notes.append(entry)
        if count == self.count:
            return self
        history, corrections, clashes = dict(self.history), dict(self.corrections), dict(self.clashes)
        for slot, more in new.items():
            line = (*history.get(slot, ()), *more)
            history[slot] = line
            text = text_in_force(line[-1])[: LONGEST["reading"]]
            earlier = _earlier(line, text)
            corrections.pop(slot, None)
            clashes.pop(slot, None)
            if not _holds_reading(line[-1]):
                continue
            if earlier:
                corrections[slot] = Correction(slot, earlier, text, _reason(line[-1]), line[-1])
            lost = _clash(line)
            if lost is not None:
                clashes[slot] = lost
        return Book(history=history, corrections=corrections, clashes=clashes, notes=tuple(notes), count=count)


EMPTY = Book(history={}, corrections={}, clashes={}, notes=(), count=0)
"""A logbook before its first entry."""


def _holds_reading(entry: Entry) -> bool:
    return (entry.body.get("kind") if entry.kind == "undo" else entry.kind) in ("reading", "correction")


def _reason(entry: Entry) -> str:
    body = (entry.body.get("body") or {}) if entry.kind == "undo" else entry.body
    return str(body.get("reason", ""))


def _earlier(history: tuple[Entry, ...], now: str) -> tuple[str, ...]:
    """Texts that stood in a slot before ``now``, without those that an undo took back."""
    gone = {entry.body.get("undoes") for entry in history if entry.kind == "undo"}
    texts: list[str] = []
    for entry in history:
        text = text_in_force(entry)
        if entry.kind == "undo" or entry.id in gone or not text.strip():
            continue
        if not texts or texts[-1] != text:
            texts.append(text)
    if texts and texts[-1] == now:
        texts.pop()
    return tuple(texts)


def _clash(history: tuple[Entry, ...]) -> str | None:
    """The text that the latest entry wrote over without having seen it, or None. ``over`` is the entry its page knew of."""
    if len(history) < 2:
        return None
    last, before = history[-1], history[-2]
    if last.kind == "undo" or "over" not in last.body or last.body.get("over") == before.id:
        return None
    lost = text_in_force(before)
    return lost if lost and lost != last.body.get("text") else None


SURELY = timedelta(seconds=1)
"""Two pages that write within this time write at once: which was first is not known."""


def came_late(
    history: Sequence[Entry], kind: str, body: Mapping[str, Any], made_at: datetime, own: Collection[int] = ()
) -> bool:
    """Whether a reading was made before the one that stands in its place now, which its page did not show.

    ``history``: the entries of its slot in order.
    ``own``: numbers of entries that were sent with it: they come from the same page, in order, whatever its clock says.
    """
    if kind != "reading" or not history or "over" not in body:
        return False
    now = history[-1]
    text = text_in_force(now)
    seen = body["over"] == now.id or now.id in own
    return not seen and bool(text.strip()) and text != body.get("text") and made_at + SURELY < now.made_at


def as_written(history: Sequence[Entry], kind: str, body: Mapping[str, Any]) -> tuple[str, dict[str, Any]] | None:
    """Kind and body under which an entry is kept, given what its slot held before; None for an undo of nothing.

    A reading over a different one is a correction of it, with the text it replaces; an undo holds what it brings back.
    """
    if kind == "undo":
        return (kind, undo_of(history)) if history else None
    if kind != "reading" or not history:
        return kind, dict(body)
    known, before = effective(history[-1])
    was = text_in_force(history[-1])
    if was.strip() and was != body.get("text"):
        return "correction", {**body, "was": was}
    if known == "correction" and body.get("reason"):
        return "correction", {**body, "was": before.get("was", "")}
    return "reading", dict(body)
