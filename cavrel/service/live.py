"""Live samples: what a sensor sends is checked and kept before it is answered; what does not come in order is put in order."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cavrel.core.errors import CavrelError
from cavrel.core.logbook.run import LARGEST_SAMPLE, MOST_SAMPLES
from cavrel.store import live as store
from cavrel.store.live import Take
from cavrel.store.pool import Pool, transaction

MOST_IN_A_BLOCK = 5_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Heard:
    """``state``: ``listening``, or ``waiting`` while nobody does and nothing is kept. ``place``: whose samples they are. ``kept``: how many this
    take has."""

    state: str
    place: str
    kept: int


def hear(pool: Pool, token: str, body: Any) -> Heard | None:
    """Keep what a sensor sends with a run's ``token``; None for a token of no run. Raises CavrelError, DatabaseAway.

    ``body``: ``{"t": s, "v": value}``, or ``{"times": [...], "values": [...]}``, each with ``"seq"``, a whole number that grows: the same one
    sent again is kept once.
    """
    with transaction(pool) as connection:
        run = store.run_of(connection, token)
        if run is None:
            return None
        take = store.newest(connection, run)
        if take is None or take.ended_at is not None:
            return Heard(state="waiting", place="", kept=0)
        times, values, seq = understood(body)
        kept = store.add(connection, take.id, seq, times, values)
        if kept > MOST_SAMPLES:
            store.end(connection, run)
    return Heard(state="listening", place=take.place, kept=kept)


def understood(body: Any) -> tuple[list[float], list[float], int | None]:
    """Times in s, values and the number of a block. Raises CavrelError naming the key at fault."""
    if not isinstance(body, Mapping):
        raise CavrelError("", 'a block is one JSON object: {"t": 0.02, "v": 1.3}')
    single = "v" in body
    times = [body.get("t")] if single else body.get("times")
    values = [body.get("v")] if single else body.get("values")
    for name, numbers in (("t" if single else "times", times), ("v" if single else "values", values)):
        if not isinstance(numbers, list) or not 1 <= len(numbers) <= MOST_IN_A_BLOCK:
            raise CavrelError(name, f"must be a list of at most {MOST_IN_A_BLOCK} numbers")
        if not all(type(n) in (int, float) and math.isfinite(n) and abs(n) < LARGEST_SAMPLE for n in numbers):
            raise CavrelError(name, "holds what is no number")
    assert isinstance(times, list)
    assert isinstance(values, list)
    if len(times) != len(values):
        raise CavrelError("values", f"{len(values)} values for {len(times)} times")
    seq = body.get("seq")
    if seq is not None and not (type(seq) is int and 0 < seq < 2**62):
        raise CavrelError("seq", "must be a whole number from 1 on")
    return [float(t) for t in times], [float(v) for v in values], seq


@dataclass(frozen=True, slots=True, kw_only=True)
class Since:
    """``take``: its number, 0 for none. ``listening``: it goes on. ``last``: number of the newest block. ``times``, ``values``: samples since."""

    take: int
    listening: bool
    last: int
    times: list[float]
    values: list[float]


def since(pool: Pool, run: int, place: str, take: int, after: int) -> Since:
    """What came for a place since block ``after`` of ``take``; everything of the newest take where that is another. Raises DatabaseAway."""
    with transaction(pool) as connection:
        newest = store.newest(connection, run, place)
        if newest is None:
            return Since(take=0, listening=False, last=0, times=[], values=[])
        blocks = store.blocks(connection, newest.id, after if newest.id == take else 0)
    return Since(
        take=newest.id,
        listening=newest.ended_at is None,
        last=blocks[-1][0] if blocks else after if newest.id == take else 0,
        times=[t for _, times, _ in blocks for t in times],
        values=[v for _, _, values in blocks for v in values],
    )


def listen(pool: Pool, run: int, place: str) -> Take:
    """Begin a take. Raises DatabaseAway."""
    with transaction(pool) as connection:
        return store.begin(connection, run, place)


def stop(pool: Pool, run: int) -> None:
    """End it. Raises DatabaseAway."""
    with transaction(pool) as connection:
        store.end(connection, run)


def token_of(pool: Pool, run: int) -> tuple[str, Take | None]:
    """The token of a run, and the take that listens now. Raises DatabaseAway."""
    with transaction(pool) as connection:
        take = store.newest(connection, run)
        return store.token(connection, run), take if take is not None and take.ended_at is None else None
