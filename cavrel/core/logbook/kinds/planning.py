"""Entries of the plan: what is decided, checked and predicted before the first reading."""

from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from cavrel.core.definition import Definition, Instrument, Shape, first_fault
from cavrel.core.definition.instrument import read_instrument
from cavrel.core.errors import CavrelError
from cavrel.core.logbook.effective_state import Standing
from cavrel.core.logbook.entry import Entry, EntryError
from cavrel.core.logbook.kinds.base import Body, Kind, column_of
from cavrel.core.logbook.slots import MOST_ROWS
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import read
from cavrel.core.words import counted

LONGEST_REASON = 1000
FIELDS = (
    "kind",
    "label",
    "least_count",
    "reaction",
    "placement",
    "calibration",
    "zero",
    "accuracy",
    "class",
    "full_scale",
)
"""What a run may say of an instrument."""
REASONS = {
    "range": "the range",
    "step": "the step",
    "number": "the number of readings",
    "constant": "the controlled variables",
}
ROLES = {"releases": "Releases", "times": "Times", "writes": "Records"}
TICKS = {"apparatus": "apparatus", "check": "check", "caution": "caution", "set_up": "set-up", "step": "step"}


def _of(slot: str, prefix: str) -> str:
    if not slot.startswith(f"{prefix}:"):
        raise EntryError("slot", f"'{slot[:60]}' is no slot for {prefix}")
    return slot.removeprefix(f"{prefix}:")


class Settings(Kind):
    """Set points of a column, one text a row; none: those that the definition suggests."""

    name = "settings"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        key = _of(slot, "settings")
        column = column_of(definition, key)
        if column is None or not column.column_role.chosen:
            raise EntryError("slot", f"'{slot[:60]}' names no column that is set")
        texts = body.get("texts")
        if not isinstance(texts, list) or len(texts) > MOST_ROWS or not all(isinstance(t, str) for t in texts):
            raise EntryError("body.texts", f"must be a list of at most {MOST_ROWS} texts")
        for number, text in enumerate(texts, 1):
            if len(text) > 60:
                raise EntryError("body.texts", f"set point {number} is too long")
            try:
                read(text.strip(), units.unit(column.unit or "").text, column.difference)
            except CavrelError as fault:
                raise EntryError("body.texts", f"set point {number}: {fault.what}") from fault

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if body.get("texts"):
            standing.settings[slot.removeprefix("settings:")] = [str(text).strip() for text in body["texts"]]

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        column = column_of(definition, place)
        texts = body.get("texts") or []
        unit = units.pretty(column.unit or "") if column else ""
        what = (
            f"{counted(len(texts), 'set point')}: {', '.join(texts[:12])} {unit}".strip() if texts else "as suggested"
        )
        return column.label if column else place, f"{what}{' …' if len(texts) > 12 else ''}"


class InstrumentOfRun(Kind):
    """An instrument other than the definition's; empty: the definition's own again. It holds for what is read from then on; with a ``reason`` it was
    that one all along, also for what was read with the one that it is a correction of."""

    name = "instrument"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        name = _of(slot, "instrument")
        if name not in definition.instruments:
            raise EntryError("slot", f"'{slot[:60]}' names no instrument of this experiment")
        reason = body.get("reason", "")
        if not isinstance(reason, str) or len(reason) > LONGEST_REASON:
            raise EntryError("body.reason", f"must be a text of up to {LONGEST_REASON} characters")
        body = {field: text for field, text in body.items() if field != "reason"}
        for field, text in body.items():
            if field not in FIELDS:
                raise EntryError(f"body.{field[:20]}", f"an instrument says {', '.join(FIELDS)}")
            if not isinstance(text, str) or not 0 < len(text) <= 60:
                raise EntryError(f"body.{field}", "must be a text of up to 60 characters")
        own = {field: text for field, text in body.items() if field != "kind"}
        usual = definition.instruments[name].model_dump(by_alias=True, exclude_none=True)
        try:
            read_instrument(name, Instrument.model_validate({**({} if body.get("kind") else usual), **own}))
        except ValidationError as fault:
            raise EntryError("body", str(first_fault(fault)[1])) from fault
        except CavrelError as fault:
            raise EntryError(f"body.{fault.place.rpartition('.')[2]}", fault.what) from fault
        read_with = units_of(definition, name)
        for field in ("least_count", "reaction", "placement", "zero", "full_scale"):
            if field in body and read_with:
                given = units.quantity(body[field])[1]
                if any(units.unit(unit).dimension != given.dimension for unit in read_with):
                    unit = units.pretty(read_with[0]) or "plain numbers"
                    raise EntryError(f"body.{field}", f"{body[field]} cannot be a part of what is read in {unit}")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        fields = {k: str(v) for k, v in body.items() if k != "reason"}
        if fields:
            standing.instruments[slot.removeprefix("instrument:")] = fields

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        usual = definition.instruments.get(place)
        said = ", ".join(
            str(v) if k in ("kind", "label") else f"{k.replace('_', ' ')} {v}" for k, v in body.items() if k != "reason"
        )
        why = f", from the start: “{body['reason']}”" if body.get("reason") else ""
        return (usual.label or usual.kind if usual else place), f"{said or 'as the experiment specifies'}{why}"


