"""Saving: what a page sent is checked, committed, and only then followed up. Deriving can fail; it never takes an entry back."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta, timezone
from typing import Any
from uuid import UUID

from cavrel import catalogue
from cavrel.core.definition import Definition, choose
from cavrel.core.definition.headings import Heading, adds
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import Entry, EntryError, came_late, check_entry, effective
from cavrel.core.logbook.entry import LATE
from cavrel.core.logbook.sheet import first_typed
from cavrel.core.words import within
from cavrel.service.laboratories import laboratory_of
from cavrel.service.opening import Loaded
from cavrel.store import entries as entry_store
from cavrel.store import laboratories as laboratory_store
from cavrel.store import numbers
from cavrel.store import runs as run_store
from cavrel.store.entries import CANNOT_KEEP, NewEntry
from cavrel.store.pool import Connection, Pool, transaction

MOST = 500
"""Entries in one send; a page that was offline longer sends in turns."""
_EARLIEST = datetime(2000, 1, 1, tzinfo=timezone.utc)
_AHEAD = timedelta(days=366 * 50)
_ON_THE_WAY = timedelta(seconds=3)
"""A page's clock that is off by less is taken as right: a message can take so long."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Saved:
    """What became of a send.

    ``new``: the entries that could be read, as sent.
    ``stand``: what stands for them in the logbook, made now or by an earlier send of the same key.
    ``refused``: key -> what is wrong, for those that cannot be kept.
    ``loaded``: the run with them, to be followed up; nothing is computed yet.
    """

    new: tuple[NewEntry, ...]
    stand: tuple[Entry, ...]
    refused: Mapping[str, str]
    loaded: Loaded

    @property
    def keys(self) -> list[str]:
        """Keys of the entries that are saved."""
        return [str(entry.client_key) for entry in self.new if str(entry.client_key) not in self.refused]


def save(pool: Pool, run_id: int, sent: Sequence[Any], page_clock: Any = None) -> Saved | None:
    """Check and commit the entries a page sent; None where there is no such run. Raises DatabaseAway.

    ``page_clock``: the moment of sending by the page's clock, by which the moments of its entries are set right.

    One that is not understood, or that the database cannot take, costs the others nothing.
    """
    try:
        with transaction(pool) as connection:
            return _saved(connection, run_id, sent, page_clock, one_by_one=False)
    except (CavrelError, *CANNOT_KEEP) as fault:
        miscounted = numbers.taken_twice(fault)
    if miscounted:
        with transaction(pool) as connection:  # of its own: what it locks is let go before the run is
            numbers.go_on(connection, "entry")
    with transaction(pool) as connection:
        return _saved(connection, run_id, sent, page_clock, one_by_one=True)


def _saved(
    connection: Connection, run_id: int, sent: Sequence[Any], page_clock: Any, *, one_by_one: bool
) -> Saved | None:
    read, refused = _read(sent, _ahead(page_clock))
    run, standing = run_store.to_write(connection, run_id, [entry for _, entry in read])
    if run is None:
        return None
    before = Loaded(connection, run)
    new = _not_late(before, standing, _understood(before, read, refused))
    new = _with_versions(connection, before, new, refused)
    if one_by_one:
        stand, not_kept = entry_store.append_each(connection, run_id, new)
        refused |= {str(key): what for key, what in not_kept.items()}
    else:
        stand = entry_store.append(connection, run_id, new, locked=True, standing=standing)
    return Saved(new=tuple(new), stand=tuple(stand), refused=refused, loaded=_with(connection, before, stand))


def _with_versions(
    connection: Connection, before: Loaded, new: list[NewEntry], refused: dict[str, str]
) -> list[NewEntry]:
    """Those that do not ask for a version of the laboratory that there is not; the others are refused."""
    asked = [entry for entry in new if entry.slot == "run:cupboard" and entry.kind == "run"]
    if not asked:
        return new
    newest = laboratory_store.versions(connection, before.run.course, 1)[0].version
    for entry in asked:
        if entry.body["value"] > newest:
            refused[str(entry.client_key)] = (
                f"there is no version {entry.body['value']} of the laboratory; the newest is {newest}"
            )
    return [entry for entry in new if str(entry.client_key) not in refused]


