"""Entries: the append-only heart of the data."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import psycopg
from psycopg.types.json import Jsonb

from cavrel.core.errors import CavrelError
from cavrel.core.logbook import Entry, in_force, undo_of
from cavrel.store.pool import Connection

_COLUMNS = "id, kind, slot, body, author, made_at, saved_at"


@dataclass(frozen=True, slots=True)
class NewEntry:
    """An entry as a page sends it."""

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


def conventions(connection: Connection, run: int) -> dict[str, str]:
    """The choice that stands for each convention of a run."""
    rows = connection.execute(
        f"select distinct on (slot) {_COLUMNS} from entry where run = %s and slot like 'option:%%' order by slot, id desc",
        [run],
    )
    found = {}
    for row in rows:
        kind, body = in_force(Entry(**row))
        if kind == "option" and body.get("choice"):
            found[str(row["slot"]).removeprefix("option:")] = str(body["choice"])
    return found


def of_run(connection: Connection, run: int) -> list[Entry]:
    """All entries of a run in the order they were saved."""
    rows = connection.execute(f"select {_COLUMNS} from entry where run = %s order by id", [run])
    return [Entry(**row) for row in rows]


def append(connection: Connection, run: int, new: Sequence[NewEntry], imported: bool = False) -> list[Entry]:
    """Add entries to a run, in order; returns those that stand for them, whether made now or by an earlier send of the same key.

    ``imported`` entries come from another database, which had them when they were made.

    A reading over a different one is kept as a correction, with the text it replaces. An undo is worked out here, against
    what the slot holds now. The caller's transaction commits them together. Raises KeyInUse.
    """
    # One writer at a time for each run: the order of its entries is then the order of their commits.
    connection.execute("select id from run where id = %s for update", [run])
    stand: list[Entry] = []
    for entry in new:
        kind, body = entry.kind, dict(entry.body)
        if kind in ("reading", "undo"):
            history = _slot(connection, run, entry.slot)
            seen = _by_key(connection, entry.client_key, run)
            if seen is not None:
                stand.append(seen)
                continue
            if kind == "undo":
                if not history:
                    continue
                body = undo_of(history)
            else:
                kind, body = _as_correction(history, body)
        row = connection.execute(
            f"""insert into entry (run, kind, slot, body, author, made_at, saved_at, client_key)
            values (%s, %s, %s, %s, %s, %s, coalesce(%s, now()), %s) on conflict (client_key) do nothing returning {_COLUMNS}""",
            [
                run,
                kind,
                entry.slot,
                Jsonb(body),
                entry.author,
                entry.made_at,
                entry.made_at if imported else None,
                entry.client_key,
            ],
        ).fetchone()
        stand.append(Entry(**row) if row else _require(_by_key(connection, entry.client_key, run)))
    return stand


def _require(entry: Entry | None) -> Entry:
    if entry is None:
        raise LookupError("an entry that was refused as known is not there")
    return entry


def _slot(connection: Connection, run: int, slot: str) -> list[Entry]:
    rows = connection.execute(f"select {_COLUMNS} from entry where run = %s and slot = %s order by id", [run, slot])
    return [Entry(**row) for row in rows]


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
    """As `append`, but an entry that the database cannot take costs the others nothing: returns those that stand, and why others do not,
    by key."""
    try:
        with connection.transaction():
            return append(connection, run, new, imported), {}
    except (CavrelError, psycopg.DataError, psycopg.IntegrityError, UnicodeEncodeError):
        pass
    stand: list[Entry] = []
    refused: dict[UUID, str] = {}
    for entry in new:
        try:
            with connection.transaction():
                stand += append(connection, run, [entry], imported)
        except CavrelError as fault:
            refused[entry.client_key] = str(fault)
        except (psycopg.DataError, psycopg.IntegrityError, UnicodeEncodeError):
            refused[entry.client_key] = "holds characters or numbers that cannot be kept"
    return stand, refused


def _as_correction(history: Sequence[Entry], body: dict[str, Any]) -> tuple[str, dict[str, Any]]:
    if not history:
        return "reading", body
    kind, before = in_force(history[-1])
    was = str(before.get("text", "")) if kind in ("reading", "correction") else ""
    if was.strip() and was != body.get("text"):
        return "correction", {**body, "was": was}
    if kind == "correction" and body.get("reason"):
        return "correction", {**body, "was": before.get("was", "")}
    return "reading", body
