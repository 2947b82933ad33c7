"""Samples that sensors send, take by take."""

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True)
class Take:
    """One time somebody listens. ``id``; ``run``; ``place``: ``series.column.row``; ``began_at``; ``ended_at``: None while it listens."""

    id: int
    run: int
    place: str
    began_at: datetime
    ended_at: datetime | None


def token(connection: Connection, run: int) -> str:
    """The token by which a sensor sends into a run, made when first asked for."""
    connection.execute(
        "insert into live_token (run, token) values (%s, %s) on conflict do nothing", [run, secrets.token_urlsafe(9)]
    )
    row = connection.execute("select token from live_token where run = %s", [run]).fetchone()
    assert row is not None
    return str(row["token"])


def run_of(connection: Connection, sent: str) -> int | None:
    """The run that a token belongs to."""
    row = connection.execute("select run from live_token where token = %s", [sent]).fetchone()
    return int(row["run"]) if row else None


def begin(connection: Connection, run: int, place: str) -> Take:
    """Listen for the samples of ``place`` from now on, and for no other of this run."""
    end(connection, run)
    row = connection.execute(
        "insert into live_take (run, place) values (%s, %s) returning id, run, place, began_at, ended_at", [run, place]
    ).fetchone()
    assert row is not None
    return Take(**row)


def end(connection: Connection, run: int) -> None:
    """Listen no longer."""
    connection.execute("update live_take set ended_at = now() where run = %s and ended_at is null", [run])


def newest(connection: Connection, run: int, place: str | None = None) -> Take | None:
    """The last take of a run, or of a place of it."""
    row = connection.execute(
        """select id, run, place, began_at, ended_at from live_take
        where run = %(run)s and (%(place)s::text is null or place = %(place)s) order by id desc limit 1""",
        {"run": run, "place": place},
    ).fetchone()
    return Take(**row) if row else None


def add(connection: Connection, take: int, seq: int | None, times: Sequence[float], samples: Sequence[float]) -> int:
    """Keep a block, once for each ``seq``; return how many samples the take has. Without a ``seq`` it is the next one."""
    if seq is None:
        connection.execute("select pg_advisory_xact_lock(5, %s)", [take % 2**31])
    connection.execute(
        """insert into live_block (take, seq, times, samples)
        values (%(take)s, coalesce(%(seq)s, (select coalesce(max(seq), 0) + 1 from live_block where take = %(take)s)), %(times)s, %(samples)s)
        on conflict do nothing""",
        {"take": take, "seq": seq, "times": list(times), "samples": list(samples)},
    )
    row = connection.execute(
        "select coalesce(sum(cardinality(samples)), 0) as many from live_block where take = %s", [take]
    ).fetchone()
    assert row is not None
    return int(row["many"])


def blocks(connection: Connection, take: int, after: int = 0) -> list[tuple[int, list[float], list[float]]]:
    """(seq, times, samples) of a take's blocks later than ``after``, in their order."""
    rows = connection.execute(
        "select seq, times, samples from live_block where take = %s and seq > %s order by seq", [take, after]
    )
    return [(int(row["seq"]), list(row["times"]), list(row["samples"])) for row in rows]
