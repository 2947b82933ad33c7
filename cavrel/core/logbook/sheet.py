"""The sheet that a logbook amounts to: what is in force of the latest entry of each slot."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from cavrel.core.definition import Definition, choose
from cavrel.core.definition.headings import Heading, check, headed
from cavrel.core.errors import DefinitionError
from cavrel.core.laboratory import NOTHING, Selection
from cavrel.core.logbook import document_parts
from cavrel.core.logbook.book import EMPTY, Book, Correction
from cavrel.core.logbook.effective_state import Standing
from cavrel.core.logbook.entry import LONGEST_TEXT, Entry, EntryError, effective
from cavrel.core.logbook.exchanges import taken_with, zeros_now
from cavrel.core.logbook.kinds import KINDS, check_reading
from cavrel.core.logbook.run import RunDocument
from cavrel.core.logbook.slots import MOST_ROWS, MOST_TRIALS, Slot

MOST_NOTES = 2000

Takes = Callable[[Definition], Selection]
"""What an experiment, under its conventions, takes out of the laboratory."""


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetState:
    """What the logbook amounts to now.

    ``run``: the run document.
    ``definition``: the experiment under the conventions chosen.
    ``latest``: slot -> its latest entry.
    ``corrections``: slot -> correction.
    ``left_out``: slot without ``out:`` -> entry.
    ``stands``: answered remarks, ``CODE@AT`` -> the texts they were answered for.
    ``rows``: series -> rows ruled.
    ``trials``: ``series.column`` -> trials ruled.
    ``clashes``: slots where two pages wrote over the same reading, with the text that lost.
    ``late``: slot -> a reading that came after a newer one and waits for somebody to say which holds.
    ``notes``: in time.
    ``count``: entries.
    ``ticks``: what was made ready, looked at or read -> its entry: ``apparatus.0``, ``check.rule``, ``caution.0``.
    ``orders``: series -> how its rows are shown: ``by`` a column, or ``rows`` that come first.
    ``marking``: what markers say of signed versions: ``1.remark.aim``, ``1.points.graph``, ``1.given``.
    """

    run: RunDocument
    definition: Definition
    latest: Mapping[str, Entry]
    corrections: Mapping[str, Correction]
    left_out: Mapping[str, Entry]
    stands: Mapping[str, str]
    rows: Mapping[str, int]
    trials: Mapping[str, int]
    clashes: Mapping[str, str]
    late: Mapping[str, Entry]
    notes: tuple[Entry, ...]
    count: int
    ticks: Mapping[str, Entry]
    orders: Mapping[str, Mapping[str, Any]]
    marking: Mapping[str, Mapping[str, Any]]


def assemble(
    definition: Definition,
    entries: Iterable[Entry],
    rules: Mapping[str, Any] | None = None,
    instruments: Mapping[str, Any] | None = None,
    takes: Takes = lambda _: NOTHING,
) -> SheetState:
    """The sheet that ``entries``, in the order they were saved, amount to. ``rules`` and ``instruments`` are the run's own over what it
    ``takes`` out of the laboratory."""
    return sheet_of(definition, EMPTY.with_entries(entries), rules, instruments, takes)


def sheet_of(
    definition: Definition,
    book: Book,
    rules: Mapping[str, Any] | None = None,
    instruments: Mapping[str, Any] | None = None,
    takes: Takes = lambda _: NOTHING,
) -> SheetState:
    """The sheet that a logbook amounts to.

    Readings of a place that the conventions chosen do not have stay in the logbook and come back with their convention.
    """
    latest = book.latest
    standing = Standing()
    for slot, entry in latest.items():
        kind, body = effective(entry)
        if kind is not None and kind in KINDS:
            KINDS[kind].apply(standing, slot, body, entry)
    options = {name: c for name, c in standing.options.items() if c != definition.options[name].default}
    definition = choose(definition, options)
    headings = _headings(definition, book, standing)
    if headings:
        definition = headed(definition, headings)
    of_course = takes(definition)
    readings = _read_here(definition, standing.readings)
    settings = _settings_here(definition, standing)
    rows, trials = _sizes(definition, readings, standing.sizes, settings)
    for text in standing.traces:
        traced = Slot.read(text)
        if traced is not None and traced.series in rows:
            rows[traced.series] = max(rows[traced.series], traced.row)
            trials[traced.key] = max(trials.get(traced.key, 1), traced.trial)
    left_out = standing.left_out
    given = {**of_course.instruments, **(instruments or {})}
    run = RunDocument.model_validate(
        {
            "format": "cavrel-run/1",
            "experiment": definition.id,
            "options": options,
            "rules": {**of_course.rules, **(rules or {}), **standing.rules},
            "instruments": _instruments(definition, given, standing.instruments),
            "accepted": dict(of_course.accepted),
            "taken_with": taken_with(definition, book, given),
            "zeros": zeros_now(definition, book, standing.zeros, given),
            "headings": headings,
            "marks": {
                name: [rows_of.get(i) for i in range(1, max(rows_of) + 1)]
                for name, rows_of in standing.marks.items()
                if name in definition.series
            },
            "expected": {name: shape for name, shape in standing.foreseen.items() if name in definition.fits},
            "suggested_in_use": False,
            "on_screen": "run:on-screen" in latest and effective(latest["run:on-screen"])[0] == "run",
            "report": dict(standing.report),
            "plan": _plan(definition, standing, settings),
            "quantities": document_parts.quantities(readings),
            "series": document_parts.series(definition, readings),
            "traces": document_parts.traces(definition, standing.traces, standing.stretches),
            "excluded": document_parts.excluded({s: e for s, e in left_out.items() if _stands_here(definition, s)}),
            "notes": [str(effective(note)[1].get("text", ""))[:LONGEST_TEXT] for note in book.notes[-MOST_NOTES:]],
        }
    )
    return SheetState(
        run=run,
        definition=definition,
        latest=latest,
        corrections=book.corrections,
        left_out=left_out,
        stands=standing.stands,
        rows=rows,
        trials=trials,
        clashes=book.clashes,
        late=standing.late,
        notes=book.notes,
        count=book.count,
        ticks=standing.ticks,
        orders=standing.orders,
        marking=standing.marking,
    )


def _headings(definition: Definition, book: Book, standing: Standing) -> dict[str, Heading]:
    """Headings in force. What was typed was typed under the unit of its time: from the first reading on a column keeps that one."""
    found = {}
    for key, body in standing.headings.items():
        heading = Heading.model_validate(body)
        typed = first_typed(book, key)
        if typed is not None:
            before = [entry for entry in book.history[f"heading:{key}"] if entry.id < typed]
            kind, then = effective(before[-1]) if before else (None, {})
            heading = heading.model_copy(update={"unit": then.get("unit") if kind == "heading" else None})
        try:
            check(definition, key, heading)
        except DefinitionError:
            continue  # of a convention that is not chosen now
        if key in definition.series:
            heading = heading.model_copy(update={"hidden": None})  # an entry of its own says which parts are done
        if heading != Heading():
            found[key] = heading
    for name in sorted(standing.without & set(definition.series)):
        gone = {**found, name: found.get(name, Heading()).model_copy(update={"hidden": True})}
        try:
            headed(definition, gone)
        except DefinitionError:
            continue  # nothing would be left under the conventions of now
        found = gone
    return found


def first_typed(book: Book, key: str) -> int | None:
    """The first entry that holds a number of a column or quantity: a reading, or set points; None while there is none."""
    start = f"{key}." if "." in key else f"quantities.{key}."
    typed = [line[0].id for slot, line in book.history.items() if slot.startswith(start) or slot == f"settings:{key}"]
    return min(typed, default=None)


def _read_here(definition: Definition, readings: Mapping[str, str]) -> document_parts.Readings:
    """The readings of places that the experiment, under its conventions, has."""
    known: dict[str, bool] = {}
    found: dict[Slot, str] = {}
    for text, reading in readings.items():
        slot = Slot.read(text)
        if slot is None:
            continue
        if slot.key not in known:
            known[slot.key] = _is_read(definition, str(replace(slot, row=min(slot.row, 1), trial=1)))
        # What an older version accepted beyond a table's end stays in the logbook and stands nowhere.
        if known[slot.key] and slot.row <= MOST_ROWS and slot.trial <= MOST_TRIALS:
            found[slot] = reading
    return found


def _is_read(definition: Definition, slot: str) -> bool:
    try:
        check_reading(definition, slot)
    except EntryError:
        return False
    return True


def _settings_here(definition: Definition, standing: Standing) -> dict[str, list[str]]:
    """Planned set points of columns that the experiment, under its conventions, has."""
    found = {}
    for key, texts in standing.settings.items():
        series, _, column = key.partition(".")
        own = definition.series.get(series)
        if own is not None and column in own.columns and own.columns[column].column_role.chosen:
            found[key] = texts
    return found


def _instruments(
    definition: Definition, given: Mapping[str, Any], chosen: Mapping[str, dict[str, str]]
) -> dict[str, dict[str, str]]:
    """The run's instruments: those it was started with, and over them those that its plan chose."""
    found = {name: dict(fields) for name, fields in given.items()}
    return found | {name: fields for name, fields in chosen.items() if name in definition.instruments}


