"""Lessons of a course, state after state."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from psycopg.types.json import Json

from cavrel.store import locks
from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True, kw_only=True)
class Kept:
    """``id``: of the lesson. ``state``: which one this is, from 1. ``body``: its document. ``made_at``: when the lesson was made."""

    id: int
    state: int
    body: dict[str, Any]
    made_at: datetime


_NEWEST = """
    select lesson.id, newest.state, newest.body, lesson.made_at
    from lesson join lateral (select state, body, started from lesson_state where lesson = lesson.id order by state desc limit 1) newest on true
"""


def begin(connection: Connection, course: int, body: dict[str, Any], key: UUID) -> int:
    """Keep a new lesson and return its id; the same ``key`` again returns the one it made."""
    made = connection.execute(
        "insert into lesson (course, client_key) values (%s, %s) on conflict (client_key) do nothing returning id",
        [course, key],
    ).fetchone()
    if made is None:
        made = connection.execute("select id from lesson where client_key = %s", [key]).fetchone()
        assert made is not None
        return int(made["id"])
    connection.execute("insert into lesson_state (lesson, state, body) values (%s, 1, %s)", [made["id"], Json(body)])
    return int(made["id"])


def get(connection: Connection, course: int, lesson: int) -> Kept | None:
    """A lesson as it stands, or None."""
    row = connection.execute(f"{_NEWEST} where lesson.course = %s and lesson.id = %s", [course, lesson]).fetchone()
    return Kept(**row) if row else None


def newest(connection: Connection, course: int, most: int = 50) -> list[Kept]:
    """The lessons of a course, newest first."""
    rows = connection.execute(f"{_NEWEST} where lesson.course = %s order by lesson.id desc limit %s", [course, most])
    return [Kept(**row) for row in rows]


def lock(connection: Connection, lesson: int) -> None:
    """Until the end of the transaction nobody else changes the lesson."""
    locks.hold(connection, locks.Of.LESSON, lesson)


def add(connection: Connection, lesson: int, body: dict[str, Any], started: datetime | None) -> int:
    """Keep its next state and return the number. The caller holds the lock."""
    row = connection.execute(
        """insert into lesson_state (lesson, state, body, started)
        select %(lesson)s, coalesce(max(state), 0) + 1, %(body)s, %(started)s from lesson_state where lesson = %(lesson)s returning state""",
        {"lesson": lesson, "body": Json(body), "started": started},
    ).fetchone()
    assert row is not None
    return int(row["state"])


def states(connection: Connection, lesson: int) -> list[dict[str, Any]]:
    """Everything that a lesson was, the first state first."""
    rows = connection.execute("select body from lesson_state where lesson = %s order by state", [lesson])
    return [dict(row["body"]) for row in rows]


def running(connection: Connection, course: int, hours: int) -> list[Kept]:
    """Lessons that began in the last ``hours``."""
    rows = connection.execute(
        f"{_NEWEST} where lesson.course = %s and newest.started > now() - make_interval(hours => %s) order by lesson.id",
        [course, hours],
    )
    return [Kept(**row) for row in rows]


@dataclass(frozen=True, slots=True, kw_only=True)
class Waiting:
    """A wait that a bench started. ``entry``: that says so. ``run``: its run. ``title``, ``bench``: of it. ``body``: of the entry."""

    entry: int
    run: int
    title: str
    bench: str
    body: dict[str, Any]


def waits(connection: Connection, course: int, hours: int) -> list[Waiting]:
    """Waits that benches started in the last ``hours``."""
    rows = connection.execute(
        """select entry.id as entry, run.id as run, run.title, bench.name as bench, entry.body
        from entry join run on run.id = entry.run join bench on bench.id = run.bench
        where entry.kind = 'timer' and entry.body ? 'until' and entry.saved_at > now() - make_interval(hours => %s) and run.course = %s
        order by entry.id""",
        [hours, course],
    )
    return [Waiting(**row) for row in rows]
