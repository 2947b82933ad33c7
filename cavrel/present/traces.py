"""What the page of a row's samples shows: the samples, the stretch that counts, and what it gives."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from cavrel.core.analysis import peaks, stretch, trace
from cavrel.core.analysis.sheet import from_trace
from cavrel.core.definition.extraction import EXTRACTIONS
from cavrel.core.definition.headings import Heading
from cavrel.core.definition.steps import Input
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import MOST_ROWS
from cavrel.core.logbook.kinds.reading import of_trial
from cavrel.core.logbook.run import TraceDocument, traces
from cavrel.core.logbook.samples import Export, Samples, read_export
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity import units
from cavrel.core.quantity.rounding import fixed
from cavrel.core.quantity.value import MeasuredValue
from cavrel.graph import trace as drawn
from cavrel.graph.points import Axis
from cavrel.present import notes, texts
from cavrel.present.notes import Note
from cavrel.service.run_view import RunView


def row_of(opened: RunView, place: str) -> tuple[Input, Slot]:
    """The column that takes samples, and the slot, of a place such as ``force.a.3``, or ``force.a.3.2`` for a second trial. Raises KeyError."""
    slot = Slot.read(place)
    if slot is None or not slot.series or not slot.name or slot.trial == 1 or slot.row > MOST_ROWS:
        raise KeyError(place)
    spec = opened.program.input_of.get(slot.key)
    if spec is None or spec.extract is None:
        raise KeyError(place)
    return spec, slot


def of_slot(opened: RunView, slot: Slot) -> TraceDocument | None:
    """The samples kept at a slot, None where there are none."""
    rows = opened.state.run.traces.get(slot.series, {}).get(slot.name, [])
    own = traces(rows[slot.row - 1]) if slot.row <= len(rows) else []
    at = max(slot.trial, 1)
    return own[at - 1] if at <= len(own) else None


def sample_unit(spec: Input) -> str:
    """The unit samples are likely to be in: a slope's times seconds, an area's over seconds; empty where what is taken is a time."""
    assert spec.extract is not None
    kind, text = EXTRACTIONS[spec.extract], spec.unit.text
    if kind.of_time:
        return ""
    if kind.per_second < 0:
        return {"m/s^2": "m/s", "rad/s^2": "rad/s", "m/s": "m"}.get(text, f"{text} s")
    if kind.per_second > 0:
        return {"m": "m/s", "N s": "N", "C": "A", "V s": "V", "kg m/s": "N"}.get(text, f"{text}/s")
    return text


def hint(opened: RunView, series: str, column: str, row: int, trial: int) -> str:
    """What the samples of a trial, counted from 0, give, shown where nothing was typed by hand."""
    key = f"{series}.{column}"
    read = next((entry for entry in opened.analysis.sheet.inputs if entry.spec.key == key), None)
    if read is None or row > read.extracted.shape[0] or trial >= read.extracted.shape[1]:
        return ""
    if math.isnan(float(read.extracted[row - 1, trial])):
        return ""
    values = opened.analysis.values[key]
    return fixed(values.unit.from_si(float(read.values[row - 1, trial])), texts.decimals(values))


def content(opened: RunView, place: str) -> dict[str, Any]:
    """What the page shows within its frame. Raises KeyError."""
    spec, slot = row_of(opened, place)
    document = of_slot(opened, slot)
    return {
        "place": place,
        "where": notes.where(opened, of_trial(place)),
        "extract": spec.extract,
        "words": EXTRACTIONS[spec.extract or ""].words,
        "spec": spec,
        "document": document,
        "sample_unit": sample_unit(spec),
        "heading": opened.state.run.headings.get(spec.key, Heading()).model_dump(exclude_defaults=True),
        **(_shown(spec, slot.row, document, opened.analysis.rules.rounding) if document is not None else {}),
    }


def printed(opened: RunView, key: str, row: int, document: TraceDocument) -> dict[str, str]:
    """The ``picture`` of a row's samples for a report, and what it ``says``: the stretch that counts, and what comes of it."""
    spec = opened.program.input_of[key]
    shown = _shown(spec, row, document, opened.analysis.rules.rounding, 380.0, 170.0)
    words = EXTRACTIONS[spec.extract or ""].words
    stretch_of = f"{words} over {shown['begin']:g} to {shown['end']:g} s of {len(document.values)} samples"
    return {"picture": shown["picture"], "says": f"{stretch_of}, {shown['text'] or shown['reason']}"}


