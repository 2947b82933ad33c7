"""Instruments that took another's place in the course of a run: readings keep the one that they were taken with."""

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from cavrel.core.definition import Definition
from cavrel.core.logbook.book import Book
from cavrel.core.logbook.entry import Entry, effective, text_in_force
from cavrel.core.logbook.slots import Slot


@dataclass(frozen=True, slots=True)
class _Held:
    """``since``: the entry from which on; ``fields``: what the run says of the instrument."""

    since: int
    fields: dict[str, str]


def taken_with(
    definition: Definition, book: Book, given: Mapping[str, Mapping[str, str]]
) -> dict[str, list[dict[str, Any]]]:
    """By instrument, those that another took the place of after readings were taken with them, as `Earlier` holds them. ``given``: what the run was
    started with."""
    found = {}
    for name in definition.instruments:
        line = book.history.get(f"instrument:{name}", ())
        if not line:
            continue
        held = _held(line, dict(given.get(name, {})))
        if len(held) < 2:
            continue
        begins = [one.since for one in held]
        places: dict[int, list[str]] = {}
        for slot, since in _taken(definition, book, name):
            at = bisect_right(begins, since) - 1
            if at < len(held) - 1:
                places.setdefault(at, []).append(slot)
        if places:
            zeros = _zeros(book, name, begins)
            found[name] = [
                {"fields": held[at].fields, "zero": zeros.get(at, ""), "places": sorted(places[at])}
                for at in sorted(places)
            ]
    return found


def zeros_now(
    definition: Definition, book: Book, zeros: Mapping[str, str], given: Mapping[str, Mapping[str, str]]
) -> dict[str, str]:
    """Zero readings of the instruments as they are now: what another read at zero is none of this one's."""
    found = {}
    for name, text in zeros.items():
        if name not in definition.instruments:
            continue
        line = book.history.get(f"instrument:{name}", ())
        held = _held(line, dict(given.get(name, {})))
        read = any(True for _ in _taken(definition, book, name)) if len(held) > 1 else False
        if read and _zeros(book, name, [one.since for one in held]).get(len(held) - 1, "") == "":
            continue
        found[name] = text
    return found


def _held(line: Sequence[Entry], given: dict[str, str]) -> list[_Held]:
    """What the instrument was, one after the other, from the entries of its slot; an undo takes the last of them back."""
    states = [[_Held(0, given)]]
    for entry in line:
        if entry.kind == "undo":
            if len(states) > 1:
                states.pop()
            continue
        _, body = effective(entry)
        fields = {field: str(text) for field, text in body.items() if field != "reason"}
        now = states[-1]
        if body.get("reason"):  # it was so all along: a correction, which holds for what was read before, too
            now = [*now[:-1], _Held(now[-1].since, fields)]
        elif fields != now[-1].fields:
            now = [*now, _Held(entry.id, fields)]
        states.append(now)
    return states[-1]


def _taken(definition: Definition, book: Book, name: str) -> list[tuple[str, int]]:
    """(slot, entry) of every reading that stands and was taken with an instrument: the entry by which its place was filled last. Mending a number
    is no reading."""
    keys = {f"quantities.{q}" for q, body in definition.quantities.items() if body.instrument == name}
    keys |= {
        f"{series}.{column}"
        for series, table in definition.series.items()
        for column, body in table.columns.items()
        if body.instrument == name
    }
    found = []
    for slot, line in book.history.items():
        traced = slot.removeprefix("trace:")
        place = Slot.read(traced)
        if place is None or (place.key if place.series else f"quantities.{place.name}") not in keys:
            continue
        since = 0
        for entry in line:
            filled = effective(entry)[0] == "trace" if slot != traced else bool(text_in_force(entry).strip())
            since = (since or entry.id) if filled else 0
        if since:
            found.append((traced if slot == traced or place.trial else f"{traced}.1", since))
    return found


def _zeros(book: Book, name: str, begins: Sequence[int]) -> dict[int, str]:
    """Index of an instrument among those held one after the other -> what it read at zero while it was."""
    found: dict[int, str] = {}
    for entry in book.history.get(f"zero:{name}", ()):
        kind, body = effective(entry)
        found[bisect_right(begins, entry.id) - 1] = str(body.get("text", "")).strip() if kind == "zero" else ""
    return {at: text for at, text in found.items() if text}
