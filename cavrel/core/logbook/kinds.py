"""The kinds of entries, one class each, long because they are many: what it may hold, what it does to the sheet, how it reads."""

import re
from collections.abc import Mapping
from typing import Any, ClassVar

from pydantic import ValidationError

from cavrel.core.definition import Column, Definition, Series, first_fault
from cavrel.core.logbook.entry import LONGEST, LONGEST_TEXT, Entry, EntryError
from cavrel.core.logbook.places import where
from cavrel.core.logbook.run import TraceDocument
from cavrel.core.logbook.slots import MOST_ROWS, MOST_TRIALS, Slot
from cavrel.core.logbook.standing import Standing
from cavrel.core.words import counted

_STANDS = re.compile(r"stands:[a-z0-9-]{1,40}@[A-Za-z0-9_.:-]{1,90}")
_FREE = re.compile(r"(note|timer):[0-9a-f-]{8,36}")

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
        return where(definition, trials, place), "taken back into the fit"


class Rows(Kind):
    """How many rows of a table are ruled."""

    name = "rows"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if slot.removeprefix("rows:") not in definition.series or not slot.startswith("rows:"):
            raise EntryError("slot", f"'{slot[:60]}' names no table of this experiment")
        _count(body, MOST_ROWS)

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.sizes[slot] = int(body["count"])

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        series = definition.series.get(place)
        return series.label if series else place, f"{counted(int(body['count']), 'row')} ruled"


class Trials(Rows):
    """How many trials of a column are ruled."""

    name = "trials"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if not slot.startswith("trials:") or _column(definition, slot.removeprefix("trials:")) is None:
            raise EntryError("slot", f"'{slot[:60]}' names no table of this experiment")
        _count(body, MOST_TRIALS)

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        column = _column(definition, place)
        return column.label if column else place, f"{counted(int(body['count']), 'trial')} ruled"


class Option(Kind):
    """A convention chosen."""

    name = "option"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        option = definition.options.get(slot.removeprefix("option:")) if slot.startswith("option:") else None
        if option is None:
            raise EntryError("slot", f"'{slot[:60]}' names no convention of this experiment")
        if body.get("choice") not in option.choices:
            raise EntryError("body.choice", f"is none of {', '.join(option.choices)}")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if body.get("choice"):
            standing.options[slot.removeprefix("option:")] = str(body["choice"])

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        option, choice = definition.options.get(place), str(body.get("choice", ""))
        return (
            option.label if option else "Convention",
            option.choices[choice].label if option and choice in option.choices else choice,
        )


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
        what = f"{len(values)} samples" if isinstance(values, list) else "samples taken away"
        return where(definition, trials, f"{place}.1"), what


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

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.stretches[slot.removeprefix("stretch:")] = body

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        begin, end = body.get("begin"), body.get("end")
        first = "the start" if begin is None else f"{begin:g}" if end is not None else f"{begin:g} s"
        what = f"stretch from {first} to {'the end' if end is None else f'{end:g} s'} chosen"
        return where(definition, trials, f"{place}.1"), what


class Stands(Kind):
    """A finding answered by a person: what was seen stands."""

    name = "stands"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if not _STANDS.fullmatch(slot):
            raise EntryError("slot", f"'{slot[:60]}' is no slot for a stands")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.stands[slot.removeprefix("stands:")] = str(body.get("seen", ""))

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        return where(definition, trials, place.partition("@")[2]), "looked at and let stand"


class Note(Kind):
    """A remark of the bench's own."""

    name, fixed = "note", True

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        _free(self.name, slot)
        if not str(body.get("text", "")).strip():
            raise EntryError("body.text", "an empty note says nothing")

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        return "", f"“{body.get('text', '')}”"


class Timing(Kind):
    """A timing as the deck took it, with all its laps."""

    name, fixed = "timer", True

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        _free(self.name, slot)
        laps = body.get("laps", [])
        if not isinstance(laps, list) or len(laps) > 2000:
            raise EntryError("body.laps", "must be a list of at most 2000 times")
        if not all(isinstance(lap, int | float) and not isinstance(lap, bool) and abs(lap) < 1e9 for lap in laps):
            raise EntryError("body.laps", "holds what is no time in seconds")

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        if isinstance(body.get("call"), str):
            return "Stopwatch", body["call"][:80]
        laps = body.get("laps")
        if not isinstance(laps, list) or not laps or not all(isinstance(lap, int | float) for lap in laps):
            return "Stopwatch", "a timing"
        timer = next((s.timer for s in definition.steps if s.timer and s.timer.kind == "laps"), None)
        made = counted(len(laps), timer.lap, timer.plural) if timer else counted(len(laps), "lap")
        if not abs(laps[-1]) < 1e9:
            return "Stopwatch", "a timing"
        total = f"{laps[-1]:.2f} s" if body.get("counted") is False else f"{made} in {laps[-1]:.2f} s"
        return "Stopwatch", f"spoilt after {total}" if body.get("spoilt") else total