def _samples(spec: Input, document: TraceDocument) -> tuple[Any, Any]:
    """Times ``(n,)`` s and values ``(n,)`` in the unit of the samples, as the column counts them, NaN where one is missing."""
    times = trace.sample_times(document.rate, document.start, document.times, len(document.values))
    values = np.array([math.nan if v is None else v for v in document.values], float)
    return times, -values if spec.reversed else values


def _shown(
    spec: Input, row: int, document: TraceDocument, rounding: str, width: float = 770.0, height: float = 260.0
) -> dict[str, Any]:
    """The drawing of a row's trace, and what its stretch gives, or why it gives nothing."""
    unit = units.unit(document.unit)
    times, values = _samples(spec, document)
    begin = document.begin if document.begin is not None else float(times[0])
    end = document.end if document.end is not None else float(times[-1])
    text, fitted, reason = "", None, ""
    assert spec.extract is not None
    try:
        value, u = from_trace(spec, document)
        text = MeasuredValue(value=value, u=u, unit=spec.unit, rule=rounding).text()
        kind = EXTRACTIONS[spec.extract]
        shown = value if kind.of_time else unit.from_si(value) if kind.shifts else value / unit.factor
        fitted = _fitted(spec.extract, shown, times, values, begin, end)
    except CavrelError as fault:
        reason = fault.what
    picture = drawn.drawing(
        times,
        values,
        (begin, end),
        fitted,
        Axis("time", "t", "s"),
        Axis("samples", "", unit.pretty),
        f"{len(values)} samples; the stretch from {begin:g} to {end:g} s counts",
        width,
        height,
    )
    chosen = document.begin is not None or document.end is not None
    return {
        "picture": picture,
        "text": text,
        "reason": reason,
        "begin": begin,
        "end": end,
        "chosen": chosen,
        "proposed": proposed(spec.extract, times, values, row),
        "doubt": _doubt(times, values, begin, end) if spec.extract == "slope" and chosen else "",
    }


@dataclass(frozen=True, slots=True)
class Proposed:
    """``begin``, ``end``: s, as they would be typed. ``words``: what lies around it, and whether it is straight."""

    begin: str
    end: str
    words: str


def proposed(kind: str, times: Any, values: Any, row: int) -> Proposed | None:
    """The clean stretch of samples for what is taken of them, where one is seen: the straight piece for a slope; for a peak that of the row's
    number, where there are so many."""
    if kind in PEAKED:
        around = _peaks(kind, times, values)
        if not around:
            return None
        # Samples of one row alone show fewer peaks: the widest is taken.
        number = (
            row if row <= len(around) else 1 + max(range(len(around)), key=lambda i: around[i].end - around[i].begin)
        )
        one = around[number - 1]
        return Proposed(f"{one.begin:.5g}", f"{one.end:.5g}", _nth(kind, number, len(around)))
    if kind != "slope":
        return None
    found = stretch.propose(times, values)
    if found is None:
        return None
    inside = (
        "straight within its noise" if found.straight else f"it bends {found.bends}: no long stretch of it is straight"
    )
    parts = [words for words in (found.before, found.after) if words]
    return Proposed(f"{found.begin:.5g}", f"{found.end:.5g}", "; ".join([*parts, inside]))


PEAKED = ("peak", "dip")
"""Kinds of which samples can show several, one for each row."""


