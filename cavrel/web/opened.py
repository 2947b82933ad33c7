"""A run opened: its definition, its sheet as it stands, and everything that follows from it. All stages draw from this."""

import json
from collections import OrderedDict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime, timezone
from functools import lru_cache
from threading import Lock

from cavrel import catalogue
from cavrel.core.analysis import Analysis, ResultAnalysis, analyse
from cavrel.core.definition import Definition
from cavrel.core.fitted import FitAnalysis
from cavrel.core.flag import Flag
from cavrel.core.logbook import Entry, SheetState, assemble
from cavrel.core.remarks import remarks
from cavrel.core.slips import Slip, find
from cavrel.core.steps import Program
from cavrel.core.straighten import LineMeaning
from cavrel.store import entries as entry_store
from cavrel.store import runs as run_store
from cavrel.store.pool import Connection, Pool, transaction
from cavrel.store.runs import Course, Run


@dataclass(frozen=True, slots=True)
class Opened:
    """``base``: the definition a run is pinned to; ``definition``: the same under the conventions chosen;
    ``flags``: suspicions nobody has answered; ``answered``: those that a person let stand."""

    run: Run
    base: Definition
    definition: Definition
    program: Program
    entries: tuple[Entry, ...]
    state: SheetState
    analysis: Analysis
    flags: tuple[Flag, ...]
    answered: tuple[Flag, ...]
    slips: tuple[Slip, ...]
    meanings: Mapping[str, LineMeaning]

    @property
    def fit(self) -> FitAnalysis | None:
        """The first fit, which Straighten shows unless another is asked for."""
        return next(iter(self.analysis.fits.values()), None)

    @property
    def result(self) -> ResultAnalysis | None:
        """The first result, by which a run is judged at a glance."""
        return next(iter(self.analysis.results.values()), None)


class _Recent:
    """The last few runs opened, by run and newest entry. A cache of a pure function: any process may forget it at any time."""

    def __init__(self, size: int) -> None:
        self._kept: OrderedDict[tuple[object, ...], Opened] = OrderedDict()
        self._size, self._lock = size, Lock()

    def get(self, key: tuple[object, ...]) -> Opened | None:
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
            return self._kept.get(key)

    def put(self, key: tuple[object, ...], opened: Opened) -> None:
        with self._lock:
            self._kept[key] = opened
            while len(self._kept) > self._size:
                self._kept.popitem(last=False)


_recent = _Recent(200)


@lru_cache(maxsize=512)
def _definition(digest: str, text: str) -> Definition:
    return Definition.model_validate_json(text)


def definition_of(connection: Connection, digest: str) -> Definition:
    """The definition a run is pinned to."""
    return _definition(digest, json.dumps(run_store.pinned(connection, digest)))


def open_run(pool: Pool, run_id: int) -> Opened | None:
    """Everything about one run, or None if there is none of this number. Raises DatabaseAway."""
    with transaction(pool) as connection:
        return open_in(connection, run_id)


def open_in(connection: Connection, run_id: int) -> Opened | None:
    """The same inside a transaction of the caller's."""
    run = run_store.get(connection, run_id)
    if run is None:
        return None
    entries = tuple(entry_store.of_run(connection, run_id))
    # The database's own marks keep two databases that one process serves one after the other apart.
    key = (run.id, run.made_at, run.hash, entries[-1].id if entries else 0, entries[-1].saved_at if entries else None)
    known = _recent.get(key)
    if known is not None:
        return known
    opened = work_out(run, definition_of(connection, run.hash), entries)
    _recent.put(key, opened)
    return opened


def unstarted(
    definition: Definition, course: Course | None, options: Mapping[str, str], readings: Iterable[tuple[str, str]] = ()
) -> Opened:
    """An experiment as it would open under ``options``, before its first reading or with ``readings``, (slot, text), that no run holds."""
    now = datetime.now(timezone.utc)
    made = [("option", f"option:{name}", {"choice": choice}) for name, choice in options.items()]
    made += [("reading", slot, {"text": text}) for slot, text in readings]
    entries = tuple(Entry(i, kind, slot, body, "", now, now) for i, (kind, slot, body) in enumerate(made, 1))
    rules = course.rules if course else {}
    run = Run(0, definition.title, 0, "", rules, {}, {}, "", definition.content_hash(), definition.id, now, 0)
    return work_out(run, definition, entries)


def work_out(run: Run, definition: Definition, entries: tuple[Entry, ...]) -> Opened:
    """Sheet, analysis, remarks and slips of a run from its entries."""
    state = assemble(definition, entries, {**run.course_rules, **run.rules}, run.instruments)
    program = catalogue.program_of(definition, state.run.instruments, state.run.options)
    analysis = analyse(program, state.run)
    meanings = catalogue.meanings_of(definition, state.run.options)
    found = remarks(analysis, meanings)
    # An answer holds for what was seen when it was given; a new reading in the same place asks again.
    answered = tuple(f for f in found if state.stands.get(f"{f.code}@{f.at}") == f.seen)
    flags = tuple(f for f in found if f not in answered)
    slips = find(analysis, flags)
    return Opened(
        run, definition, state.definition, program, entries, state, analysis, flags, answered, slips, meanings
    )
