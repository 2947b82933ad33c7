"""The simulated apparatus of a run: made when it is first asked for, its truths hidden behind a seed."""

import secrets
from dataclasses import dataclass

from cavrel.core.bench import Bench, instrument_faults
from cavrel.core.errors import CavrelError
from cavrel.service.run_view import RunView
from cavrel.store import simulations as store
from cavrel.store.pool import Pool, transaction


def apparatus(pool: Pool, opened: RunView) -> Bench:
    """The apparatus of a run with what is set in it now. Raises CavrelError where the experiment has none, DatabaseAway."""
    with transaction(pool) as connection:
        kept = store.of_run(connection, opened.run.id)
        if kept is None:
            kept = store.put(connection, opened.run.id, secrets.randbits(48), ())
    known = {fault.name for fault in faults_of(opened)}
    return Bench(opened.program, opened.state.run, kept.seed, [name for name in kept.faults if name in known])


def of_run(pool: Pool, opened: RunView) -> Bench | None:
    """The same where the run was read on it; None for readings that came from elsewhere. Raises CavrelError, DatabaseAway."""
    with transaction(pool) as connection:
        made = store.of_run(connection, opened.run.id) is not None
    return apparatus(pool, opened) if made and opened.simulated else None


@dataclass(frozen=True, slots=True)
class CanGoWrong:
    """``name``: as it is kept. ``label``: in words. ``on``: it does."""

    name: str
    label: str
    on: bool = False


def faults_of(opened: RunView, on: tuple[str, ...] = ()) -> list[CanGoWrong]:
    """What can be made to go wrong in the apparatus of a run."""
    plan = opened.definition.simulate
    own = [(name, fault.label) for name, fault in plan.faults.items()] if plan else []
    return [CanGoWrong(name, label, name in on) for name, label in [*own, *instrument_faults(opened.program)]]


def switched(pool: Pool, opened: RunView) -> list[CanGoWrong]:
    """The same with which of them are on. Raises DatabaseAway."""
    with transaction(pool) as connection:
        kept = store.of_run(connection, opened.run.id)
    return faults_of(opened, kept.faults if kept else ())


def switch(pool: Pool, opened: RunView, wanted: list[str]) -> None:
    """Let what is ``wanted`` go wrong from now on, and nothing else. Raises CavrelError for what cannot, DatabaseAway."""
    known = {fault.name for fault in faults_of(opened)}
    strange = [name for name in wanted if name not in known]
    if strange:
        raise CavrelError("faults", f"'{strange[0][:40]}' is not a fault of this experiment")
    Bench(opened.program, opened.state.run, 0, wanted)  # what cannot be together is refused before it is kept
    with transaction(pool) as connection:
        store.put(connection, opened.run.id, secrets.randbits(48), wanted)