def _with(connection: Connection, before: Loaded, stand: Sequence[Entry]) -> Loaded:
    """The run as loaded, and the entries appended since, which are ours alone, for we hold the run's lock."""
    run = before.run
    newer = sorted((entry for entry in stand if entry.id > run.newest), key=lambda entry: entry.id)
    if any(entry.slot.startswith("run:") for entry in newer):
        run = run_store.get(connection, run.id) or run
    return before.with_newer(run, newer, laboratory_of(connection, run.course, run.laboratory, run.digest))


def _not_late(before: Loaded, standing: entry_store.Standing, new: list[NewEntry]) -> list[NewEntry]:
    """The entries, a reading that was made before the one that stands in its place, and did not know of it, next to that one."""
    if not any(entry.kind == "reading" and "over" in entry.body for entry in new):
        return new
    try:
        known, _ = standing.taken()
    except CavrelError:
        known = {}  # which is said where they are appended
    own = {entry.id for entry in known.values()}
    history = before.book.history
    return [
        replace(entry, kind="late", slot=f"{LATE}{entry.slot}")
        if came_late(history.get(entry.slot, ()), entry.kind, entry.body, entry.made_at, own)
        else entry
        for entry in new
    ]


def _ahead(page_clock: Any) -> timedelta:
    """How far a page's clock is ahead of the server's; none where it does not say, or where the way of a message explains it."""
    try:
        ahead = _with_zone(datetime.fromisoformat(str(page_clock).replace("Z", "+00:00"))) - datetime.now(timezone.utc)
    except ValueError:
        return timedelta(0)
    return ahead if abs(ahead) > _ON_THE_WAY else timedelta(0)


def _with_zone(moment: datetime) -> datetime:
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=timezone.utc)


def _read(sent: Sequence[Any], ahead: timedelta) -> tuple[list[tuple[str, NewEntry]], dict[str, str]]:
    """The entries that can be read, with their keys as sent, and what is wrong with the others."""
    read: list[tuple[str, NewEntry]] = []
    refused: dict[str, str] = {}
    for body in sent:
        key = str(body.get("key", ""))[:80] if isinstance(body, Mapping) else ""
        try:
            read.append((key, read_entry(body, ahead)))
        except CavrelError as fault:
            refused[key] = str(fault)
    return read, refused


def _understood(before: Loaded, read: Sequence[tuple[str, NewEntry]], refused: dict[str, str]) -> list[NewEntry]:
    """Those that the run can take, signed by its bench where nobody else is named; what is wrong with the others is added to ``refused``."""
    definition, chosen = before.definition, before.conventions()
    new: list[NewEntry] = []
    for key, entry in read:
        try:
            check_entry(_under(definition, chosen), entry.kind, entry.slot, entry.body)
            _check_unit(before, entry)
            _check_points(before, entry)
            _check_columns(before, chosen, entry)
        except CavrelError as fault:
            refused[key] = str(fault)
            continue
        if entry.kind == "option":  # what was typed after it was typed under it
            chosen[entry.slot.removeprefix("option:")] = str(entry.body.get("choice", ""))
        new.append(entry if entry.author else replace(entry, author=before.run.bench))
    return new


def _check_points(before: Loaded, entry: NewEntry) -> None:
    """Points stay within what the course's rubric gives for their criterion. Raises EntryError."""
    _, _, which = entry.slot.partition(".points.")
    points = entry.body.get("points")
    if entry.kind != "marking" or not which or points is None:
        return
    criterion = before.laboratory.rubric.get(which)
    if criterion is None:
        raise EntryError("slot", f"the course's rubric has no criterion '{which}'; load the page again")
    if points > criterion.points:
        raise EntryError("body.points", f"at most {criterion.points:g} for {within(criterion.label)}")


