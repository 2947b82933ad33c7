"""A run opened: its definition, its sheet as it stands, and everything that follows from it. All stages draw from this."""

import logging
from collections import OrderedDict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timezone
from functools import cached_property
from threading import Lock
from typing import Any

from cavrel import catalogue
from cavrel.core.analysis import Analysis, ResultAnalysis, analyse
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.definition import Definition
from cavrel.core.definition.headings import MOST_MEETING, adds, meets_rows, without_own
from cavrel.core.definition.steps import Program
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.findings import findings_of
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.meaning import LineMeaning
from cavrel.core.findings.verdict import Verdict, check_first, checked_verdict
from cavrel.core.laboratory import EMPTY as EMPTY_CUPBOARD
from cavrel.core.laboratory import Laboratory, Selection
from cavrel.core.logbook import EMPTY, Book, Entry, SheetState, assemble, sheet_of
from cavrel.core.logbook.run import RunDocument
from cavrel.core.slips import Found, find
from cavrel.service.laboratories import taken
from cavrel.store.runs import Run

log = logging.getLogger("cavrel")


class _Sought:
    """What was found on the sheets that were looked at last."""

    def __init__(self, most: int) -> None:
        self._most, self._lock = most, Lock()
        self._kept: OrderedDict[tuple[int, str, frozenset[str]], tuple[Program, Found]] = OrderedDict()

    def of(self, key: tuple[Program, str, frozenset[str]], opened: "RunView") -> Found:
        """What stands on the sheet that ``key`` tells from all others; sought where that was not looked at lately."""
        program, readings, refused = key
        own = id(program), readings, refused
        with self._lock:
            if own in self._kept:
                self._kept.move_to_end(own)
                return self._kept[own][1]
        try:
            found = find(opened.analysis, catalogue.alternatives(opened.base, opened.state.run), refused)
        except Exception:  # a page that cannot say what may be wrong still shows what is right
            log.exception("mistakes of run %s cannot be searched for", opened.run.id)
            return Found(suspects=(), clean=1.0, other=0.0, tried=0)
        with self._lock:
            self._kept[own] = program, found
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
        return found


_sought = _Sought(64)


@dataclass(frozen=True)
class RunView:
    """A run as it stands.

    ``run``: its record.
    ``base``: the definition it is pinned to.
    ``laboratory``: the version of the course's laboratory that it goes by.
    ``definition``: the same under the conventions chosen.
    ``program``: compiled from that.
    ``entries``: its logbook in the order they were saved.
    ``state``: the sheet they amount to.
    ``analysis``: of that sheet.
    ``findings``: remarks nobody has answered.
    ``answered``: those that a person let stand.
    ``meanings``: what the law says of each line.
    ``shown``: what has been made of it for a page, by name; a run as it stands never changes, so it is made once.
    """

    run: Run
    base: Definition
    laboratory: Laboratory
    definition: Definition
    program: Program
    entries: tuple[Entry, ...]
    state: SheetState
    analysis: Analysis
    findings: tuple[Finding, ...]
    answered: tuple[Finding, ...]
    meanings: Mapping[str, LineMeaning]
    shown: dict[str, Any] = field(default_factory=dict, compare=False, repr=False)

    @property
    def last(self) -> int:
        """Its newest entry, 0 where there is none."""
        return self.entries[-1].id if self.entries else 0

    @cached_property
    def suspected(self) -> Found:
        """What may have gone wrong: sought when somebody looks, never in a save."""
        refused = frozenset(key.partition("@")[0] for key in self.state.stands if key.startswith("slip-"))
        # Of a text of the report or a note the readings say nothing new: what was found stays.
        readings = self.state.run.model_dump_json(exclude={"report", "notes", "plan", "expected", "marks"})
        return _sought.of((self.program, readings, refused), self)

    def verdict(self, result: ResultAnalysis) -> Verdict:
        """The verdict on a result. Agreement waits for open remarks, and for a likely mistake once one was searched for."""
        verdict = checked_verdict(self.analysis, result, self.findings)
        found: Found | None = vars(self).get("suspected")
        if verdict.kind == "agrees" and found is not None and found.suspects:
            return check_first(verdict, "a mistake is likely; see “Possible mistakes”")
        return verdict

    @property
    def simulated(self) -> bool:
        """Whether its readings are those of simulated apparatus."""
        return self.state.run.on_screen

    @property
    def title(self) -> str:
        """What it is called wherever it leaves Cavrel: with simulated readings, so said."""
        return f"{self.run.title} (simulated readings)" if self.simulated else self.run.title

    @property
    def begun(self) -> datetime:
        """When its first entry was written; when it was started, while there is none."""
        return self.entries[0].made_at if self.entries else self.run.made_at

    @property
    def fit(self) -> FitAnalysis | None:
        """The first fit, which Fit shows unless another is asked for."""
        return next(iter(self.analysis.fits.values()), None)

    @property
    def result(self) -> ResultAnalysis | None:
        """The point of the experiment, by which a run is judged at a glance."""
        return next(iter(self.analysis.results.values()), None)


