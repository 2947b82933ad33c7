"""A run opened: its definition, its sheet as it stands, and everything that follows from it. All stages draw from this."""

import json
import logging
from collections import OrderedDict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timezone
from functools import cached_property, lru_cache
from threading import Lock

from cavrel import catalogue
from cavrel.core.analysis import Analysis, ResultAnalysis, analyse
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.definition import Definition
from cavrel.core.definition.steps import Program
from cavrel.core.errors import CavrelError
from cavrel.core.findings import remarks
from cavrel.core.findings.flag import Flag
from cavrel.core.findings.slips import Slip, find
from cavrel.core.findings.straighten import LineMeaning
from cavrel.core.logbook import Entry, SheetState, assemble
from cavrel.core.logbook.run import RunDocument
from cavrel.store import entries as entry_store
from cavrel.store import runs as run_store
from cavrel.store.pool import Connection, Pool, transaction
from cavrel.store.runs import Course, Run

log = logging.getLogger("cavrel")


@dataclass(frozen=True)
class Opened:
    """A run as it stands.

    ``base``: the definition it is pinned to; ``definition``: the same under the conventions chosen.
    ``flags``: suspicions nobody has answered; ``answered``: those that a person let stand.
    ``slips``: sought when they are first looked at, for each takes an analysis of its own.
    """

    run: Run
    base: Definition
    definition: Definition
    program: Program
    entries: tuple[Entry, ...]
    state: SheetState
    analysis: Analysis
    flags: tuple[Flag, ...]
    answered: tuple[Flag, ...]
    meanings: Mapping[str, LineMeaning]

    @cached_property
    def slips(self) -> tuple[Slip, ...]:
        """What each suspicion would change."""
        return find(self.analysis, self.flags)

    @property
    def begun(self) -> datetime:
        """When its first entry was written; when it was started, while there is none."""
        return self.entries[0].made_at if self.entries else self.run.made_at

    @property
    def fit(self) -> FitAnalysis | None:
        """The first fit, which Straighten shows unless another is asked for."""
        return next(iter(self.analysis.fits.values()), None)

    @property
    def result(self) -> ResultAnalysis | None:
        """The first result, by which a run is judged at a glance."""
        return next(iter(self.analysis.results.values()), None)


MOST_BYTES = 192 * 1024 * 1024


class _Recent:
    """The runs opened last, each as it stood last, within so many bytes. A cache of a pure function: any process may forget it at any
    time."""

    def __init__(self, most: int) -> None:
        self._kept: OrderedDict[tuple[int, datetime], tuple[tuple[object, ...], Opened, int]] = OrderedDict()
        self._most, self._held, self._lock = most, 0, Lock()

    def get(self, run: tuple[int, datetime], state: tuple[object, ...]) -> Opened | None:
        with self._lock:
            found = self._kept.get(run)
            if found is None or found[0] != state:
                return None
            self._kept.move_to_end(run)
            return found[1]

    def put(self, run: tuple[int, datetime], state: tuple[object, ...], opened: Opened) -> None:
        size = _bytes(opened)
        with self._lock:
            self._held -= self._kept.pop(run, (None, None, 0))[2]
            self._kept[run] = (state, opened, size)
            self._held += size
            while self._held > self._most and self._kept:
                self._held -= self._kept.popitem(last=False)[1][2]


def _bytes(opened: Opened) -> int:
    """About how much memory an opened run holds: its entries as they lie, and the batch of its analysis."""
    samples = sum(len(values) for entry in opened.entries if isinstance(values := entry.body.get("values"), list))
    batch = opened.analysis.pushes.batch * (8 + 2 * len(opened.analysis.results))
    return 200_000 + 2_000 * len(opened.entries) + 150 * samples + 8 * batch


_recent = _Recent(MOST_BYTES)


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
    newest = (entries[-1].id, entries[-1].saved_at) if entries else (0, None)
    rules = json.dumps([run.course_rules, run.rules, run.instruments], sort_keys=True, default=str)
    state = (run.hash, run.title, run.bench, *newest, rules)
    known = _recent.get((run.id, run.made_at), state)
    if known is not None:
        return known
    opened = work_out(run, definition_of(connection, run.hash), entries)
    _recent.put((run.id, run.made_at), state, opened)
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
    """Sheet, analysis and remarks of a run from its entries.

    What an entry says is never a reason to show nothing: where the conventions chosen cannot be used together, or something cannot be worked
    out, the page opens without it and says so.
    """
    rules, broken = {**run.course_rules, **run.rules}, list[Flag]()
    state = assemble(definition, entries, rules, run.instruments)
    try:
        program = catalogue.program_of(definition, state.run.instruments, state.run.options)
    except CavrelError as fault:
        say = f"{fault.what[0].upper()}{fault.what[1:]}. The page shows the usual ones; nothing written is lost."
        broken.append(Flag("clashing", "danger", "run", "These conventions cannot be used together", say))
        plain = tuple(entry for entry in entries if entry.kind != "option")
        state = replace(assemble(definition, plain, rules, run.instruments), latest=state.latest)
        program = catalogue.program_of(definition, state.run.instruments, state.run.options)
    meanings: Mapping[str, LineMeaning] = {}
    try:
        analysis = analyse(program, state.run)
        meanings = catalogue.meanings_of(definition, state.run.options)
        found = remarks(analysis, meanings)
    except Exception:
        log.exception("run %s cannot be worked out", run.id)
        say = "Every reading is kept. The server's log says what went wrong; the last entry may be the cause."
        broken.append(Flag("unworked", "danger", "run", "This cannot be worked out", say))
        analysis, found = analyse(program, _without_readings(state.run)), ()
    # An answer holds for what was seen when it was given; a new reading in the same place asks again.
    answered = tuple(f for f in found if state.stands.get(f"{f.code}@{f.at}") == f.seen)
    flags = (*broken, *(f for f in found if f not in answered))
    return Opened(run, definition, state.definition, program, entries, state, analysis, flags, answered, meanings)


def _without_readings(run: RunDocument) -> RunDocument:
    return RunDocument(format=run.format, experiment=run.experiment, options=run.options)
