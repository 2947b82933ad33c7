"""Long work: what is asked for, how far it is, and the parts that it has made."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from psycopg.types.json import Json

from cavrel.store import locks
from cavrel.store.pool import Connection

KEPT = 20
"""Pieces of work whose files are kept; older ones are let go, for all of them can be made again."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Work:
    """One piece of work.

    ``id``: its number.
    ``course``: whose.
    ``kind``: what is made.
    ``options``: how.
    ``total``: how many runs.
    ``done``: of them.
    ``stopped``: somebody asked it to stop.
    ``faults``: what could not be made, a line each.
    ``file``: the name of what came out; empty until it ended.
    ``size``: bytes of that.
    ``author``: who asked.
    ``made_at``: when it was asked for.
    ``ended_at``: when it ended, None while it has not.
    """

    id: int
    course: int
    kind: str
    options: Mapping[str, Any]
    total: int
    done: int
    stopped: bool
    faults: str
    file: str
    size: int
    author: str
    made_at: datetime
    ended_at: datetime | None


_COLUMNS = "id, course, kind, options, total, done, stopped, faults, file, coalesce(length(body), 0) as size, author, made_at, ended_at"


def ask(
    connection: Connection, course: int, kind: str, options: Mapping[str, Any], total: int, author: str, key: UUID
) -> int:
    """Ask for a piece of work and return its number; the same ``key`` again returns the one it made."""
    connection.execute(
        """insert into work (course, kind, options, total, author, client_key) values (%s, %s, %s, %s, %s, %s)
        on conflict (client_key) do nothing""",
        [course, kind, Json(dict(options)), total, author[:80], key],
    )
    row = connection.execute("select id from work where client_key = %s", [key]).fetchone()
    assert row is not None
    return int(row["id"])


def get(connection: Connection, number: int) -> Work | None:
    """One piece, or None."""
    row = connection.execute(f"select {_COLUMNS} from work where id = %s", [number]).fetchone()
    return Work(**row) if row else None


def newest(connection: Connection, course: int) -> list[Work]:
    """The newest pieces of a course, newest first."""
    rows = connection.execute(
        f"select {_COLUMNS} from work where course = %s order by id desc limit %s", [course, KEPT]
    )
    return [Work(**row) for row in rows]


def open_(connection: Connection) -> list[int]:
    """Numbers of those that have not ended."""
    return [int(row["id"]) for row in connection.execute("select id from work where ended_at is null order by id")]


def mine(connection: Connection, number: int) -> bool:
    """Whether this session is the one that does a piece of work, until its connection ends; false where another one does."""
    return locks.mine(connection, locks.Of.WORK, number)


def parts(connection: Connection, number: int) -> set[int]:
    """The runs that are done."""
    return {int(row["run"]) for row in connection.execute("select run from work_part where work = %s", [number])}


def part(connection: Connection, number: int, run: int, name: str, body: bytes, fault: str = "") -> None:
    """Keep what was made of a run, or why nothing was."""
    connection.execute(
        "insert into work_part (work, run, name, body) values (%s, %s, %s, %s) on conflict do nothing",
        [number, run, name, body],
    )
    connection.execute(
        """update work set done = (select count(*) from work_part where work = %(work)s),
        faults = faults || %(fault)s where id = %(work)s""",
        {"work": number, "fault": f"{fault}\n" if fault else ""},
    )


def made(connection: Connection, number: int) -> list[tuple[str, bytes]]:
    """Name and body of every part that is a file, in order."""
    rows = connection.execute("select name, body from work_part where work = %s and name <> '' order by run", [number])
    return [(row["name"], bytes(row["body"])) for row in rows]


def end(connection: Connection, number: int, file: str, body: bytes | None) -> None:
    """It ended, with a file or without; its parts go, and so do the files of what is long past."""
    connection.execute(
        "update work set file = %s, body = %s, ended_at = now() where id = %s and ended_at is null",
        [file, body, number],
    )
    connection.execute("delete from work_part where work = %s", [number])
    connection.execute("update work set body = null where body is not null and id <= %s - %s", [number, KEPT])


def stop(connection: Connection, number: int) -> None:
    """Ask it to stop."""
    connection.execute("update work set stopped = true where id = %s and ended_at is null", [number])


def body(connection: Connection, number: int) -> tuple[str, bytes] | None:
    """What came out: name and bytes; None where there is nothing."""
    row = connection.execute("select file, body from work where id = %s and body is not null", [number]).fetchone()
    return (row["file"], bytes(row["body"])) if row else None
