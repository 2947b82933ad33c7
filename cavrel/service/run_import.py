"""A run imported from a file: read whole, checked against its experiment, and put in by one transaction or not at all."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timezone
from uuid import UUID, uuid4

from cavrel import bounded, catalogue
from cavrel.core.definition import Definition, choose
from cavrel.core.document.logbook_file import Carried, CarriedError
from cavrel.core.document.unpack import MOST_BYTES, FileError, Parcel, course_in, unpack
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import Entry, check_entry, effective
from cavrel.core.logbook.kinds import KINDS
from cavrel.core.logbook.unfold import acts
from cavrel.service.archive import course_named
from cavrel.service.run_view import RunView, compute
from cavrel.store import courses, imported
from cavrel.store import runs as run_store
from cavrel.store.courses import About
from cavrel.store.entries import CANNOT_KEEP
from cavrel.store.pool import Connection, DatabaseAway, Pool, open_pool, transaction
from cavrel.store.runs import Run

MOST_OF_BODY = 2_000_000
"""Characters of one entry's body."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Ready:
    """A file that can be imported.

    ``definition``: what its run is of.
    ``title``: what it is called.
    ``bench``: whose it becomes.
    ``entries``: numbered from 1.
    ``parcel``: all that the file holds.
    """

    definition: Definition
    title: str
    bench: str
    entries: tuple[Entry, ...]
    parcel: Parcel


def read(body: bytes, bench: str = "") -> Ready:
    """Take a file apart and check all of it; nothing is written. ``bench``: whose it becomes where the file does not say. Raises CavrelError."""
    parcel = unpack(body)
    definition = catalogue.resolve(parcel.experiment)
    known = catalogue.experiments().get(definition.id)
    if known is None or known.content_hash() != definition.content_hash():
        catalogue.validate(definition)
    carried = parcel.carried
    if carried is None:
        carried = _begun(parcel, definition, bench)
    else:
        _check(carried, definition)
    return Ready(
        definition=definition, title=carried.title, bench=bench or carried.bench, entries=carried.entries, parcel=parcel
    )


def _begun(parcel: Parcel, definition: Definition, bench: str) -> Carried:
    """The logbook that a run document alone amounts to, begun now."""
    now = datetime.now(timezone.utc)
    whose = bench or "a file"
    entries = tuple(
        Entry(id=i, kind=kind, slot=slot, body=body, author=whose, made_at=now, saved_at=now)
        for i, (kind, slot, body) in enumerate(acts(parcel.run, definition), 1)
    )
    return Carried(title=definition.title, bench=whose, made_at=now, rules={}, instruments={}, entries=entries)


def _check(carried: Carried, definition: Definition) -> None:
    """Hold every entry against the experiment, under the conventions of its time. Raises CarriedError."""
    chosen: dict[str, str] = {}
    slots: dict[int, str] = {}
    under = choose(definition, {})
    for entry in carried.entries:
        place = f"logbook.json: entries.{entry.id}"
        slots[entry.id] = entry.slot
        kind, body = effective(entry)
        if entry.kind not in KINDS:
            raise CarriedError(place, f"unknown kind '{entry.kind}'")
        if entry.kind == "undo" and slots.get(_number(entry.body.get("undoes"))) != entry.slot:
            raise CarriedError(place, "undoes an entry of another place, or none")
        try:
            written = json.dumps(entry.body, allow_nan=False, ensure_ascii=False)
            written.encode()
        except (ValueError, RecursionError, UnicodeEncodeError) as fault:
            raise CarriedError(place, "contains something that cannot be stored") from fault
        if len(written) > MOST_OF_BODY or "\\u0000" in written or "\x00" in entry.slot + entry.author:
            raise CarriedError(place, f"must be at most {MOST_OF_BODY} characters of plain text")
        if kind is None:
            continue
        try:
            check_entry(under, kind, entry.slot, body)
        except CavrelError as fault:
            raise CarriedError(place, f"{entry.slot}: {fault.what}") from fault
        if entry.slot.startswith("option:"):
            chosen[entry.slot.removeprefix("option:")] = str(body.get("choice", ""))
            try:
                under = choose(definition, {k: c for k, c in chosen.items() if c})
            except CavrelError:
                under = definition


