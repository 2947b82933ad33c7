"""Entries about readings: typed, corrected, left out, sampled."""

from collections.abc import Mapping

from pydantic import ValidationError

from cavrel.core.definition import Definition, first_fault
from cavrel.core.logbook.effective_state import Standing
from cavrel.core.logbook.entry import LATE, LONGEST, Entry, EntryError
from cavrel.core.logbook.kinds.base import Body, Kind, check_reading, column_of
from cavrel.core.logbook.place_names import where
from cavrel.core.logbook.run import TraceDocument
from cavrel.core.logbook.slots import MOST_ROWS, MOST_TRIALS, Slot


class Reading(Kind):
    """A reading typed into a cell, or timed by the deck."""

    name = "reading"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        check_reading(definition, slot)
        if not isinstance(body.get("text"), str):
            raise EntryError("body.text", "a reading has a text")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.readings[slot] = str(body.get("text", ""))[: LONGEST["reading"]]

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        what = str(body.get("text", "")) or "cleared"
        return where(definition, trials, place), f"{what}, by {body['by']}" if body.get("by") else what


class Correction(Reading):
    """A reading put in the place of another, with a reason."""

    name = "correction"

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        reason = f", “{body['reason']}”" if body.get("reason") else ", no reason yet"
        was = f" instead of {body['was']}" if body.get("was") else ""
        return where(definition, trials, place), f"{body.get('text') or 'cleared'}{was}{reason}"


class Late(Kind):
    """A reading that arrived after a newer one had taken its place, from a page that did not show that yet; it stands next to it until
    somebody says which holds (``settled``)."""

    name, fixed = "late", True

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if not slot.startswith(LATE):
            raise EntryError("slot", f"'{slot[:60]}' is no slot for a reading that came late")
        check_reading(definition, slot.removeprefix(LATE))
        if not isinstance(body.get("text"), str):
            raise EntryError("body.text", "a reading has a text")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if not body.get("settled"):
            standing.late[slot.removeprefix(LATE)] = entry

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        what = str(body.get("text", "")) or "cleared"
        return where(
            definition, trials, place
        ), f"{what}, late: {'settled' if body.get('settled') else 'a newer one was here'}"


class LeaveOut(Kind):
    """A row or a trial left out of what follows."""

    name = "leave-out"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        _left_out(definition, slot)
        if not str(body.get("reason", "")).strip():
            raise EntryError("body.reason", "leaving something out needs a reason")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.left_out[slot.removeprefix("out:")] = entry

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        return where(definition, trials, place), f"left out, “{body.get('reason', '')}”"


class TakeBack(Kind):
    """What was left out counts again."""

    name = "take-back"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        _left_out(definition, slot)

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        return where(definition, trials, place), "restored to the fit"


class Trace(Kind):
    """The samples of a row; empty where they are taken away."""

    name = "trace"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        _traced(definition, slot)
        try:
            if body:
                TraceDocument.model_validate(dict(body))
        except ValidationError as fault:
            raise EntryError("body", str(first_fault(fault)[1])) from fault

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if body:
            standing.traces[slot.removeprefix("trace:")] = body

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        values = body.get("values")
        what = f"{len(values)} samples" if isinstance(values, list) else "samples removed"
        return where(definition, trials, of_trial(place)), what


class Stretch(Kind):
    """The stretch of a row's samples that counts, from ``begin`` to ``end`` in seconds."""

    name = "stretch"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        _traced(definition, slot)
        begin, end = body.get("begin"), body.get("end")
        if not all(v is None or (isinstance(v, int | float) and abs(v) < 1e12) for v in (begin, end)):
            raise EntryError("body", "a stretch begins and ends at times in seconds")
        if begin is not None and end is not None and not begin < end:
            raise EntryError("body", "a stretch ends after it begins")
        if not isinstance(body.get("reason", ""), str) or len(body.get("reason", "")) > 400:
            raise EntryError("body.reason", "must be a text of at most 400 characters")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.stretches[slot.removeprefix("stretch:")] = body

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        begin, end = body.get("begin"), body.get("end")
        first = "the start" if begin is None else f"{begin:g}" if end is not None else f"{begin:g} s"
        what = f"stretch from {first} to {'the end' if end is None else f'{end:g} s'} chosen"
        if body.get("reason"):
            what += f": {body['reason']}"
        return where(definition, trials, of_trial(place)), what


def _left_out(definition: Definition, slot: str) -> None:
    place = Slot.read(slot.removeprefix("out:")) if slot.startswith("out:") else None
    if place is not None and not place.series and place.trial:
        quantity = definition.quantities.get(place.name)
        if quantity is not None and quantity.formula is None:
            return
    good = place is not None and place.series in definition.series and bool(place.name) == bool(place.trial)
    if not good or (place and place.name and place.name not in definition.series[place.series].columns):
        raise EntryError("slot", f"'{slot[:60]}' names no row or trial of this experiment")


def _traced(definition: Definition, slot: str) -> None:
    prefix, _, rest = slot.partition(":")
    place = Slot.read(rest) if prefix in ("trace", "stretch") else None
    column = column_of(definition, place.key) if place and place.series and place.name else None
    # The first trial is named by its row alone, so that each has one name.
    strange = place is not None and (place.row > MOST_ROWS or place.trial == 1 or place.trial > MOST_TRIALS)
    if column is None or column.extract is None or strange:
        raise EntryError("slot", f"'{slot[:60]}' names no row that takes samples")


def of_trial(place: str) -> str:
    """The cell that the samples of a place fill: ``force.a.3`` those of its first trial, ``force.a.3.2`` of its second."""
    return f"{place}.1" if place.count(".") == 2 else place
