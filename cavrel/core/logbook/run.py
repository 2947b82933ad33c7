"""The run document, ``cavrel-run/1``: one bench's readings as texts, with what was left out and why."""

import re
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from cavrel.core.definition import Key, Shape, first_fault
from cavrel.core.definition.headings import Heading
from cavrel.core.definition.rules import HouseRules
from cavrel.core.errors import RunError
from cavrel.core.laboratory.selection import CourseValue
from cavrel.core.logbook.slots import MOST_TRIALS

FORMAT = "cavrel-run/1"
MOST_ROWS = 5000
MOST_SAMPLES = 1_000_000
MOST_TRACES = 30
LARGEST_SAMPLE = 1e100

Text = Annotated[str, Field(max_length=200)]
Cell = Text | None | Annotated[list[Text | None], Field(max_length=2 * MOST_TRIALS)]
Reason = Annotated[str, Field(max_length=1000)]

_DEFAULT_RULES = HouseRules()
TRIAL = re.compile(r"([A-Za-z][A-Za-z0-9_]*)\.([1-9]\d{0,4})\.([1-9]\d{0,2})")
OF_QUANTITY = re.compile(r"([A-Za-z][A-Za-z0-9_]*)\.([1-9]\d{0,2})")
ROW = re.compile(r"[1-9]\d{0,4}")


class TraceDocument(BaseModel):
    """Samples of one row: at a fixed ``rate`` (``"50 Hz"``) from ``start`` on, or at ``times``, in seconds; ``values`` in ``unit``. ``begin``
    and ``end`` in seconds bound the stretch that counts."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    rate: Annotated[str, Field(max_length=40)] | None = None
    start: float = 0.0
    times: Annotated[list[float], Field(max_length=MOST_SAMPLES)] | None = None
    values: Annotated[list[float | None], Field(max_length=MOST_SAMPLES)]
    unit: Annotated[str, Field(max_length=60)] = ""
    begin: float | None = None
    end: float | None = None

    @model_validator(mode="after")
    def _one_clock(self) -> "TraceDocument":
        if (self.rate is None) == (self.times is None):
            raise ValueError("a trace has a rate, or times, not both")
        if self.times is not None and len(self.times) != len(self.values):
            raise ValueError(f"{len(self.times)} times for {len(self.values)} values")
        for numbers in (self.values, self.times or [], [self.start, self.begin, self.end]):
            if any(v is not None and not abs(v) < LARGEST_SAMPLE for v in numbers):
                raise ValueError("a sample or time is too large to be one")
        return self


TraceCell = TraceDocument | None | Annotated[list[TraceDocument | None], Field(max_length=MOST_TRACES)]
"""The samples of a row: one trace, or one for each trial."""


class PlanDocument(BaseModel):
    """What was decided before the first reading.

    ``settings``: ``series.column`` -> set points as texts, one a row.
    ``trials``: ``series.column``, or a quantity's name -> trials.
    ``rows``: series -> rows.
    ``without``: optional series that are not done.
    ``reasons``: ``range``, ``step``, ``number`` or ``constant`` -> why, in the bench's words.
    ``foreseen``: result -> value or bound expected, with its reason, in the bench's words.
    ``roles``: ``releases``, ``times`` or ``writes`` -> who.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    settings: dict[Annotated[str, Field(max_length=50)], Annotated[list[Text], Field(max_length=MOST_ROWS)]] = {}
    trials: dict[Annotated[str, Field(max_length=50)], Annotated[int, Field(ge=1, le=2 * MOST_TRIALS)]] = {}
    rows: dict[Key, Annotated[int, Field(ge=1, le=MOST_ROWS)]] = {}
    without: list[Key] = []
    reasons: dict[Literal["range", "step", "number", "constant"], Reason] = {}
    foreseen: dict[Key, Reason] = {}
    roles: dict[Literal["releases", "times", "writes"], Annotated[str, Field(max_length=80)]] = {}


