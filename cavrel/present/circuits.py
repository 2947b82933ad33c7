"""The circuit of an experiment with the numbers of the row that was read last."""

import math

from cavrel.catalogue import pictures
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity.reading import decimals_of
from cavrel.core.quantity.rounding import significant
from cavrel.graph.circuit import answered
from cavrel.present import texts
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView

_LONGEST = 10
"""Characters of a number that a drawing has room for."""


@optional("the circuit", lambda: None)
def circuit(opened: RunView) -> tuple[str, str] | None:
    """(caption, drawing) of the circuit as the newest reading left it; None where there is no circuit or nothing was read."""
    last = _read_last(opened)
    drawing = pictures.drawing(opened.base.id, opened.state.run.options, "circuits")
    if last is None or drawing is None:
        return None

    def place_of(name: str) -> tuple[str, int] | None:
        for key, row in ((f"{last.series}.{name}", last.row - 1), (name, 0)):
            values = opened.analysis.values.get(key)
            if values is not None and row < len(values.value) and math.isfinite(values.value[row]):
                return key, row
        return None

    def text_of(name: str) -> str:
        place = place_of(name)
        if place is None:
            return ""
        values = opened.analysis.values[place[0]]
        shown = _typed(opened, *place) or texts.cell(values, place[1], _places(opened, place[0]))
        if len(shown) > _LONGEST:
            shown = significant(values.unit.from_si(float(values.value[place[1]])), 4)
        return f"{shown} {values.unit.pretty}".strip()

    def value_of(name: str) -> float | None:
        place = place_of(name)
        return None if place is None else float(opened.analysis.values[place[0]].value[place[1]])

    shown = answered(drawing, text_of, value_of)
    if shown == drawing:
        return None
    series = opened.definition.series.get(last.series)
    return (f"{series.label}: {series.row} {last.row}" if series else "What was read", shown)


def _read_last(opened: RunView) -> Slot | None:
    """Where the newest reading stands."""
    for entry in reversed(opened.entries):
        slot = Slot.read(entry.slot)
        if slot is not None and slot.reads and opened.state.latest[entry.slot].id == entry.id:
            return slot
    return None


def _typed(opened: RunView, key: str, row: int) -> str:
    """The one reading that stands there as it was typed, where that is a plain number."""
    slot = f"{key}.{row + 1}.1" if "." in key else f"quantities.{key}.1"
    entry = opened.state.latest.get(slot)
    if key not in opened.program.input_of or opened.state.trials[key] != 1 or entry is None:
        return ""
    text = str(entry.body.get("text", ""))
    return text if text.replace(",", "").replace(".", "").isdecimal() else ""


def _places(opened: RunView, key: str) -> int:
    """Decimals of what a gauge shows; of what is computed, by its uncertainty."""
    values = opened.analysis.values[key]
    read = opened.program.input_of.get(key)
    if read is not None and read.gauge is not None and read.gauge.least_count:
        return decimals_of(read.gauge.least_count, values.unit)
    return texts.decimals(values)