def _number(value: object) -> int:
    return value if type(value) is int else 0


def alone(body: bytes) -> RunView:
    """A run in a file as it would open, without a database. Raises CavrelError."""
    ready = read(body, "")
    carried = ready.parcel.carried
    now = datetime.now(timezone.utc)
    run = Run(
        id=0,
        title=ready.title,
        course=0,
        course_title="",
        laboratory=0,
        digest="",
        rules=carried.rules if carried else {},
        instruments=carried.instruments if carried else {},
        bench=ready.bench if carried else "",
        hash=ready.definition.content_hash(),
        experiment=ready.definition.id,
        made_at=carried.made_at if carried else now,
        newest=len(ready.entries),
    )
    return compute(run, ready.definition, ready.entries, ready.parcel.laboratory)


def begin_course(pool: Pool, body: bytes) -> str:
    """Make the course that an archive comes from, unless it is there; returns its name in addresses, empty for any other file. Raises
    CavrelError, DatabaseAway."""
    found = course_in(body)
    if found is None:
        return ""
    course, laboratory = found
    about = About(title=course["title"], place=course["place"])
    with transaction(pool) as connection:
        if courses.by_slug(connection, course["slug"]) is None:
            courses.make(connection, course["slug"], about, laboratory, course["benches"])
    return str(course["slug"])


def import_run(
    pool: Pool, body: bytes, file: str, course: str = "", bench: str = "", author: str = "", key: UUID | None = None
) -> int:
    """Import a run and return its number; the same ``key`` again returns the run it made. ``course``: by its name, the only one where none is
    said. Raises CavrelError for a file that cannot be imported, DatabaseAway."""
    ready = read(body, bench)
    into = course_named(pool, course).id
    try:
        with transaction(pool) as connection:
            return _put(connection, ready, file, into, author, key or uuid4())
    except CANNOT_KEEP as fault:
        raise FileError(
            "", f"contains characters or numbers that cannot be stored: {str(fault).splitlines()[0]}"
        ) from fault


TASK = bounded.Task(name="cavrel.service.run_import:import_here", what="this file", seconds=20, megabytes=700)


def import_bounded(pool: Pool, body: bytes, file: str, course: str, bench: str, key: UUID) -> int:
    """As `import_run`, in a process of its own. Raises CavrelError, DatabaseAway."""
    if len(body) > MOST_BYTES:
        raise FileError("", f"has {len(body) // 2**20} MB, and a file to import has {MOST_BYTES // 2**20} at most")
    number: int = bounded.run(TASK, pool.conninfo, body, file, course, bench, str(key))
    if not number:
        raise DatabaseAway("it disappeared while a file was imported")
    return number


def import_here(url: str, body: bytes, file: str, course: str, bench: str, key: str) -> int:
    """The number of the run; 0 where the database is away. Raises CavrelError."""
    try:
        with open_pool(url, size=1) as pool:
            return import_run(pool, body, file, course, bench, key=UUID(key))
    except DatabaseAway:
        return 0


def _put(connection: Connection, ready: Ready, file: str, course: int, author: str, key: UUID) -> int:
    bench = courses.add_bench(connection, course, ready.bench)
    carried = ready.parcel.carried
    known = run_store.by_key(connection, key)
    if known is not None:
        return known
    run = run_store.start(
        connection,
        course,
        bench,
        ready.definition,
        ready.title,
        key,
        rules=carried.rules if carried else None,
        instruments=carried.instruments if carried else None,
    )
    last = imported.insert(connection, run, _moved(ready))
    imported.keep(connection, run, last, ready.parcel.laboratory, file, ready.parcel.sha256, author or ready.bench)
    return run


def _moved(ready: Ready) -> Sequence[Entry]:
    """The entries, those about the bench's own name left out where another bench takes the run."""
    carried = ready.parcel.carried
    if carried is None or ready.bench == carried.bench:
        return ready.entries
    return [e for e in ready.entries if e.slot != "run:bench"]