class Zero(Kind):
    """What an instrument reads at zero: subtracted everything read with it. Empty: nothing is subtracted."""

    name = "zero"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        name = _of(slot, "zero")
        instrument = definition.instruments.get(name)
        if instrument is None:
            raise EntryError("slot", f"'{slot[:60]}' names no instrument of this experiment")
        text = body.get("text")
        if not isinstance(text, str) or len(text) > 120:
            raise EntryError("body.text", "a zero reading is a text of up to 120 characters")
        if text.strip():
            zero_of(definition, name, text)

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if str(body.get("text", "")).strip():
            standing.zeros[slot.removeprefix("zero:")] = str(body["text"]).strip()

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        usual = definition.instruments.get(place)
        text = str(body.get("text", "")).strip()
        return (usual.label or usual.kind if usual else place), f"zero reading {text}" if text else "no zero reading"


def zero_of(definition: Definition, name: str, text: str) -> float:
    """A zero reading, or the mean of several parted by semicolons, SI, in the unit of what the instrument reads where none is typed. Raises
    EntryError."""
    unit = next((u for u in units_of(definition, name)), "")
    found = []
    for part in (p.strip() for p in text.split(";")):
        try:
            found += [read(part, unit, True).value] if part else []
        except CavrelError as fault:
            raise EntryError("body.text", fault.what) from fault
    if not found:
        raise EntryError("body.text", "there is no reading in it")
    return sum(found) / len(found)


def units_of(definition: Definition, name: str) -> list[str]:
    """Units of what is read with an instrument, in the order of the definition."""
    found = [q.unit or "" for q in definition.quantities.values() if q.instrument == name]
    for series in definition.series.values():
        found += [c.unit or "" for c in series.columns.values() if c.instrument == name and not c.extract]
    return list(dict.fromkeys(found))


class Tick(Kind):
    """Something made ready, looked at or read: apparatus, set-up checks, cautions."""

    name = "tick"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if ticked(definition, _of(slot, "tick")) is None:
            raise EntryError("slot", f"'{slot[:60]}' names nothing to tick")
        if not isinstance(body.get("done"), bool):
            raise EntryError("body.done", "must be true or false")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if body.get("done"):
            standing.ticks[slot.removeprefix("tick:")] = entry

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        of, _, _ = place.partition(".")
        done = {"apparatus": "at hand", "check": "checked", "caution": "read", "set_up": "checked", "step": "done"}.get(
            of, "done"
        )
        return TICKS.get(
            of, of
        ).capitalize(), f"{ticked(definition, place) or place}: {done if body.get('done') else 'not yet'}"


def ticked(definition: Definition, place: str) -> str | None:
    """What a tick stands for: ``apparatus.0``, ``check.rule``, ``caution.0``; None for anything else."""
    of, _, which = place.partition(".")
    if of == "check":
        instrument = definition.instruments.get(which)
        return instrument.zero_check if instrument and instrument.zero_check else None
    lists: Mapping[str, list[str]] = {
        "apparatus": list(definition.apparatus),
        "caution": [caution.say for caution in definition.cautions],
        "set_up": [check.do for check in definition.set_up],
        "step": [step.do for step in definition.steps],
    }
    if of in lists and which.isascii() and which.isdigit() and int(which) < len(lists[of]):
        return lists[of][int(which)]
    return None


class Words(Kind):
    """What the bench says of its plan: reasons, roles, predictions."""

    name = "words"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        of, _, which = _of(slot, "words").partition(".")
        known: Mapping[str, Any] = {
            "reason": REASONS,
            "role": ROLES,
            "foreseen": definition.results,
            "set_up": [str(i) for i, check in enumerate(definition.set_up) if check.unit is not None],
        }
        if of not in known or which not in known[of]:
            raise EntryError("slot", f"'{slot[:60]}' is no slot for words of a plan")
        most = 80 if of in ("role", "set_up") else 1000
        if not isinstance(body.get("text"), str) or len(body["text"]) > most:
            raise EntryError("body.text", f"must be a text of up to {most} characters")
        if of == "set_up" and body["text"].strip():
            try:
                read(body["text"].strip(), definition.set_up[int(which)].unit or "", True)
            except CavrelError as fault:
                raise EntryError("body.text", fault.what) from fault

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if str(body.get("text", "")).strip():
            standing.words[slot.removeprefix("words:")] = str(body["text"]).strip()

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        of, _, which = place.partition(".")
        if of == "foreseen":
            result = definition.results.get(which)
            head = f"Prediction: {result.label}" if result else "Prediction"
        elif of == "set_up":
            head = ticked(definition, place) or "Set-up"
        else:
            head = f"Reason for {REASONS.get(which, which)}" if of == "reason" else ROLES.get(which, which)
        return head, f"“{body.get('text', '')}”" if body.get("text") else "cleared"


class Foresee(Kind):
    """The shape that the bench predicts for a graph."""

    name = "foresee"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if _of(slot, "foresee") not in definition.fits:
            raise EntryError("slot", f"'{slot[:60]}' names no graph of this experiment")
        if body.get("shape") not in SHAPES and body.get("shape") != "":
            raise EntryError("body.shape", f"is none of {', '.join(SHAPES)}")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if body.get("shape"):
            standing.foreseen[slot.removeprefix("foresee:")] = str(body["shape"])

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        return "Predicted shape", str(body.get("shape")) or "cleared"


SHAPES: tuple[str, ...] = Shape.__args__  # type: ignore[attr-defined]


class Without(Kind):
    """A part that is not done, with all that rests on it."""

    name = "without"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        series = definition.series.get(_of(slot, "without"))
        if series is None or len(definition.series) < 2:
            raise EntryError("slot", f"'{slot[:60]}' names no table that may be left out")
        if not isinstance(body.get("on"), bool):
            raise EntryError("body.on", "must be true or false")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if body.get("on"):
            standing.without.add(slot.removeprefix("without:"))

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        series = definition.series.get(place)
        return series.label if series else place, "left out of the plan" if body.get("on") else "in the plan"
