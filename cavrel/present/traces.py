"""What the page of a row's samples shows: the samples, the stretch that counts, and what it gives."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from cavrel.core.analysis import stretch, trace
from cavrel.core.analysis.sheet import from_trace
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
    """The unit samples are likely to be in: a slope's times seconds."""
    if spec.extract == "slope":
        return {"m/s^2": "m/s", "rad/s^2": "rad/s", "m/s": "m"}.get(spec.unit.text, f"{spec.unit.text} s")
    return "s" if spec.extract == "period" else spec.unit.text


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
        "spec": spec,
        "document": document,
        "sample_unit": sample_unit(spec),
        **(_shown(spec, document, opened.analysis.rules.rounding) if document is not None else {}),
    }


def printed(opened: RunView, key: str, document: TraceDocument) -> dict[str, str]:
    """The ``picture`` of a row's samples for a report, and what it ``says``: the stretch that counts, and what comes of it."""
    spec = opened.program.input_of[key]
    shown = _shown(spec, document, opened.analysis.rules.rounding, 380.0, 170.0)
    stretch_of = f"{spec.extract} over {shown['begin']:g} to {shown['end']:g} s of {len(document.values)} samples"
    return {"picture": shown["picture"], "says": f"{stretch_of}, {shown['text'] or shown['reason']}"}


def _shown(
    spec: Input, document: TraceDocument, rounding: str, width: float = 770.0, height: float = 260.0
) -> dict[str, Any]:
    """The drawing of a trace, and what its stretch gives, or why it gives nothing."""
    unit = units.unit(document.unit)
    times = trace.sample_times(document.rate, document.start, document.times, len(document.values))
    values = np.array([math.nan if v is None else v for v in document.values], float)
    begin = document.begin if document.begin is not None else float(times[0])
    end = document.end if document.end is not None else float(times[-1])
    text, fitted, reason = "", None, ""
    assert spec.extract is not None
    try:
        value, u = from_trace(spec, document)
        text = MeasuredValue(value=value, u=u, unit=spec.unit, rule=rounding).text()
        shown = value / unit.factor if spec.extract == "slope" else unit.from_si(value)
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
        "proposed": proposed(times, values) if spec.extract == "slope" else None,
        "doubt": _doubt(times, values, begin, end) if spec.extract == "slope" and chosen else "",
    }


@dataclass(frozen=True, slots=True)
class Proposed:
    """``begin``, ``end``: s, as they would be typed. ``words``: what lies around it, and whether it is straight."""

    begin: str
    end: str
    words: str


def proposed(times: Any, values: Any) -> Proposed | None:
    """The clean stretch of samples, where one is seen."""
    found = stretch.propose(times, values)
    if found is None:
        return None
    inside = (
        "straight within its noise" if found.straight else f"it bends {found.bends}: no long stretch of it is straight"
    )
    around = [words for words in (found.before, found.after) if words]
    return Proposed(f"{found.begin:.5g}", f"{found.end:.5g}", "; ".join([*around, inside]))


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
    """The line that a slope, mean or level stands for, over its stretch."""
    inside = (times >= begin) & (times <= end) & np.isfinite(values)
    if kind == "period" or not inside.any():
        return None
    ends = np.array([begin, end])
    if kind == "slope":
        return ends, values[inside].mean() + value * (ends - times[inside].mean())
    return ends, np.array([value, value])


def notes_of(opened: RunView) -> list[Note]:
    """The margin."""
    return [
        Note(
            tone="caution",
            title="Choose the stretch",
            text="Choose the stretch after the release and before the stop: a hand on the apparatus bends the curve.",
        ),
        *notes.cautions(opened),
    ]


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