def _peaks(kind: str, times: Any, values: Any) -> list[peaks.Found]:
    return peaks.find(times, values if kind == "peak" else -values)


def _nth(kind: str, number: int, many: int) -> str:
    return f"the {kind}" if many == 1 else f"{kind} {number} of {many}"


@dataclass(frozen=True, slots=True, kw_only=True)
class ProposedRow:
    """A row of a column with its samples and the stretch proposed for them.

    ``place``: of its samples.
    ``where``: which row, in words.
    ``picture``: the samples with the stretch proposed.
    ``found``: that stretch, None where nothing in them moves.
    ``text``: what the stretch would give.
    ``now``: what the row gives as it stands.
    ``chosen``: a person chose its stretch already.
    ``cut``: what it is to have of another row's samples, where it has none yet: one recording with a peak for each row.
    """

    place: str
    where: str
    picture: str
    found: Proposed | None
    text: str
    now: str
    chosen: bool
    cut: TraceDocument | None = None


PROPOSED = ("slope", *PEAKED)
"""Kinds whose stretch can be proposed."""
MOST_AT_ONCE = 60
"""Rows whose stretches are proposed on one page."""


def all_rows(opened: RunView, key: str) -> list[ProposedRow]:
    """Every row of a column of slopes or peaks, ``series.column``, that has samples, each with its proposal. Where the first row alone has
    samples, which show several peaks, the rows that follow are proposed from them. None of a column of another kind. Raises KeyError where it
    takes no samples."""
    spec = opened.program.input_of.get(key)
    if spec is None or spec.extract is None:
        raise KeyError(key)
    if spec.extract not in PROPOSED:
        return []
    series, _, column = key.partition(".")
    rows = list[ProposedRow]()
    for row, cell in enumerate(opened.state.run.traces.get(series, {}).get(column, []), 1):
        for trial, document in enumerate(traces(cell), 1):
            if document is None or len(rows) == MOST_AT_ONCE:
                continue
            place = f"{key}.{row}" + (f".{trial}" if trial > 1 else "")
            rows.append(_proposed_row(opened, spec, place, row, document))
    first = of_slot(opened, Slot(series=series, name=column, row=1, trial=0))
    if len(rows) == 1 and first is not None and spec.extract in PEAKED:
        many = min(len(_peaks(spec.extract, *_samples(spec, first))), MOST_AT_ONCE)
        rows += [_proposed_row(opened, spec, f"{key}.{row}", row, first, cut=True) for row in range(2, many + 1)]
    return rows


def _proposed_row(
    opened: RunView, spec: Input, place: str, row: int, document: TraceDocument, cut: bool = False
) -> ProposedRow:
    """A row with the stretch proposed for it; ``cut``: the samples are another row's, of which it gets that part."""
    rounding = opened.analysis.rules.rounding
    now = _shown(spec, row, document, rounding, 380.0, 150.0)
    found, shown = now["proposed"], now
    if found is not None:
        wanted = document.model_copy(update={"begin": float(found.begin), "end": float(found.end)})
        shown = _shown(spec, row, wanted, rounding, 380.0, 150.0)
    return ProposedRow(
        place=place,
        where=notes.where(opened, of_trial(place)),
        picture=shown["picture"],
        found=found,
        text=(shown["text"] or shown["reason"]) if found is not None else "",
        now=now["text"] or now["reason"],
        chosen=now["chosen"] and not cut,
        cut=_cut(document, found) if cut and found is not None else None,
    )


def _cut(document: TraceDocument, found: Proposed) -> TraceDocument:
    """The samples of a stretch and a little around it, with that stretch chosen."""
    times = trace.sample_times(document.rate, document.start, document.times, len(document.values))
    begin, end = float(found.begin), float(found.end)
    inside = np.flatnonzero((times >= begin - (end - begin) / 4) & (times <= end + (end - begin) / 4))
    low, high = int(inside[0]), int(inside[-1]) + 1
    kept = {"values": document.values[low:high], "begin": begin, "end": end}
    clock = {"times": document.times[low:high]} if document.times is not None else {"start": float(times[low])}
    return document.model_copy(update=kept | clock)


