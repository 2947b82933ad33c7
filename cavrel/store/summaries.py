"""Summaries of runs: what lists and comparisons show, without opening a run."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from psycopg.types.json import Jsonb

from cavrel.store.pool import Connection
from cavrel.store.runs import MADE_OF


@dataclass(frozen=True, slots=True, kw_only=True)
class Listed:
    """A run as lists show it.

    ``last``: the entry its summary was made after, -1 where there is none.
    ``newest``: the newest entry it has, 0 where there is none.
    ``made_of``: what the summary was made of besides entries, empty where there is none.
    ``rests_on``: what it would be made of now.
    ``body``: the summary, empty where there is none.
    """

    run: int
    title: str
    bench: str
    away: bool
    experiment: str
    made_at: datetime
    last: int
    newest: int
    made_of: str
    rests_on: str
    body: Mapping[str, Any]


def put(
    connection: Connection,
    *,
    run: int,
    last: int,
    made_of: str,
    title: str,
    bench: str,
    away: bool,
    words: str,
    body: Mapping[str, Any],
) -> None:
    """Keep a summary, unless a later one stands there. The transaction does not wait for the disk: a summary that a crash takes is made again,
    and the readings of other benches wait for the disk behind it."""
    connection.execute("set local synchronous_commit to off")
    connection.execute(
        """insert into run_summary (run, last, made_of, title, bench, away, words, body) values (%s, %s, %s, %s, %s, %s, %s, %s)
        on conflict (run) do update set last = excluded.last, made_of = excluded.made_of, title = excluded.title, bench = excluded.bench,
            away = excluded.away, words = excluded.words, body = excluded.body
        where run_summary.last <= excluded.last""",
        [run, last, made_of, title, bench, away, words, Jsonb(dict(body))],
    )


_LISTED = f"""
    select run.id as run, coalesce(summary.title, run.title) as title, coalesce(summary.bench, bench.name) as bench,
           coalesce(summary.away, false) as away, definition.experiment, run.made_at,
           coalesce(summary.last, -1) as last, coalesce(summary.made_of, '') as made_of, {MADE_OF} as rests_on,
           coalesce(summary.body, '{{}}') as body,
           coalesce((select max(id) from entry where entry.run = run.id), 0) as newest
    from run join bench on bench.id = run.bench join definition on definition.hash = run.definition
         left join run_summary summary on summary.run = run.id
"""
_RUNS = "from run left join run_summary summary on summary.run = run.id"
_NAMED = " join bench on bench.id = run.bench join definition on definition.hash = run.definition"


def _fitting(words: list[str], bench: str) -> str:
    """SQL for the runs that fit what is asked for; it looks at names only where they are asked for, for a course of years has thousands."""
    asked = f"{_RUNS}{_NAMED if words or bench else ''} where run.course = %(course)s and coalesce(summary.away, false) = %(away)s"
    if bench:
        asked += " and coalesce(summary.bench, bench.name) = %(bench)s"
    if words:
        own = "lower(coalesce(summary.words, run.title || ' ' || bench.name || ' ' || definition.experiment))"
        asked += f" and not exists (select 1 from unnest(%(words)s::text[]) word where position(word in {own}) = 0)"
    return asked


def page(
    connection: Connection, course: int, words: list[str], bench: str, away: bool, skip: int, most: int
) -> tuple[list[Listed], int]:
    """The runs of a course that hold every one of ``words``, newest first, ``most`` of them after the first ``skip``; and how many fit."""
    wanted = {"course": course, "words": words, "bench": bench, "away": away, "skip": skip, "most": most}
    fitting = _fitting(words, bench)
    # Those to be shown are chosen first, and looked at closely then.
    chosen = f"select run.id {fitting} order by run.id desc limit %(most)s offset %(skip)s"
    rows = connection.execute(f"{_LISTED} where run.id in ({chosen}) order by run.id desc", wanted)
    found = [Listed(**row) for row in rows]
    count = connection.execute(f"select count(*) as many {fitting}", wanted).fetchone()
    return found, int(count["many"]) if count else 0


def of_experiment(connection: Connection, course: int, experiment: str, most: int) -> list[Listed]:
    """The newest runs of a course with an experiment, not those archived."""
    chosen = f"""select run.id {_RUNS} join definition on definition.hash = run.definition
        where run.course = %s and definition.experiment = %s and not coalesce(summary.away, false) order by run.id desc limit %s"""
    rows = connection.execute(f"{_LISTED} where run.id in ({chosen}) order by run.id desc", [course, experiment, most])
    return [Listed(**row) for row in rows]
