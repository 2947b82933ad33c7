"""The logbook in words: every entry of a run, in time."""

from dataclasses import dataclass, replace
from typing import Any

from cavrel.core.logbook import KINDS, Entry
from cavrel.core.logbook.entry import as_data
from cavrel.present import zones
from cavrel.service.run_view import RunView

_DAY = 24 * 3600


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """An entry in words.

    ``entry``: itself.
    ``where``: its place.
    ``what``: what it says.
    ``undoable``: it can be taken back.
    ``late``: it waited in its page for more than a few seconds before it reached the database.
    ``off``: its page's clock was wrong by more than a day.
    ``zone``: what its time is called, such as ``CET``, where not all lines are of one; two times may be the same on the clock then.
    """

    entry: Entry
    where: str
    what: str
    undoable: bool
    late: bool
    off: bool
    zone: str = ""


def lines(opened: RunView) -> list[Line]:
    """All entries, oldest first."""
    found = [_line(opened, entry) for entry in opened.entries]
    several = len({zones.local(line.entry.made_at).utcoffset() for line in found}) > 1
    return [replace(line, zone=zones.local(line.entry.made_at).strftime("%Z")) for line in found] if several else found


def _line(opened: RunView, entry: Entry) -> Line:
    kind, slot = KINDS[entry.kind], entry.slot
    place = slot.partition(":")[2] if ":" in slot else slot
    where, what = kind.words(opened.definition, opened.state.trials, place, entry.body)
    latest = opened.state.latest.get(slot)
    undoable = latest is not None and latest.id == entry.id and not kind.fixed
    waited = (entry.saved_at - entry.made_at).total_seconds()
    return Line(entry=entry, where=where, what=what, undoable=undoable, late=5 < waited < _DAY, off=abs(waited) >= _DAY)


def data(opened: RunView) -> dict[str, Any]:
    """The entries as they are kept."""
    entries = [{"id": e.id, **as_data(e)} for e in opened.entries]
    return {"title": opened.run.title, "bench": opened.run.bench, "entries": entries}