def _doubt(times: Any, values: Any, begin: float, end: float) -> str:
    """What the chosen stretch holds that does not belong in it, in words; empty where it is clean."""
    inside = (times >= begin) & (times <= end)
    found = stretch.propose(times[inside], values[inside])
    if found is None:
        return ""
    early, late = (found.begin - begin) > 0.1 * (end - begin), (end - found.end) > 0.1 * (end - begin)
    said = [f"its beginning ({found.before})"] * bool(early and found.before) + [f"its end ({found.after})"] * bool(
        late and found.after
    )
    if said:
        return f"This stretch contains more than one motion: {' and '.join(said)}."
    return "" if found.straight else f"This stretch bends {found.bends}; the slope is only an average."


def _fitted(kind: str, value: float, times: Any, values: Any, begin: float, end: float) -> tuple[Any, Any] | None:
    """The line that a slope, mean or level stands for, over its stretch; where a peak is, from foot to top; zero below an area."""
    inside = (times >= begin) & (times <= end) & np.isfinite(values)
    if kind == "period" or not inside.any():
        return None
    if kind in PEAKED:
        return np.array([value, value]), np.array([values[inside].min(), values[inside].max()])
    if kind == "area":
        return np.array([begin, end]), np.zeros(2)
    ends = np.array([begin, end])
    if kind == "slope":
        return ends, values[inside].mean() + value * (ends - times[inside].mean())
    return ends, np.array([value, value])


_CHOOSE = {
    "peak": "From the dip before the peak to the one after. Samples in its upper part say when it is.",
    "dip": "From the peak before the dip to the one after. Samples in its lower part say when it is.",
    "area": "From before the pulse to after it. The area counts from zero: was the sensor set to zero first?",
    "period": "Whole swings, after the hand has let go.",
}
"""What to mind when a stretch is chosen."""


def notes_of(opened: RunView, place: str) -> list[Note]:
    """The margin of a place, or of a whole column. Raises KeyError where it takes no samples."""
    spec = opened.program.input_of[".".join(place.split(".")[:2])]
    usual = "Choose the stretch after the release and before the stop: a hand on the apparatus bends the curve."
    text = _CHOOSE.get(spec.extract or "", usual)
    return [Note(tone="caution", title="Choose the stretch", text=text), *notes.cautions(opened)]


def looked_at(spec: Input, text: str, choice: Mapping[str, int]) -> tuple[Export, dict[str, int], Samples | None, str]:
    """A text of columns as read, what is chosen of it (``time``, ``value``, ``run``, ``sign``; what is not named as is likely), the samples it
    gives, and why it gives none. Raises ReadingError."""
    export = read_export(text)
    value = export.best(sample_unit(spec))
    likely = {
        "time": -1 if export.time is None else export.time,
        "value": 0 if value is None else value,
        "run": 1,
        "sign": 1,
    }
    chosen = likely | {name: number for name, number in choice.items() if name in likely}
    try:
        samples = (
            export.samples(chosen["time"], chosen["value"], chosen["run"], -1 if chosen["sign"] < 0 else 1)
            if chosen["time"] >= 0
            else export.alone(chosen["value"], chosen["run"], -1 if chosen["sign"] < 0 else 1)
        )
    except CavrelError as fault:
        return export, chosen, None, fault.what
    return export, chosen, samples, ""


def data(opened: RunView, place: str) -> dict[str, Any]:
    """The samples as they are kept, with the stretch, and what it gives. Raises KeyError."""
    shown = content(opened, place)
    document = shown["document"]
    return {
        "place": place,
        "extract": shown["extract"],
        "trace": document.model_dump(mode="json", exclude_none=True) if document else None,
        "value": shown.get("text") or None,
        "reason": shown.get("reason") or None,
    }