class Earlier(BaseModel):
    """An instrument as it was before another took its place.

    ``fields``: what the run said of it then, as under ``instruments``; empty for the definition's own.
    ``zero``: what it read at zero.
    ``places``: the readings that were taken with it, as slots: ``swings.t.4.2``, ``quantities.m.1``.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    fields: dict[str, str] = {}
    zero: Text = ""
    places: Annotated[list[Annotated[str, Field(max_length=100)]], Field(min_length=1, max_length=20_000)]


EarlierText = tuple[tuple[tuple[str, str], ...], str, tuple[str, ...]]
"""Fields, zero and places of an `Earlier`."""


class RunDocument(BaseModel):
    """Rows and trials count from 1. ``excluded`` names a whole row (``"4"``) or one trial (``"t.4.2"``), under
    ``quantities`` a trial of one (``"m.2"``), each with its reason.

    ``instruments`` overrides fields of the definition's instruments for this run; ``taken_with``: by instrument, those that it took the place of
    after readings were taken with them, the first one first; ``rules`` overrides house rules; ``expected``: the
    shape that the bench predicted for a fit; ``accepted``: values that the laboratory holds true, over those that ship; ``plan``: what was
    decided before the first reading; ``zeros``: what instruments read at zero, which is subtracted everything read with them; ``headings``:
    what the table calls its columns, and the units they are read in; ``marks``: a word for each row of a table; ``on_screen``: the apparatus
    was a drawn one; ``suggested_in_use``: where no text stands for a quantity, the value that the definition suggests counts as read, as in
    documents of people who leave out what they took as it is; in a run of Cavrel's own somebody takes it; ``report``: its parts in the
    bench's own words.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    format: Literal["cavrel-run/1"]
    experiment: Annotated[str, Field(max_length=80)] | dict[str, Any]
    options: dict[Key, Key] = {}
    rules: dict[str, Any] = {}
    instruments: dict[Key, dict[str, str]] = {}
    taken_with: dict[Key, Annotated[list[Earlier], Field(max_length=20)]] = {}
    zeros: dict[Key, Text] = {}
    accepted: dict[Key, CourseValue] = {}
    headings: dict[Annotated[str, Field(max_length=50)], Heading] = {}
    marks: dict[Key, Annotated[list[Text | None], Field(max_length=MOST_ROWS)]] = {}
    quantities: dict[Key, Cell] = {}
    series: dict[Key, dict[Key, Annotated[list[Cell], Field(max_length=MOST_ROWS)]]] = {}
    traces: dict[Key, dict[Key, Annotated[list[TraceCell], Field(max_length=MOST_ROWS)]]] = {}
    expected: dict[Key, Shape] = {}
    excluded: dict[Key, dict[str, Reason]] = {}
    on_screen: bool = False
    suggested_in_use: bool = True
    plan: PlanDocument = PlanDocument()
    report: dict[Annotated[str, Field(max_length=40)], Annotated[str, Field(max_length=4000)]] = {}
    notes: Annotated[list[Annotated[str, Field(max_length=4000)] | dict[str, Any]], Field(max_length=2000)] = []

    @field_validator("excluded")
    @classmethod
    def _rows_or_trials(cls, excluded: dict[str, dict[str, str]]) -> dict[str, dict[str, str]]:
        for series, reasons in excluded.items():
            for place in reasons:
                if series == "quantities" and OF_QUANTITY.fullmatch(place):
                    continue
                if not ROW.fullmatch(place) and not TRIAL.fullmatch(place):
                    raise ValueError(f"'{series}.{place[:30]}' names no row ('4') and no trial ('t.4.2')")
        return excluded

    def earlier(self) -> dict[str, tuple[EarlierText, ...]]:
        """``taken_with`` as what never changes."""
        return {
            name: tuple((tuple(sorted(one.fields.items())), one.zero, tuple(one.places)) for one in before)
            for name, before in self.taken_with.items()
        }

    def house_rules(self, course: HouseRules | None = None) -> HouseRules:
        """The course's rules with this run's own over them. Raises RunError."""
        if not self.rules:
            return course or _DEFAULT_RULES
        base = (course or _DEFAULT_RULES).model_dump()
        try:
            return HouseRules.model_validate({**base, **self.rules})
        except ValidationError as fault:
            place, what = first_fault(fault)
            raise RunError(f"rules.{place}", what) from fault

    def left_out_rows(self, series: str) -> dict[int, str]:
        """Rows of ``series`` left out of fits and folds, with reasons."""
        return {int(place): reason for place, reason in self.excluded.get(series, {}).items() if ROW.fullmatch(place)}

    def left_out_trials(self, series: str, column: str) -> set[tuple[int, int]]:
        """(row, trial) pairs of one column left out; of a quantity where ``series`` is empty, in row 1."""
        if not series:
            own = (OF_QUANTITY.fullmatch(place) for place in self.excluded.get("quantities", {}))
            return {(1, int(m[2])) for m in own if m and m[1] == column}
        found = (TRIAL.fullmatch(place) for place in self.excluded.get(series, {}))
        return {(int(m[2]), int(m[3])) for m in found if m and m[1] == column}


def load(document: Any) -> RunDocument:
    """Validate a run document read from JSON. Raises RunError naming the first place at fault."""
    if not isinstance(document, Mapping):
        raise RunError("", 'a run document is one JSON object: {"format": "cavrel-run/1", ...}')
    try:
        return RunDocument.model_validate(document)
    except ValidationError as fault:
        raise RunError(*first_fault(fault)) from fault


def trials(cell: Cell) -> list[str]:
    """The texts of one cell, a text for each trial, empty where nothing was read."""
    if cell is None:
        return [""]
    if isinstance(cell, str):
        return [cell]
    return [text or "" for text in cell] or [""]


def traces(cell: TraceCell) -> list[TraceDocument | None]:
    """The traces of one row, one for each trial."""
    return list(cell) if isinstance(cell, list) else [cell]
