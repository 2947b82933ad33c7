"""Entries about how the table is ruled: rows, trials, conventions."""

from collections.abc import Mapping

from pydantic import ValidationError

from cavrel.core.definition import Definition, first_fault
from cavrel.core.definition.headings import Heading
from cavrel.core.definition.headings import check as check_heading
from cavrel.core.definition.rules import RULES, HouseRules
from cavrel.core.errors import DefinitionError
from cavrel.core.logbook.effective_state import Standing
from cavrel.core.logbook.entry import Entry, EntryError
from cavrel.core.logbook.kinds.base import Body, Kind, column_of, count_of
from cavrel.core.logbook.place_names import where
from cavrel.core.logbook.slots import MOST_ROWS, MOST_TRIALS, Slot
from cavrel.core.quantity import units
from cavrel.core.words import counted, within


class Rows(Kind):
    """How many rows of a table are ruled; ``planned``: the plan says so, and a run is whole with so many."""

    name = "rows"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if slot.removeprefix("rows:") not in definition.series or not slot.startswith("rows:"):
            raise EntryError("slot", f"'{slot[:60]}' names no table of this experiment")
        count_of(body, MOST_ROWS)

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.sizes[slot] = int(body["count"])
        if body.get("planned") is True:
            standing.planned.add(slot)

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        series = definition.series.get(place)
        return series.label if series else place, f"{counted(int(body['count']), 'row')} ruled"


class Trials(Rows):
    """How many trials of a column, or of a quantity that is read several times, are ruled."""

    name = "trials"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        key = slot.removeprefix("trials:")
        quantity = definition.quantities.get(key)
        known = column_of(definition, key) is not None or (quantity is not None and quantity.formula is None)
        if not slot.startswith("trials:") or not known:
            raise EntryError("slot", f"'{slot[:60]}' names no table of this experiment")
        count_of(body, MOST_TRIALS)

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        read = column_of(definition, place) or definition.quantities.get(place)
        return read.label if read else place, f"{counted(int(body['count']), 'trial')} ruled"


class HeadingOfRun(Kind):
    """What this run calls a column or a quantity, and the unit it is read in; empty: as the experiment has it."""

    name = "heading"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if not slot.startswith("heading:"):
            raise EntryError("slot", f"'{slot[:60]}' is no slot for a heading")
        try:
            check_heading(definition, slot.removeprefix("heading:"), Heading.model_validate(dict(body)))
        except ValidationError as fault:
            place, what = first_fault(fault)
            raise EntryError(f"body.{place}", what) from fault
        except DefinitionError as fault:
            raise EntryError("body", fault.what) from fault

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.headings[slot.removeprefix("heading:")] = dict(body)

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        if body.get("formula"):
            unit = f" in {units.pretty(str(body['unit']))}" if body.get("unit") else ""
            return str(body.get("label") or place.partition(".")[2]), f"column added: {body['formula']}{unit}"
        if place.startswith("fits.") and place.removeprefix("fits.") in definition.fits:
            fit = definition.fits[place.removeprefix("fits.")]
            said = [
                f"at {body['at']}" if body.get("at") else "",
                f"over {body['points']} rows" if body.get("points") else "",
            ]
            return fit.label or "the tangent", " ".join(s for s in said if s) or "as the experiment has it"
        named = column_of(definition, place) or definition.quantities.get(place) or definition.series.get(place)
        said = [
            f"called {body['label']}" if body.get("label") else "",
            f"with the letter {body['symbol']}" if body.get("symbol") else "",
            f"in {units.pretty(str(body['unit']))}" if body.get("unit") is not None else "",
            "not shown" if body.get("hidden") else "shown" if body.get("hidden") is False else "",
        ]
        if place in definition.series:
            named_so = body.get("label") or ("words" if body.get("words") else "")
            said = [
                f"a column of marks: {named_so}" if named_so else "no column of marks" if not body.get("lines") else "",
                f"words: {body['words']}" if body.get("words") else "",
                f"a line each for {body['lines']}" if body.get("lines") else "",
            ]
        return named.label if named else place, ", ".join(s for s in said if s) or "as the experiment has it"


class Order(Kind):
    """The order in which a table shows its rows: ``by`` a column, ``falling`` or not, or the numbers of ``rows`` that come first; neither: as they
    were taken. Rows keep their numbers."""

    name = "order"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        series = definition.series.get(slot.removeprefix("order:")) if slot.startswith("order:") else None
        if series is None:
            raise EntryError("slot", f"'{slot[:60]}' names no table of this experiment")
        rows, by = body.get("rows", []), body.get("by")
        if by is not None and by not in series.columns:
            raise EntryError("body.by", "names no column of this table")
        numbers = (
            isinstance(rows, list)
            and len(rows) <= MOST_ROWS
            and all(type(n) is int and 0 < n <= MOST_ROWS for n in rows)
        )
        if not numbers or len(set(rows)) != len(rows):
            raise EntryError("body.rows", "must be numbers of rows, each once")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.orders[slot.removeprefix("order:")] = body

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        series = definition.series.get(place)
        label = series.label if series else place
        if series and body.get("by") in series.columns:
            way = "falling" if body.get("falling") else "rising"
            return label, f"rows shown by {within(series.columns[str(body['by'])].label)}, {way}"
        return label, "a row moved" if body.get("rows") else "rows shown as they were taken"


class Mark(Kind):
    """A word for a row: the number of a shot, a mark on the floor. It is never computed with."""

    name = "mark"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        place = Slot.read(slot.removeprefix("mark:"))
        if (
            not slot.startswith("mark:")
            or place is None
            or not place.series
            or place.name
            or place.series not in definition.series
        ):
            raise EntryError("slot", f"'{slot[:60]}' names no row to mark")
        if not isinstance(body.get("text"), str) or len(body["text"]) > 80:
            raise EntryError("body.text", "a mark is a text of up to 80 characters")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        place = Slot.read(slot.removeprefix("mark:"))
        text = str(body.get("text", "")).strip()
        if place is not None and text:
            standing.marks.setdefault(place.series, {})[place.row] = text

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        return where(definition, trials, place), f"marked {body['text']}" if str(
            body.get("text", "")
        ).strip() else "no mark"


class HouseRule(Kind):
    """A house rule of this run; none: the course's own again."""

    name = "rule"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        rule = slot.removeprefix("rule:")
        if not slot.startswith("rule:") or rule not in HouseRules.model_fields:
            raise EntryError("slot", f"'{slot[:60]}' names no house rule")
        try:
            HouseRules.model_validate({} if body.get("value") is None else {rule: body["value"]})
        except ValidationError as fault:
            raise EntryError("body.value", first_fault(fault)[1]) from fault

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if body.get("value") is not None:
            standing.rules[slot.removeprefix("rule:")] = body["value"]

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        rule = RULES.get(place)
        if rule is None or body.get("value") is None:
            return rule.title if rule else place, "use the course’s rule"
        return rule.title, f"in this run: {rule.choice(body['value'])}"


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
