"""Courses and their benches."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from uuid import UUID

from cavrel.core.laboratory import Laboratory
from cavrel.store import laboratories, locks
from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True, kw_only=True)
class About:
    """What is said of a course.

    ``title``: its name.
    ``place``: where it is held; may be empty.
    ``begins``: its first day, or None.
    ``ends``: its last day, or None.
    ``zone``: its time zone, by its IANA name; empty for the server's.
    ``joining``: ``listed`` where only the benches listed may start runs, ``open`` where a new one may add itself.
    """

    title: str
    place: str = ""
    begins: date | None = None
    ends: date | None = None
    zone: str = ""
    joining: str = "listed"


@dataclass(frozen=True, slots=True, kw_only=True)
class Course(About):
    """A course. ``slug``: its name in addresses; ``version`` and ``digest``: of the newest version of its laboratory."""

    id: int
    slug: str
    version: int
    digest: str

    def over(self, today: date) -> bool:
        """Whether its last day has passed."""
        return self.ends is not None and self.ends < today


@dataclass(frozen=True, slots=True)
class Bench:
    """A bench of a course. ``away``: taken out of the list; ``runs``: how many it has."""

    id: int
    name: str
    away: bool = False
    runs: int = 0


_COURSE = """
    select course.id, slug, title, place, begins, ends, zone, joining, laboratory.version, laboratory.digest
    from course join lateral (select version, digest from laboratory where course = course.id order by version desc limit 1) laboratory on true
"""


def courses(connection: Connection) -> list[Course]:
    """All courses, oldest first."""
    return [Course(**row) for row in connection.execute(_COURSE + " order by course.id")]


def get(connection: Connection, course: int) -> Course | None:
    """One course, or None."""
    row = connection.execute(_COURSE + " where course.id = %s", [course]).fetchone()
    return Course(**row) if row else None


def by_slug(connection: Connection, slug: str) -> Course | None:
    """The course of this name in addresses, or None."""
    row = connection.execute(_COURSE + " where slug = %s", [slug]).fetchone()
    return Course(**row) if row else None


def by_key(connection: Connection, client_key: UUID) -> Course | None:
    """The course that a form made, or None."""
    row = connection.execute(_COURSE + " where client_key = %s", [client_key]).fetchone()
    return Course(**row) if row else None


def make(
    connection: Connection,
    slug: str,
    about: About,
    laboratory: Laboratory,
    benches: Sequence[str],
    key: UUID | None = None,
) -> Course:
    """A course with the first version of its laboratory and its benches; if one of this slug stands already, that one, with benches it lacks."""
    made = connection.execute(
        """insert into course (slug, title, place, begins, ends, zone, joining, client_key)
        values (%s, %s, %s, %s, %s, %s, %s, %s) on conflict (slug) do nothing returning id""",
        [slug, about.title, about.place, about.begins, about.ends, about.zone, about.joining, key],
    ).fetchone()
    if made is not None:
        laboratories.save(connection, made["id"], laboratory)
    course = by_slug(connection, slug)
    assert course is not None
    for name in benches:
        connection.execute("insert into bench (course, name) values (%s, %s) on conflict do nothing", [course.id, name])
    return course


def change(connection: Connection, course: int, about: About) -> None:
    """Say something else of a course."""
    connection.execute(
        "update course set title = %s, place = %s, begins = %s, ends = %s, zone = %s, joining = %s where id = %s",
        [about.title, about.place, about.begins, about.ends, about.zone, about.joining, course],
    )


def lock(connection: Connection, course: int) -> None:
    """Until the end of the transaction nobody else changes the benches of a course."""
    locks.hold(connection, locks.Of.COURSE, course)


def benches(connection: Connection, course: int) -> list[Bench]:
    """The benches of a course that are in the list, in the order in which they were made."""
    rows = connection.execute("select id, name from bench where course = %s and not away order by id", [course])
    return [Bench(**row) for row in rows]


def all_benches(connection: Connection, course: int) -> list[Bench]:
    """The benches of a course, those taken out of the list too, each with the number of its runs."""
    rows = connection.execute(
        """select id, name, away, (select count(*) from run where run.bench = bench.id) as runs
        from bench where course = %s order by id""",
        [course],
    )
    return [Bench(**row) for row in rows]


def add_bench(connection: Connection, course: int, name: str) -> int:
    """A bench of this name, made where the course has none and back in the list where it was taken out; returns its number."""
    row = connection.execute(
        """insert into bench (course, name) values (%s, %s)
        on conflict (course, name) do update set away = false returning id""",
        [course, name],
    ).fetchone()
    assert row is not None
    return int(row["id"])


def take_out_bench(connection: Connection, bench: int) -> None:
    """Take a bench out of the list; one without runs goes for good."""
    connection.execute(
        "delete from bench where id = %s and not exists (select from run where run.bench = bench.id)", [bench]
    )
    connection.execute("update bench set away = true where id = %s", [bench])


def rename_bench(connection: Connection, course: int, bench: Bench, name: str) -> None:
    """Call a bench otherwise. What lists remember of its runs is made anew when they are next looked at."""
    connection.execute("update bench set name = %s where id = %s", [name, bench.id])
    connection.execute(
        """update run_summary set bench = %(new)s, words = words || ' ' || lower(%(new)s), made_of = ''
        where bench = %(old)s and run in (select id from run where course = %(course)s)""",
        {"new": name, "old": bench.name, "course": course},
    )


def moved_to(connection: Connection, course: int, name: str) -> list[int]:
    """The runs that an entry moved to a bench of this name, by its name."""
    rows = connection.execute(
        """select run from (select distinct on (run) run, case when kind = 'undo' then body->'body'->>'value' else body->>'value' end as now
        from entry join run on run.id = entry.run where run.course = %s and slot = 'run:bench' order by run, entry.id desc) moved
        where now = %s""",
        [course, name],
    )
    return [int(row["run"]) for row in rows]