def _check_unit(before: Loaded, entry: NewEntry) -> None:
    """A column that holds readings keeps the unit they were typed under. Raises EntryError."""
    if entry.kind != "heading":
        return
    book, key = before.book, entry.slot.removeprefix("heading:")
    line = book.history.get(entry.slot)
    kind, now = effective(line[-1]) if line else (None, {})
    unit = now.get("unit") if kind == "heading" else None
    if entry.body.get("unit") != unit and first_typed(book, key) is not None:
        raise EntryError(
            "body.unit",
            "readings were typed in this unit, so it cannot be changed; type a unit after a number to read it in another",
        )


def _check_columns(before: Loaded, chosen: Mapping[str, str], entry: NewEntry) -> None:
    """What the run adds to its experiment, or leaves out, can be computed after this entry as before. Raises EntryError."""
    if entry.kind not in ("heading", "without"):
        return
    stands = {slot: effective(one) for slot, one in before.book.latest.items()}
    stands[entry.slot] = entry.kind, entry.body
    found = {
        slot.removeprefix("heading:"): Heading.model_validate(dict(body))
        for slot, (kind, body) in stands.items()
        if kind == "heading"
    }
    own = {key: heading for key, heading in found.items() if adds(heading)}
    series = _under(before.definition, chosen).series
    for slot, (kind, body) in stands.items():
        name = slot.removeprefix("without:")
        if kind == "without" and body.get("on") and name in series:
            own[name] = own.get(name, Heading()).model_copy(update={"hidden": True})
    if not own:
        return
    try:
        catalogue.program_of(before.definition, None, chosen, None, own)
    except CavrelError as fault:
        place = "on" if entry.kind == "without" else next((k for k in ("words", "at") if entry.body.get(k)), "formula")
        raise EntryError(f"body.{place}", fault.what) from fault


def _under(definition: Definition, chosen: Mapping[str, str]) -> Definition:
    """The definition under the conventions chosen, as far as they can be used."""
    if not definition.options:
        return definition
    try:
        return choose(definition, chosen)
    except CavrelError:
        return definition


def read_entry(body: Any, ahead: timedelta = timedelta(0)) -> NewEntry:
    """An entry from what a page sent: ``{"key": uuid, "kind", "slot", "body", "author", "made_at"}``; without an
    author that is empty. ``ahead``: how far the page's clock is ahead. Raises EntryError."""
    if not isinstance(body, Mapping):
        raise EntryError("", "an entry is an object")
    for field in ("key", "kind", "slot", "made_at"):
        if not isinstance(body.get(field), str) or len(body[field]) > 160 or not _keepable(body[field]):
            raise EntryError(field, "must be a short text")
    try:
        key = UUID(body["key"])
    except ValueError as fault:
        raise EntryError("key", "cannot be read") from fault
    content = body.get("body")
    most = 1_900_000 if body["kind"] == "trace" else 60_000
    if not isinstance(content, Mapping):
        raise EntryError("body", "must be an object")
    try:
        written = json.dumps(content, allow_nan=False, ensure_ascii=False)
    except (ValueError, RecursionError) as fault:
        raise EntryError("body", "contains something that is not a number, or stands too deep") from fault
    if len(written) > most or not _keepable(written.replace("\\u0000", "\x00")):
        raise EntryError("body", f"must be at most {most} characters of plain text")
    author = body.get("author")
    named = isinstance(author, str) and author.strip() and _keepable(author)
    return NewEntry(
        kind=body["kind"],
        slot=body["slot"],
        body=dict(content),
        author=str(author)[:80] if named else "",
        made_at=_moment(body, ahead),
        client_key=key,
    )


def _keepable(text: str) -> bool:
    """Whether the database can keep a text: no zero character, no half of a surrogate pair."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return "\x00" not in text


def _moment(body: Mapping[str, Any], ahead: timedelta) -> datetime:
    """When an entry was written by its page's clock, set right; a clock that is years off is not believed. Raises EntryError."""
    try:
        made_at = _with_zone(datetime.fromisoformat(body["made_at"].replace("Z", "+00:00")))
    except ValueError as fault:
        raise EntryError("made_at", "cannot be read") from fault
    now = datetime.now(timezone.utc)
    try:
        made_at -= ahead
    except OverflowError:
        return now
    return made_at if _EARLIEST < made_at < now + _AHEAD else now
