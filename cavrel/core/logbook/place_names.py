"""Places in words, as margin, logbook and lists name them."""

from collections.abc import Mapping

from cavrel.core.definition import Definition
from cavrel.core.logbook.slots import Slot
from cavrel.core.words import within


def where(definition: Definition, trials: Mapping[str, int], slot: str) -> str:
    """A place in words: ``Row 4, trial 2``, ``Row 4``, a quantity's label; the slot itself where the convention now chosen has no such place.

    ``trials``: how many are ruled, by ``series.column``; a column with one names itself instead of its trial.
    """
    place = Slot.read(slot)
    if place is None:
        return slot
    if not place.series:
        body = definition.quantities.get(place.name)
        if body is None:
            return slot
        return f"{body.label}, reading {place.trial}" if place.trial and trials.get(place.name, 1) > 1 else body.label
    series = definition.series.get(place.series)
    if series is None or (place.name and place.name not in series.columns):
        return slot
    row = f"{series.short}, row" if len(definition.series) > 1 else "Row"
    if not place.name:
        return f"{row} {place.row}"
    if place.trial and trials.get(place.key, 1) > 1:
        return f"{row} {place.row}, trial {place.trial}"
    label = series.columns[place.name].label
    return f"{row} {place.row}, {within(label)}"