def unstarted(
    definition: Definition, laboratory: Laboratory, options: Mapping[str, str], readings: Iterable[tuple[str, str]] = ()
) -> RunView:
    """An experiment as it would open under ``options``, before its first reading or with ``readings``, (slot, text), that no run holds."""
    now = datetime.now(timezone.utc)
    made = [("option", f"option:{name}", {"choice": choice}) for name, choice in options.items()]
    made += [("reading", slot, {"text": text}) for slot, text in readings]
    entries = tuple(
        Entry(id=i, kind=kind, slot=slot, body=body, author="", made_at=now, saved_at=now)
        for i, (kind, slot, body) in enumerate(made, 1)
    )
    run = Run(
        id=0,
        title=definition.title,
        course=0,
        course_title="",
        laboratory=0,
        digest="",
        rules={},
        instruments={},
        bench="",
        hash=definition.content_hash(),
        experiment=definition.id,
        made_at=now,
        newest=0,
    )
    return compute(run, definition, entries, laboratory)


def compute(
    run: Run,
    definition: Definition,
    entries: tuple[Entry, ...],
    laboratory: Laboratory = EMPTY_CUPBOARD,
    book: Book | None = None,
) -> RunView:
    """Sheet, analysis and remarks of a run from its entries; ``book``: the same folded, where it is known.

    What an entry says is never a reason to show nothing: where the conventions chosen cannot be used together, or something cannot be worked
    out, the page opens without it and says so.
    """
    broken = list[Finding]()
    program: Program | None

    def takes(chosen: Definition) -> Selection:
        return taken(chosen, laboratory)

    book = EMPTY.with_entries(entries) if book is None else book
    try:
        state = sheet_of(definition, book, run.rules, run.instruments, takes)
    except Exception:
        # The wall round a run: whatever its entries say, its pages open, and the logbook is there to take the last of them back.
        log.exception("the entries of run %s make no sheet", run.id)
        say = "Every entry is in the logbook. The server’s log says what went wrong; undo the last entry."
        broken.append(
            Finding(
                code="not-computed", level="danger", at="run", title="These entries cannot be read as a table", say=say
            )
        )
        empty = sheet_of(definition, EMPTY, {}, {}, takes)
        state = replace(empty, latest=book.latest, count=book.count, notes=book.notes)
    own = {key for key, heading in state.run.headings.items() if adds(heading)}
    if own:
        try:
            _not_too_large(state)
            _program(definition, state.run)
        except CavrelError as fault:
            headings = {key: heading for key, heading in state.run.headings.items() if key not in own}
            state = replace(
                state,
                definition=without_own(state.definition, state.run.headings),
                run=state.run.model_copy(update={"headings": headings}),
            )
            say = f"{fault.what[0].upper()}{fault.what[1:]}. Columns, words and lines of your own are not shown until it is changed in Plan."
            broken.append(
                Finding(
                    code="clashing",
                    level="danger",
                    at="run",
                    title="A column or a line of your own cannot be computed",
                    say=say,
                )
            )
    try:
        program = _program(definition, state.run)
    except CavrelError as fault:
        say = f"{fault.what[0].upper()}{fault.what[1:]}. The page shows the usual ones; nothing typed is lost."
        program = _without_instruments(definition, state.run)
        if program is not None:
            title = "An instrument or a value of the laboratory does not fit this experiment"
        else:
            title = "These conventions cannot be used together"
            plain = tuple(entry for entry in entries if entry.kind != "option")
            state = replace(assemble(definition, plain, run.rules, run.instruments, takes), latest=state.latest)
            program = _without_instruments(definition, state.run) or catalogue.program_of(definition)
        broken.append(Finding(code="clashing", level="danger", at="run", title=title, say=say))
    meanings: Mapping[str, LineMeaning] = {}
    try:
        analysis = analyse(program, state.run)
        meanings = catalogue.meanings_of(definition, state.run.options)
        found = findings_of(analysis, meanings)
    except Exception:
        log.exception("run %s cannot be computed", run.id)
        say = "Every reading is saved. The server’s log says what went wrong; the last entry may be the cause."
        broken.append(
            Finding(code="not-computed", level="danger", at="run", title="The results cannot be computed", say=say)
        )
        analysis, found = analyse(program, _without_readings(state.run)), ()
    # An answer holds for what was seen when it was given; a new reading in the same place asks again.
    answered = tuple(f for f in found if state.stands.get(f"{f.code}@{f.at}") == f.seen)
    findings = (*broken, *(f for f in found if f not in answered))
    return RunView(
        run=run,
        base=definition,
        laboratory=laboratory,
        definition=state.definition,
        program=program,
        entries=entries,
        state=state,
        analysis=analysis,
        findings=findings,
        answered=answered,
        meanings=meanings,
    )


def _not_too_large(state: SheetState) -> None:
    """Raises DefinitionError where a column of the run's own would take more memory than a page may."""
    for key, heading in state.run.headings.items():
        rows = state.rows.get(key.partition(".")[0], 0)
        if heading.formula is not None and rows > MOST_MEETING and meets_rows(heading):
            what = f"{heading.formula} takes values of other rows, which is done in tables of up to {MOST_MEETING} rows; this one has {rows}"
            raise DefinitionError(f"headings.{key}", what)


def _without_instruments(definition: Definition, run: RunDocument) -> Program | None:
    """The program without what the run says of instruments and values; None where it is something else that does not fit."""
    try:
        return catalogue.program_of(definition, {}, run.options, None, run.headings)
    except CavrelError:
        return None


def _program(definition: Definition, run: RunDocument) -> Program:
    return catalogue.program_of(definition, run.instruments, run.options, run.accepted, run.headings, run.earlier())


def _without_readings(run: RunDocument) -> RunDocument:
    return RunDocument(format=run.format, experiment=run.experiment, options=run.options)
