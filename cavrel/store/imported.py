"""Runs imported from files: the laboratory that came with each, and its logbook put in as it was written."""

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from psycopg.types.json import Json, Jsonb

from cavrel.core.document.logbook_file import renumbered
from cavrel.core.laboratory import Laboratory
from cavrel.core.logbook import Entry
from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True, kw_only=True)
class ImportedRun:
    """Where a run came from. ``file``: its name; ``sha256``: of what it held; ``author``: who brought it in; ``made_at``: when."""

    file: str
    sha256: str
    author: str
    made_at: datetime


def keep(
    connection: Connection, run: int, last: int, laboratory: Laboratory, file: str, sha256: str, author: str
) -> None:
    """Keep where a run came from and the laboratory it goes by. ``last``: the last entry that came with the file, 0 for none."""
    body = laboratory.model_dump(mode="json", by_alias=True, exclude_defaults=True) | {"format": laboratory.format}
    digest = hashlib.sha256(json.dumps(body, sort_keys=True).encode()).hexdigest()
    connection.execute(
        "insert into imported (run, last, body, digest, file, sha256, author) values (%s, %s, %s, %s, %s, %s, %s)",
        [run, last, Json(body), digest, file[:200], sha256, author[:80]],
    )


def of_run(connection: Connection, run: int) -> ImportedRun | None:
    """Where a run came from, or None for one that was made here."""
    row = connection.execute("select file, sha256, author, made_at from imported where run = %s", [run]).fetchone()
    return ImportedRun(**row) if row else None


def laboratory(connection: Connection, digest: str) -> dict[str, Any]:
    """The body of a laboratory that came with a run. Raises LookupError."""
    row = connection.execute("select body from imported where digest = %s limit 1", [digest]).fetchone()
    if row is None:
        raise LookupError(digest)
    return dict(row["body"])


def insert(connection: Connection, run: int, entries: Sequence[Entry]) -> int:
    """Put entries in as they are, with the times they bear, under new numbers and keys; returns the last number, 0 where there is none."""
    if not entries:
        return 0
    rows = connection.execute(
        "select nextval(pg_get_serial_sequence('entry', 'id')) as id from generate_series(1, %s) order by 1",
        [len(entries)],
    ).fetchall()
    numbers = {entry.id: int(row["id"]) for entry, row in zip(entries, rows)}
    made = renumbered(entries, numbers)
    connection.execute(
        """insert into entry (id, run, kind, slot, body, author, made_at, saved_at, client_key) overriding system value
        select id, %s, kind, slot, body, author, made_at, saved_at, gen_random_uuid()
        from unnest(%s::bigint[], %s::text[], %s::text[], %s::jsonb[], %s::text[], %s::timestamptz[], %s::timestamptz[])
            as sent (id, kind, slot, body, author, made_at, saved_at)""",
        [
            run,
            [e.id for e in made],
            [e.kind for e in made],
            [e.slot for e in made],
            [Jsonb(dict(e.body)) for e in made],
            [e.author for e in made],
            [e.made_at for e in made],
            [e.saved_at for e in made],
        ],
    )
    return made[-1].id
