"""Entries next to the table: answers, notes, timings, the run itself, and what takes one back."""

import re
from collections.abc import Mapping

from cavrel.core.definition import Definition
from cavrel.core.logbook.effective_state import Standing
from cavrel.core.logbook.entry import Entry, EntryError
from cavrel.core.logbook.kinds.base import Body, Kind
from cavrel.core.logbook.place_names import where
from cavrel.core.words import counted

_STANDS = re.compile(r"stands:[a-z0-9-]{1,40}@[A-Za-z0-9_.:-]{1,90}")
_FREE = re.compile(r"(note|timer):[0-9a-f-]{8,36}")


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

        at, text = body.get("at"), body.get("text")
        if "watched" in body and not (
            isinstance(at, int | float)
            and abs(at) < 1e12
            and isinstance(text, str)
            and text.strip()
            and body["watched"] in definition.quantities
        ):
            raise EntryError("body.watched", "a reading watched has a quantity, a text and a time in seconds")
        until = body.get("until")
        if until is not None and not (isinstance(until, str) and len(until) <= 40):
            raise EntryError("body.until", "must be a moment as text")

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        if "watched" in body:
            quantity = definition.quantities.get(str(body["watched"]))
            return quantity.label if quantity else str(body["watched"]), f"{body.get('text')} while it is watched"
        if isinstance(body.get("frames"), int):
            return "Video", f"{counted(body['frames'], 'frame')} at {body.get('rate')} a second"
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
    """The run's title, its bench, whether it is archived, which version of the laboratory it goes by, and whether its apparatus is simulated."""

    name = "run"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        value = body.get("value")
        good = {
            "run:title": isinstance(value, str) and 1 <= len(value.strip()) <= 120,
            "run:bench": isinstance(value, str) and 1 <= len(value) <= 40,
            "run:away": isinstance(value, bool),
            "run:cupboard": type(value) is int and 0 < value < 10**6,
            "run:on-screen": value is True,
        }
        if not good.get(slot, False):
            raise EntryError(
                "body.value",
                "a run has a title of up to 120 characters, a bench, a version of the laboratory, is archived or not, and its apparatus "
                "may be simulated",
            )

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        value = body.get("value")
        said = {"title": f"renamed to “{value}”", "bench": f"moved to bench {value}"}
        said["cupboard"] = f"by version {value} of the laboratory"
        said["on-screen"] = "simulated apparatus"
        said["away"] = "archived" if value else "restored to the list"
        return "This run", said.get(place, "")


class Imported(Kind):
    """A table was imported from a file, at one stroke; its readings name this act."""

    name, fixed = "imported", True

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if not re.fullmatch(r"imported:[0-9a-f-]{36}", slot):
            raise EntryError("slot", f"'{slot[:60]}' is no slot for an import")
        if not isinstance(body.get("file"), str) or type(body.get("cells")) is not int or body["cells"] < 0:
            raise EntryError("body", "an import says its file and how many cells it brought")

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        series = definition.series.get(str(body.get("series", "")))
        brought = counted(int(body.get("cells", 0)), "reading")
        return (series.label if series else ""), f"{brought} imported from {body.get('file') or 'a paste'}"


class Undo(Kind):
    """One more line that takes the last one of its slot back."""

    name = "undo"

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        held = body.get("body") or {}
        back = held.get("text") or held.get("reason") or "empty again"
        what = f"undone; now {back}" if body.get("kind") in ("reading", "correction", None) else "undone"
        return where(definition, trials, place) if "." in place else "", what


def _free(kind: str, slot: str) -> None:
    if not _FREE.fullmatch(slot) or not slot.startswith(kind):
        raise EntryError("slot", f"'{slot[:60]}' is no slot for a {kind}")
