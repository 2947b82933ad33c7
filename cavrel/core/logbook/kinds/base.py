"""What every kind of entry is, and what their checks share."""

from collections.abc import Mapping
from typing import Any, ClassVar

from cavrel.core.definition import Column, Definition, Series
from cavrel.core.logbook.effective_state import Standing
from cavrel.core.logbook.entry import Entry, EntryError
from cavrel.core.logbook.place_names import where
from cavrel.core.logbook.slots import MOST_ROWS, MOST_TRIALS, Slot

Body = Mapping[str, Any]


class Kind:
    """``name``: as entries carry it; ``fixed``: it cannot be undone."""

    name: ClassVar[str]
    fixed: ClassVar[bool] = False

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        """Raises EntryError where slot or body is none of this kind."""

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        """Put it in force: called once for the latest entry of each slot."""

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        """(where, what) for the logbook; ``place``: the slot without its prefix."""
        return where(definition, trials, place), self.name


def check_reading(definition: Definition, slot: str) -> None:
    """Raises EntryError for a place that the experiment does not read."""
    place = Slot.read(slot)
    missing = EntryError("slot", f"the experiment has no place '{slot[:60]}' to read")
    if place is None or not place.reads:
        raise missing
    if place.row > MOST_ROWS or place.trial > MOST_TRIALS:
        raise EntryError("slot", f"a table has {MOST_ROWS} rows and {MOST_TRIALS} trials at most")
    if not place.series:
        if place.name in definition.quantities and definition.quantities[place.name].formula is None:
            return
        raise missing
    if place.series not in definition.series or place.name not in definition.series[place.series].columns:
        raise missing
    if not definition.series[place.series].columns[place.name].column_role.typed:
        raise EntryError("slot", f"'{place.key}' is computed and takes no readings")


def count_of(body: Body, most: int) -> None:
    if not (type(body.get("count")) is int and 1 <= body["count"] <= most):
        raise EntryError("body.count", f"must be a whole number up to {most}")


def column_of(definition: Definition, key: str) -> Column | None:
    name, _, column = key.partition(".")
    series: Series | None = definition.series.get(name)
    return series.columns.get(column) if series else None
