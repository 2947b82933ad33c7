"""Live samples: what a sensor sends is checked and kept before it is answered; what does not come in order is put in order."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cavrel.core.errors import CavrelError
from cavrel.core.logbook.run import LARGEST_SAMPLE, MOST_SAMPLES
from cavrel.core.quantity import units
from cavrel.store import live as store
from cavrel.store.live import Take
from cavrel.store.pool import Connection, Pool, transaction

MOST_IN_A_BLOCK = 5_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Heard:
    """``state``: ``listening``, or ``waiting`` while nobody does and nothing is kept. ``place``: whose samples they are. ``kept``: how many this
    take has."""

    state: str
    place: str
    kept: int


AGAIN = 2.0
"""A clock of a sensor that is set back by more than so many seconds, in blocks without numbers, is one that was started again."""
ALIVE = 5.0
"""A sensor that sent within so many seconds still sends: another one is not let in next to it."""
_KEYS = frozenset({"t", "v", "times", "values", "seq", "unit", "source"})


@dataclass(frozen=True, slots=True, kw_only=True)
class Block:
    """Samples that came together. ``times`` in s; ``values`` in ``unit``, empty for the place's own; ``seq``: its number, None where it has none;
    ``source``: the sensor's own name for one start of itself, empty where it says none."""

    times: list[float]
    values: list[float]
    seq: int | None
    unit: str
    source: str


def hear(pool: Pool, token: str, body: Any) -> Heard | None:
    """Keep what a sensor sends with a run's ``token``; None for a token of no run. What is answered as kept is kept. Raises CavrelError,
    DatabaseAway.

    ``body``: ``{"t": s, "v": value}``, or ``{"times": [...], "values": [...]}``; with ``"seq"``, a whole number that grows, the same block sent
    again is kept once; with ``"source"``, another text for each start, a sensor that begins again begins a new take; ``"unit"`` of the values.
    """
    with transaction(pool) as connection:
        run = store.run_of(connection, token)
        if run is None:
            return None
        store.lock(connection, run)
        take = store.newest(connection, run)
        if take is None or take.ended_at is not None:
            return Heard(state="waiting", place="", kept=0)
        block = understood(body)
        values = _in_unit(block, take.unit)
        last = store.last(connection, take.id)
        take = _take_of(connection, take, block, last)
        if not store.add(connection, take.id, block.seq, block.times, values):
            if block.seq != 1 or block.source:
                what = f"block {block.seq} of this take was already received with other samples, and is not kept"
                raise CavrelError("seq", f"{what}; continue the numbering, or send another 'source' for each start")
            # A sensor that numbers from 1 and was started again: what it did before stays a take of its own.
            take = store.begin(connection, run, take.place, take.unit, block.source)
            store.add(connection, take.id, block.seq, block.times, values)
        kept = store.many(connection, take.id)
        if kept > MOST_SAMPLES:
            store.end(connection, run)
    return Heard(state="listening", place=take.place, kept=kept)


def _take_of(connection: Connection, take: Take, block: Block, last: store.Last | None) -> Take:
    """The take that a block belongs to: a new one where its sensor was started again. Raises CavrelError for another sensor next to the first."""
    if last is None:
        if block.source:
            store.name(connection, take.id, block.source)
        return take
    if block.source != take.source:
        if last.ago < ALIVE:
            raise CavrelError("source", "another sensor is sending into this row; stop one of them")
        return store.begin(connection, take.run, take.place, take.unit, block.source)
    if block.seq is None and not block.source and block.times[0] < last.time - AGAIN:
        return store.begin(connection, take.run, take.place, take.unit)
    return take


def _in_unit(block: Block, wanted: str) -> list[float]:
    """The values in the unit that the place reads. Raises CavrelError for one that is another kind of thing."""
    if not block.unit or block.unit == wanted:
        return block.values
    given, own = units.unit(block.unit), units.unit(wanted)
    if given.dimension != own.dimension:
        raise CavrelError(
            "unit",
            f"{given.pretty} cannot be converted to {own.pretty or 'a plain number'}, the unit of this row’s samples",
        )
    return [own.from_si(given.to_si(value)) for value in block.values]


def understood(body: Any) -> Block:
    """A block as it was sent. Raises CavrelError naming the key at fault."""
    if not isinstance(body, Mapping):
        raise CavrelError("", 'a block is one JSON object: {"t": 0.02, "v": 1.3}')
    strange = sorted(str(key)[:20] for key in body.keys() - _KEYS)
    if strange:
        raise CavrelError(strange[0], f"is not understood; a block has {', '.join(sorted(_KEYS))}")
    single = "v" in body
    times = [body.get("t")] if single else body.get("times")
    values = [body.get("v")] if single else body.get("values")
    for name, numbers in (("t" if single else "times", times), ("v" if single else "values", values)):
        if not isinstance(numbers, list) or not 1 <= len(numbers) <= MOST_IN_A_BLOCK:
            raise CavrelError(name, f"must be a list of at most {MOST_IN_A_BLOCK} numbers")
        if not all(type(n) in (int, float) and math.isfinite(n) and abs(n) < LARGEST_SAMPLE for n in numbers):
            raise CavrelError(name, "contains something that is not a number")
    assert isinstance(times, list)
    assert isinstance(values, list)
    if len(times) != len(values):
        raise CavrelError("values", f"{len(values)} values for {len(times)} times")
    seq = body.get("seq")
    if seq is not None and not (type(seq) is int and 0 < seq < 2**62):
        raise CavrelError("seq", "must be a whole number from 1")
    texts = {name: body.get(name, "") for name in ("unit", "source")}
    for name, text in texts.items():
        if not isinstance(text, str) or len(text) > 60 or "\x00" in text:
            raise CavrelError(name, "must be a text of up to 60 characters")
    if texts["unit"]:
        units.unit(texts["unit"])
    return Block(times=[float(t) for t in times], values=[float(v) for v in values], seq=seq, **texts)


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


def listen(pool: Pool, run: int, place: str, unit: str) -> Take:
    """Begin a take of samples that are read in ``unit``. Raises DatabaseAway."""
    with transaction(pool) as connection:
        return store.begin(connection, run, place, unit)


def stop(pool: Pool, run: int) -> None:
    """End it. Raises DatabaseAway."""
    with transaction(pool) as connection:
        store.end(connection, run)


def token_of(pool: Pool, run: int) -> tuple[str, Take | None]:
    """The token of a run, and the take that listens now. Raises DatabaseAway."""
    with transaction(pool) as connection:
        take = store.newest(connection, run)
        return store.token(connection, run), take if take is not None and take.ended_at is None else None
