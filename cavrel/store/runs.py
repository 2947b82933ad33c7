"""Runs, and the definitions that they are pinned to."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from psycopg import Cursor
from psycopg.rows import DictRow
from psycopg.types.json import Json, Jsonb

from cavrel.core.definition import Definition
from cavrel.store.entries import NewEntry, Standing, lock
from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True, kw_only=True)
class Run:
    """A run with what a page needs of its course, bench and definition, as its entries rename or move it.

    ``id``: its number.
    ``title``: as it is called now.
    ``course``: the course's number.
    ``course_title``: and title.
    ``course_slug``: and its name in addresses, empty where it is the only course.
    ``zone``: the course's time zone, empty for the server's.
    ``laboratory``: the version of the course's laboratory that it goes by; 0 for the one that came with it from a file.
    ``digest``: what that holds is known by.
    ``rules``: the run's own over the course's.
    ``instruments``: the run's own over the definition's.
    ``bench``: the bench's name.
    ``hash``: content hash of the definition it is pinned to.
    ``experiment``: identifier of that.
    ``made_at``: when it was started.
    ``newest``: its newest entry, 0 where there is none.
    ``made_of``: figures that change with its definition or any rule.
    ``away``: taken out of the list.
    """

    id: int
    title: str
    course: int
    course_title: str
    laboratory: int
    digest: str
    rules: Mapping[str, Any]
    instruments: Mapping[str, Any]
    bench: str
    hash: str
    experiment: str
    made_at: datetime
    newest: int
    made_of: str = ""
    away: bool = False
    course_slug: str = ""
    zone: str = ""


class KeyInUse(Exception):
    """The form's key started another run already, ``run``."""

    def __init__(self, run: int) -> None:
        super().__init__(f"this form has already started run {run}")
        self.run = run


def _now(slot: str) -> str:
    """SQL for what a slot of a run's own holds now; an undo holds what it brought back."""
    value = "case when kind = 'undo' then body->'body'->>'value' else body->>'value' end"
    return f"(select {value} from entry where entry.run = run.id and slot = '{slot}' order by id desc limit 1)"


MADE_OF = "md5(concat_ws('|', run.definition, run.laboratory, run.rules, run.instruments))"
"""SQL for what a run's analysis rests on besides its entries, as figures."""

_RUN = f"""
    select run.id, coalesce({_now("run:title")}, run.title) as title, run.course, course.title as course_title, course.zone,
           case when exists (select from course other where other.id <> course.id) then course.slug else '' end as course_slug,
           case when imported.run is null then laboratory.version else 0 end as laboratory, coalesce(imported.digest, laboratory.digest) as digest,
           run.rules, run.instruments, coalesce({_now("run:bench")}, bench.name) as bench,
           run.definition as hash, definition.experiment, run.made_at,
           coalesce((select max(id) from entry where entry.run = run.id), 0) as newest, {MADE_OF} as made_of,
           coalesce({_now("run:away")}, 'false') = 'true' as away
    from run join course on course.id = run.course join bench on bench.id = run.bench join definition on definition.hash = run.definition
         join laboratory on laboratory.course = run.course and laboratory.version = coalesce(
             (select version from laboratory taken where taken.course = run.course and taken.version = {_now("run:cupboard")}::int), run.laboratory)
         left join imported on imported.run = run.id and not exists (
             select from entry where entry.run = run.id and slot = 'run:cupboard' and entry.id > imported.last)
"""


def by_key(connection: Connection, client_key: UUID) -> int | None:
    """The run that a key started, or None."""
    row = connection.execute("select id from run where client_key = %s", [client_key]).fetchone()
    return int(row["id"]) if row else None


def pin(connection: Connection, definition: Definition) -> str:
    """Keep a definition under its content hash; returns the hash."""
    digest = definition.content_hash()
    connection.execute(
        "insert into definition (hash, experiment, body) values (%s, %s, %s) on conflict do nothing",
        [digest, definition.id, Json(definition.document())],
    )
    return digest


def pinned(connection: Connection, digest: str) -> dict[str, Any]:
    """The definition document kept under ``digest``. Raises LookupError."""
    row = connection.execute("select body from definition where hash = %s", [digest]).fetchone()
    if row is None:
        raise LookupError(digest)
    return dict(row["body"])


def start(
    connection: Connection,
    course: int,
    bench: int,
    definition: Definition,
    title: str,
    client_key: UUID,
    rules: Mapping[str, Any] | None = None,
    instruments: Mapping[str, Any] | None = None,
) -> int:
    """Start a run and return its id; the same ``client_key`` again returns the run it started. Raises KeyInUse where that was for another
    bench, title or experiment."""
    connection.execute(
        """insert into run (course, bench, definition, title, rules, instruments, client_key, laboratory)
        select %s, %s, %s, %s, %s, %s, %s, max(version) from laboratory where course = %s
        on conflict (client_key) do nothing""",
        [
            course,
            bench,
            pin(connection, definition),
            title,
            Jsonb(rules or {}),
            Jsonb(instruments or {}),
            client_key,
            course,
        ],
    )
    row = connection.execute(
        "select id, bench, definition, title from run where client_key = %s", [client_key]
    ).fetchone()
    assert row is not None
    if (row["bench"], row["definition"], row["title"]) != (bench, definition.content_hash(), title):
        raise KeyInUse(row["id"])
    return int(row["id"])


def get(connection: Connection, run: int) -> Run | None:
    """One run, or None."""
    return _one(_asked(connection, run))


def _asked(connection: Connection, run: int) -> Cursor[DictRow]:
    return connection.execute(_RUN + " where run.id = %s", [run])


def _one(asked: Cursor[DictRow]) -> Run | None:
    row = asked.fetchone()
    return Run(**row) if row else None


def to_write(connection: Connection, run: int, new: Sequence[NewEntry]) -> tuple[Run | None, Standing]:
    """The run that ``new`` entries are for, locked until the transaction ends, and what stands of them: in one round trip, for each costs a
    save as much as the statement itself."""
    with connection.pipeline():
        lock(connection, run)
        asked, standing = _asked(connection, run), Standing(connection, run, new)
    return _one(asked), standing


def numbers(connection: Connection, course: int) -> list[int]:
    """The numbers of all runs of a course, oldest first."""
    rows = connection.execute("select id from run where course = %s order by id", [course])
    return [int(row["id"]) for row in rows]


def same(connection: Connection, course: int, bench: str, experiment: str, client_key: UUID) -> int | None:
    """The newest run of a bench with this experiment that is in the list; None where there is none, or where ``client_key`` started a run
    already."""
    if connection.execute("select 1 from run where client_key = %s", [client_key]).fetchone():
        return None
    row = connection.execute(
        f"select id from ({_RUN}) listed where course = %s and bench = %s and experiment = %s and not away order by id desc limit 1",
        [course, bench, experiment],
    ).fetchone()
    return int(row["id"]) if row else None