def _stands_here(definition: Definition, slot: str) -> bool:
    """Whether what was left out belongs to a place that the experiment, under its conventions, has."""
    place = Slot.read(slot)
    if place is None:
        return False
    return place.series in definition.series if place.series else place.name in definition.quantities


def _plan(definition: Definition, standing: Standing, settings: Mapping[str, list[str]]) -> dict[str, Any]:
    """What was decided before the first reading, as the run document holds it."""
    words: dict[str, dict[str, str]] = {"reason": {}, "role": {}, "foreseen": {}}
    for slot, text in standing.words.items():
        of, _, which = slot.partition(".")
        if of in words and (of != "foreseen" or which in definition.results):
            words[of][which] = text
    sizes = standing.sizes
    return {
        "settings": dict(settings),
        "trials": {
            key: count
            for slot, count in sizes.items()
            if slot in standing.planned
            and slot.startswith("trials:")
            and _is_repeated(definition, key := slot.removeprefix("trials:"))
        },
        "rows": {
            name: count
            for slot, count in sizes.items()
            if slot in standing.planned
            and slot.startswith("rows:")
            and (name := slot.removeprefix("rows:")) in definition.series
        },
        "without": sorted(name for name in standing.without if name not in definition.series),
        "reasons": words["reason"],
        "foreseen": words["foreseen"],
        "roles": words["role"],
    }


