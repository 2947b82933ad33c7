"""A run document as the acts that would have made it: what a logbook begins with when only the sheet came with the file."""

from collections.abc import Iterator
from dataclasses import replace
from uuid import NAMESPACE_OID, uuid5

from cavrel.core.definition import Definition, choose
from cavrel.core.errors import CavrelError, RunError
from cavrel.core.logbook.document_parts import slots_of
from cavrel.core.logbook.kinds import check_entry
from cavrel.core.logbook.planned import Made, plan_entries
from cavrel.core.logbook.run import RunDocument, TraceDocument, traces, trials
from cavrel.core.logbook.slots import MOST_ROWS, Slot


def _suggested(run: RunDocument, definition: Definition) -> Iterator[Made]:
    """What a document leaves to the definition becomes a reading, for whoever wrote it took it as it is."""
    for name, body in definition.quantities.items():
        if run.suggested_in_use and body.default and body.formula is None and not any(trials(run.quantities.get(name))):
            yield "reading", f"quantities.{name}.1", {"text": body.default}


def acts(run: RunDocument, definition: Definition) -> list[Made]:
    """The entries that amount to ``run``, in an order in which each can be read; its accepted values are a laboratory's. Raises CavrelError
    where a logbook could not hold it."""
    for name, columns in run.series.items():
        most = max((len(cells) for cells in columns.values()), default=0)
        if most > MOST_ROWS:
            raise RunError(f"series.{name}", f"has {most} rows, and a table of a run has {MOST_ROWS} at most")
    chosen = choose(definition, run.options)
    before, places = _exchanged(run)
    read: list[Made] = [
        *before,
        *(("run", "run:on-screen", {"value": True}) for _ in range(run.on_screen)),
        *(("zero", f"zero:{name}", {"text": text}) for name, text in run.zeros.items()),
        *(("reading", slot, {"text": text}) for slot, text in slots_of(run) if slot not in places),
        *_suggested(run, definition),
        *(made for made in _traced(run) if _place_of(made) not in places),
        *(
            ("mark", f"mark:{name}.{row}", {"text": text})
            for name, texts in run.marks.items()
            for row, text in enumerate(texts, 1)
            if text
        ),
        *(
            ("leave-out", f"out:{name}.{place}", {"reason": reason})
            for name, reasons in run.excluded.items()
            for place, reason in reasons.items()
        ),
        *(("report", f"report:{part}", {"text": text}) for part, text in run.report.items()),
        *_noted(run),
    ]
    for kind, slot, body in read:
        try:
            check_entry(chosen, kind, slot, body)
        except CavrelError as fault:
            raise RunError(slot, fault.what) from fault
    planned = {name: fields for name, fields in run.instruments.items() if name not in run.taken_with}
    return [*plan_entries(definition, run.model_copy(update={"instruments": planned})), *read]


def _exchanged(run: RunDocument) -> tuple[list[Made], frozenset[str]]:
    """Instruments that others took the place of, each followed by what was read with it, then the ones in use; and the places so filled."""
    texts, found, places = dict(slots_of(run)), list[Made](), set[str]()
    traced = list(_traced(run))
    for level in range(max(map(len, run.taken_with.values()), default=0)):
        for name, before in run.taken_with.items():
            if level >= len(before):
                continue
            one = before[level]
            if one.fields or level:
                found.append(("instrument", f"instrument:{name}", dict(one.fields)))
            if one.zero.strip():
                found.append(("zero", f"zero:{name}", {"text": one.zero}))
            found += [("reading", slot, {"text": texts[slot]}) for slot in one.places if slot in texts]
            found += [made for made in traced if _place_of(made) in one.places]
            places |= {*one.places}
    found += [("instrument", f"instrument:{name}", dict(run.instruments.get(name, {}))) for name in run.taken_with]
    return found, frozenset(places)


def _place_of(made: Made) -> str:
    """The reading that an entry about samples belongs to."""
    slot = Slot.read(made[1].partition(":")[2])
    return str(replace(slot, trial=slot.trial or 1)) if slot is not None else ""


def _traced(run: RunDocument) -> Iterator[Made]:
    for name, columns in run.traces.items():
        for column, cells in columns.items():
            for row, cell in enumerate(cells, 1):
                for trial, trace in enumerate(traces(cell), 1):
                    if trace is not None:
                        yield from _trace(f"{name}.{column}.{row}" + (f".{trial}" if trial > 1 else ""), trace)


def _trace(place: str, trace: TraceDocument) -> Iterator[Made]:
    body = trace.model_dump(mode="json", exclude_defaults=True, exclude={"begin", "end"})
    yield "trace", f"trace:{place}", body
    if trace.begin is not None or trace.end is not None:
        yield "stretch", f"stretch:{place}", {"begin": trace.begin, "end": trace.end}


def _noted(run: RunDocument) -> Iterator[Made]:
    for number, note in enumerate(run.notes):
        text = note if isinstance(note, str) else str(note.get("text", ""))
        if text.strip():
            yield "note", f"note:{uuid5(NAMESPACE_OID, f'{number} {text}')}", {"text": text}