class OfRun(Kind):
    """What the run is called, whose it is, and whether the list shows it."""

    name = "run"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        value = body.get("value")
        good = {
            "run:title": isinstance(value, str) and 1 <= len(value.strip()) <= 120,
            "run:bench": isinstance(value, str) and 1 <= len(value) <= 40,
            "run:away": isinstance(value, bool),
        }
        if not good.get(slot, False):
            raise EntryError("body.value", "a run has a title of up to 120 characters, a bench, and is put away or not")

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        value = body.get("value")
        said = {"title": f"renamed to “{value}”", "bench": f"moved to bench {value}"}
        said["away"] = "put away" if value else "back in the list"
        return "This run", said.get(place, "")


class Undo(Kind):
    """One more line that takes the last one of its slot back."""

    name = "undo"

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        held = body.get("body") or {}
        back = held.get("text") or held.get("reason") or "empty again"
        what = f"undone; now {back}" if body.get("kind") in ("reading", "correction", None) else "undone"
        return where(definition, trials, place) if "." in place else "", what


KINDS: Mapping[str, Kind] = {
    kind.name: kind()
    for kind in (
        Reading, Correction, LeaveOut, TakeBack, Rows, Trials, Option, Trace, Stretch, Stands, Note, Timing, OfRun, Undo,
    )
}  # fmt: skip


def check_entry(definition: Definition, kind: str, slot: str, body: Mapping[str, Any]) -> None:
    """Raises EntryError where an entry does not fit its experiment; says what is wrong with it."""
    if kind not in KINDS:
        raise EntryError("kind", f"unknown kind '{kind[:20]}'")
    if not isinstance(body, Mapping):
        raise EntryError("body", "must be an object")
    for key, value in body.items():
        most = LONGEST.get(kind, LONGEST_TEXT) if key in ("text", "reason") else LONGEST_TEXT
        most = max(most, 1000) if key == "reason" else most
        if isinstance(value, str) and len(value) > most:
            raise EntryError(f"body.{key}", f"may have {most} characters, and this has {len(value)}")
    KINDS[kind].check(definition, slot, body)


def check_reading(definition: Definition, slot: str) -> None:
    """Raises EntryError for a place that the experiment does not read."""
    place = Slot.read(slot)
    missing = EntryError("slot", f"the experiment has no place '{slot[:60]}' to read")
    if place is None or not place.reads:
        raise missing
    if not place.series:
        if place.name in definition.quantities and definition.quantities[place.name].formula is None:
            return
        raise missing
    if place.series not in definition.series or place.name not in definition.series[place.series].columns:
        raise missing
    if definition.series[place.series].columns[place.name].role == "derived":
        raise EntryError("slot", f"'{place.key}' is computed and takes no readings")
    if place.row > MOST_ROWS or place.trial > MOST_TRIALS:
        raise EntryError("slot", f"a table has {MOST_ROWS} rows and {MOST_TRIALS} trials at most")


def _left_out(definition: Definition, slot: str) -> None:
    place = Slot.read(slot.removeprefix("out:")) if slot.startswith("out:") else None
    good = place is not None and place.series in definition.series and bool(place.name) == bool(place.trial)
    if not good or (place and place.name and place.name not in definition.series[place.series].columns):
        raise EntryError("slot", f"'{slot[:60]}' names no row or trial of this experiment")


def _traced(definition: Definition, slot: str) -> None:
    prefix, _, rest = slot.partition(":")
    place = Slot.read(rest) if prefix in ("trace", "stretch") else None
    column = _column(definition, place.key) if place and place.series and place.name and not place.trial else None
    if column is None or column.extract is None or (place and place.row > MOST_ROWS):
        raise EntryError("slot", f"'{slot[:60]}' names no row that takes samples")


def _free(kind: str, slot: str) -> None:
    if not _FREE.fullmatch(slot) or not slot.startswith(kind):
        raise EntryError("slot", f"'{slot[:60]}' is no slot for a {kind}")


def _count(body: Body, most: int) -> None:
    if not (type(body.get("count")) is int and 1 <= body["count"] <= most):
        raise EntryError("body.count", f"must be a whole number up to {most}")


def _column(definition: Definition, key: str) -> Column | None:
    name, _, column = key.partition(".")
    series: Series | None = definition.series.get(name)
    return series.columns.get(column) if series else None
