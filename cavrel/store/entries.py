"""Entries: the append-only heart of the data."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import psycopg
from psycopg.types.json import Jsonb

from cavrel.core.errors import CavrelError
from cavrel.core.logbook import Entry, as_written
from cavrel.store.pool import Connection

_COLUMNS = "id, kind, slot, body, author, made_at, saved_at"


@dataclass(frozen=True, slots=True, kw_only=True)
class NewEntry:
    """An entry as a page sends it.

    ``kind``: of entry.
    ``slot``: what it is about.
    ``body``: what it says.
    ``author``: who wrote it.
    ``made_at``: when, by the page's clock.
    ``client_key``: made by the page; the same again is the same entry.
    """

    kind: str
    slot: str
    body: Mapping[str, Any]
    author: str
    made_at: datetime
    client_key: UUID


class KeyInUse(CavrelError):
    """An entry's key belongs to an entry of another run."""


def newest(connection: Connection, run: int) -> int:
    """The number of the newest entry of a run, 0 where there is none."""
    row = connection.execute("select max(id) as id from entry where run = %s", [run]).fetchone()
    return int(row["id"] or 0) if row else 0


def of_run(connection: Connection, run: int) -> list[Entry]:
    """All entries of a run in the order they were saved."""
    rows = connection.execute(f"select {_COLUMNS} from entry where run = %s order by id", [run])
    return [Entry(**row) for row in rows]


def after(connection: Connection, run: int, last: int) -> list[Entry]:
    """The entries of a run that are newer than entry ``last``, in the order they were saved."""
    rows = connection.execute(f"select {_COLUMNS} from entry where run = %s and id > %s order by id", [run, last])
    return [Entry(**row) for row in rows]


def lock(connection: Connection, run: int) -> None:
    """One writer at a time for each run, until the transaction ends: the order of its entries is then the order of their commits."""
    connection.execute("select id from run where id = %s for update", [run])


STANDING = f"""
    select same.* from unnest(%s::uuid[]) sent, lateral (
        select run, client_key, {_COLUMNS} from entry where client_key = sent limit 1) same
    union all select newest.* from unnest(%s::text[]) sought, lateral (
        select run, client_key, {_COLUMNS} from entry where run = %s and slot = sought order by id desc limit 2) newest
    order by id"""
"""By index for each key, whatever the planner thinks: a plan made for a small table is kept while it grows."""
STANDING_OF_ONE = f"""
    select run, client_key, {_COLUMNS} from entry where client_key = %s
    union all (select run, client_key, {_COLUMNS} from entry where run = %s and slot = %s order by id desc limit 2)
    order by id"""
"""The same for a single entry, as nearly every save sends: planned once, where lists are planned anew each time."""


class Standing:
    """What a save has to know of the logbook before it writes, asked for in one statement: entries that stand already under the keys sent, and
    the last two of each slot written to: what it holds, and what an undo brings back."""

    def __init__(self, connection: Connection, run: int, new: Sequence[NewEntry]) -> None:
        self._run, self._keys = run, {entry.client_key for entry in new}
        if len(new) == 1:
            self._rows = connection.execute(STANDING_OF_ONE, [new[0].client_key, run, new[0].slot])
        else:
            self._rows = connection.execute(STANDING, [list(self._keys), sorted({entry.slot for entry in new}), run])
        self._taken: tuple[dict[UUID, Entry], dict[str, list[Entry]]] | None = None

    def taken(self) -> tuple[dict[UUID, Entry], dict[str, list[Entry]]]:
        """Those by key, and those by slot. Raises KeyInUse."""
        if self._taken is not None:
            return self._taken
        known: dict[UUID, Entry] = {}
        history: dict[str, list[Entry]] = {}
        for row in self._rows:
            of, key = row.pop("run"), row.pop("client_key")
            entry = Entry(**row)
            if key in self._keys:
                if of != self._run:
                    raise KeyInUse("key", "belongs to an entry of another run")
                known[key] = entry
            # It may be found by its key and by its slot.
            if of == self._run and entry not in history.get(entry.slot, ()):
                history.setdefault(entry.slot, []).append(entry)
        self._taken = known, history
        return self._taken


