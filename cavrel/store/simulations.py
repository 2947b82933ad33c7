"""The simulated apparatus of a run: its seed and its faults."""

from collections.abc import Sequence
from dataclasses import dataclass

from cavrel.store import locks
from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True)
class StandIn:
    """``seed``: that its truths follow from. ``faults``: names of what goes wrong in it."""

    seed: int
    faults: tuple[str, ...]


def of_run(connection: Connection, run: int) -> StandIn | None:
    """The apparatus of a run as it stands, None where it has none."""
    row = connection.execute(
        "select seed, faults from standin where run = %s order by id desc limit 1", [run]
    ).fetchone()
    return StandIn(int(row["seed"]), tuple(row["faults"])) if row else None


def put(connection: Connection, run: int, seed: int, faults: Sequence[str]) -> StandIn:
    """Keep the next state of it; the first seed of a run stays, whoever else made one at the same moment."""
    locks.hold(connection, locks.Of.STANDIN, run)
    before = of_run(connection, run)
    kept = StandIn(before.seed if before else seed, tuple(faults))
    if kept != before:
        connection.execute(
            "insert into standin (run, seed, faults) values (%s, %s, %s)", [run, kept.seed, list(kept.faults)]
        )
    return kept