def _is_repeated(definition: Definition, key: str) -> bool:
    """Whether trials of it can be planned: a column, or a quantity that is read."""
    series, _, column = key.partition(".")
    if not column:
        return series in definition.quantities and definition.quantities[series].formula is None
    return series in definition.series and column in definition.series[series].columns


def _sizes(
    definition: Definition,
    readings: document_parts.Readings,
    sizes: Mapping[str, int],
    settings: Mapping[str, list[str]],
) -> tuple[dict[str, int], dict[str, int]]:
    rows: dict[str, int] = {}
    trials: dict[str, int] = {}
    for series, body in definition.series.items():
        planned = max((len(texts) for key, texts in settings.items() if key.startswith(f"{series}.")), default=0)
        rows[series] = sizes.get(f"rows:{series}", planned or body.rows)
        for column, spec in body.columns.items():
            trials[f"{series}.{column}"] = sizes.get(f"trials:{series}.{column}", spec.repeats)
    for name, quantity in definition.quantities.items():
        if quantity.formula is None:
            trials[name] = sizes.get(f"trials:{name}", quantity.repeats)
    for slot, text in readings.items():
        if text.strip():
            if slot.trial > trials[slot.key]:
                trials[slot.key] = slot.trial
            if slot.series and slot.row > rows[slot.series]:
                rows[slot.series] = slot.row
    return rows, trials