def append(
    connection: Connection,
    run: int,
    new: Sequence[NewEntry],
    imported: bool = False,
    locked: bool = False,
    standing: Standing | None = None,
) -> list[Entry]:
    """Add entries to a run, in order; returns those that stand for them, whether made now or by an earlier send of the same key.

    ``imported`` entries come from another database, which had them when they were made; ``locked``: the caller holds the run's `lock`;
    ``standing``: what it asked for together with that.

    A reading over a different one is kept as a correction, with the text it replaces. An undo is computed here, against
    what the slot holds now. The caller's transaction commits them together. Raises KeyInUse.
    """
    if not locked:
        lock(connection, run)
    known, history = (standing or Standing(connection, run, new)).taken()
    stand: list[Entry] = []
    making: list[tuple[NewEntry, str, dict[str, Any]]] = []
    for entry in new:
        seen = known.get(entry.client_key)
        if seen is not None:
            stand.append(seen)
            continue
        if any(entry.slot == waiting.slot or entry.client_key == waiting.client_key for waiting, _, _ in making):
            # It follows from one of this very batch, which must have its number first.
            made = _insert(connection, run, making, imported)
            stand, making = [*stand, *made], []
            for one in made:
                history.setdefault(one.slot, []).append(one)
            again = _by_key(connection, entry.client_key, run)
            if again is not None:
                stand.append(again)
                continue
        written = as_written(history.get(entry.slot, ()), entry.kind, entry.body)
        if written is not None:
            making.append((entry, *written))
    return [*stand, *_insert(connection, run, making, imported)]


_INSERT = f"""
    insert into entry (run, kind, slot, body, author, made_at, saved_at, client_key)
    select %s, kind, slot, body, author, made_at, case when %s then made_at else now() end, client_key
    from unnest(%s::text[], %s::text[], %s::jsonb[], %s::text[], %s::timestamptz[], %s::uuid[])
        with ordinality as sent (kind, slot, body, author, made_at, client_key, place) order by place
    on conflict (client_key) do nothing returning client_key, {_COLUMNS}"""
_INSERT_ONE = f"""
    insert into entry (run, kind, slot, body, author, made_at, saved_at, client_key)
    values (%s, %s, %s, %s, %s, %s, case when %s then %s::timestamptz else now() end, %s)
    on conflict (client_key) do nothing returning client_key, {_COLUMNS}"""


def _insert(
    connection: Connection, run: int, making: Sequence[tuple[NewEntry, str, dict[str, Any]]], imported: bool
) -> list[Entry]:
    """Insert in one statement, in order; returns what stands for each, also for one whose key came first from elsewhere."""
    if not making:
        return []
    if len(making) == 1:
        [(entry, kind, body)] = making
        sent = [run, kind, entry.slot, Jsonb(body), entry.author, entry.made_at]
        rows = connection.execute(_INSERT_ONE, [*sent, imported, entry.made_at, entry.client_key]).fetchall()
    else:
        columns = [
            [kind for _, kind, _ in making],
            [entry.slot for entry, _, _ in making],
            [Jsonb(body) for _, _, body in making],
            [entry.author for entry, _, _ in making],
            [entry.made_at for entry, _, _ in making],
            [entry.client_key for entry, _, _ in making],
        ]
        rows = connection.execute(_INSERT, [run, imported, *columns]).fetchall()
    made = {row.pop("client_key"): Entry(**row) for row in rows}
    return [
        made.get(entry.client_key) or _require(_by_key(connection, entry.client_key, run)) for entry, _, _ in making
    ]


def _require(entry: Entry | None) -> Entry:
    if entry is None:
        raise LookupError("an entry that was refused as known is not there")
    return entry


def _by_key(connection: Connection, key: UUID, run: int) -> Entry | None:
    row = connection.execute(f"select run, {_COLUMNS} from entry where client_key = %s", [key]).fetchone()
    if row is None:
        return None
    if row.pop("run") != run:
        raise KeyInUse("key", "belongs to an entry of another run")
    return Entry(**row)


def append_each(
    connection: Connection, run: int, new: Sequence[NewEntry], imported: bool = False
) -> tuple[list[Entry], dict[UUID, str]]:
    """As `append`, one by one, so that an entry that the database cannot take costs the others nothing: returns those that stand, and why
    others do not, by key."""
    stand: list[Entry] = []
    refused: dict[UUID, str] = {}
    for entry in new:
        try:
            with connection.transaction():
                stand += append(connection, run, [entry], imported)
        except CavrelError as fault:
            refused[entry.client_key] = str(fault)
        except CANNOT_KEEP:
            refused[entry.client_key] = "holds characters or numbers that cannot be kept"
    return stand, refused


CANNOT_KEEP = (psycopg.DataError, psycopg.IntegrityError, UnicodeEncodeError)
"""What the database says of an entry that it cannot take."""
