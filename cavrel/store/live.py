"""Samples that sensors send, take by take."""

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from cavrel.store import locks
from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True)
class Take:
    """One time somebody listens.

    ``id``: its number.
    ``run``: whose.
    ``place``: ``series.column.row``.
    ``began_at``: when.
    ``ended_at``: None while it listens.
    ``unit``: that the place reads samples in.
    ``source``: the sensor's own name for one start of itself, empty where it says none.
    """

    id: int
    run: int
    place: str
    began_at: datetime
    ended_at: datetime | None
    unit: str
    source: str


_TAKE = "id, run, place, began_at, ended_at, unit, source"


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


def begin(connection: Connection, run: int, place: str, unit: str = "", source: str = "") -> Take:
    """Listen for the samples of ``place`` from now on, and for no other of this run."""
    end(connection, run)
    row = connection.execute(
        f"insert into live_take (run, place, unit, source) values (%s, %s, %s, %s) returning {_TAKE}",
        [run, place, unit, source],
    ).fetchone()
    assert row is not None
    return Take(**row)


def end(connection: Connection, run: int) -> None:
    """Listen no longer."""
    connection.execute("update live_take set ended_at = now() where run = %s and ended_at is null", [run])


def newest(connection: Connection, run: int, place: str | None = None) -> Take | None:
    """The last take of a run, or of a place of it."""
    row = connection.execute(
        f"""select {_TAKE} from live_take
        where run = %(run)s and (%(place)s::text is null or place = %(place)s) order by id desc limit 1""",
        {"run": run, "place": place},
    ).fetchone()
    return Take(**row) if row else None


def name(connection: Connection, take: int, source: str) -> None:
    """Keep which start of which sensor a take belongs to."""
    connection.execute("update live_take set source = %s where id = %s and source = ''", [source, take])


def lock(connection: Connection, run: int) -> None:
    """Until the end of the transaction nobody else keeps samples of a run: they are handed on in the order in which they were kept."""
    locks.hold(connection, locks.Of.SAMPLES, run)


@dataclass(frozen=True, slots=True)
class Last:
    """The newest block of a take. ``time``: of its last sample, s; ``ago``: how long ago it came, s."""

    time: float
    ago: float


def last(connection: Connection, take: int) -> Last | None:
    """The newest block of a take, None while there is none."""
    row = connection.execute(
        """select times[cardinality(times)] as time, extract(epoch from now() - came_at)::float8 as ago from live_block
        where take = %s order by arrived desc limit 1""",
        [take],
    ).fetchone()
    return Last(float(row["time"]), float(row["ago"])) if row else None


def add(connection: Connection, take: int, seq: int | None, times: Sequence[float], samples: Sequence[float]) -> bool:
    """Keep a block, once for each ``seq``; without one it is the next. Whether it is kept now: false where another block has its number. The caller
    holds the lock."""
    kept = connection.execute(
        """insert into live_block (take, seq, times, samples)
        values (%(take)s, coalesce(%(seq)s, (select coalesce(max(seq), 0) + 1 from live_block where take = %(take)s)), %(times)s, %(samples)s)
        on conflict do nothing returning seq""",
        {"take": take, "seq": seq, "times": list(times), "samples": list(samples)},
    ).fetchone()
    if kept is not None:
        return True
    row = connection.execute(
        "select times, samples from live_block where take = %s and seq = %s", [take, seq]
    ).fetchone()
    return row is not None and (list(row["times"]), list(row["samples"])) == (list(times), list(samples))


def many(connection: Connection, take: int) -> int:
    """How many samples a take has."""
    row = connection.execute(
        "select coalesce(sum(cardinality(samples)), 0) as many from live_block where take = %s", [take]
    ).fetchone()
    assert row is not None
    return int(row["many"])


def blocks(connection: Connection, take: int, after: int = 0) -> list[tuple[int, list[float], list[float]]]:
    """(number, times, samples) of a take's blocks that were kept later than number ``after``, in that order."""
    rows = connection.execute(
        "select arrived, times, samples from live_block where take = %s and arrived > %s order by arrived",
        [take, after],
    )
    return [(int(row["arrived"]), list(row["times"]), list(row["samples"])) for row in rows]
