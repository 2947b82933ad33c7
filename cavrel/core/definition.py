"""The experiment definition, ``cavrel-experiment/1``: the models that validate it.

Only what can be judged field by field is judged here; names, units and formulas are checked when it is compiled (`program`).
"""

import hashlib
import json
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from cavrel.core.errors import DefinitionError

FORMAT = "cavrel-experiment/1"
FIELDS = ("mechanics", "matter", "waves", "electricity", "thermal", "modern")

NAME = r"^[A-Za-z][A-Za-z0-9_]{0,23}$"
Identifier = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,39}$")]
Key = Annotated[str, Field(pattern=NAME)]
Line = Annotated[str, Field(min_length=1, max_length=400)]
Formula = Annotated[str, Field(min_length=1, max_length=400)]
UnitText = Annotated[str, Field(max_length=60)]
Amount = Annotated[str, Field(min_length=1, max_length=60)]


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Instrument(_Model):
    """What a reading is taken with. ``kind`` names an entry of the shared list whose fields serve as defaults.

    ``reaction`` and ``placement`` act on each reading on its own; ``calibration`` (a percentage) and ``zero`` act on every
    reading of the instrument together. All four are standard uncertainties, each an amount with its unit.
    """

    kind: Annotated[str, Field(max_length=60)] = ""
    label: Annotated[str, Field(max_length=60)] = ""
    least_count: Amount | None = None
    reaction: Amount | None = None
    placement: Amount | None = None
    calibration: Amount | None = None
    zero: Amount | None = None
    zero_check: Annotated[str, Field(max_length=400)] = ""
    watch_for: Annotated[str, Field(max_length=400)] = ""


class _Read(_Model):
    """What is common to everything that is read: a quantity of the run, a column of a series."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    unit: UnitText | None = None
    instrument: Key | None = None
    exact: bool = False
    count: bool = False
    repeats: Annotated[int, Field(ge=1, le=30)] = 1
    formula: Formula | None = None
    range: Formula | None = None
    optional: bool = False
    note: Annotated[str, Field(max_length=400)] = ""


class Quantity(_Read):
    """Read or set once per run, or computed by a formula."""

    default: Annotated[str, Field(max_length=80)] | None = None


class Column(_Read):
    """A column of a series: set, measured or derived."""

    role: Literal["set", "measured", "derived"]

    @model_validator(mode="after")
    def _formula_where_derived(self) -> "Column":
        if (self.role == "derived") != (self.formula is not None):
            raise ValueError("a derived column has a formula, and no other column has one")
        if self.role == "derived" and (self.instrument or self.repeats > 1):
            raise ValueError("a derived column is computed: it has no instrument and no repeats")
        return self


class Series(_Model):
    """A table of readings, one row for each setting."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    note: Annotated[str, Field(max_length=400)] = ""
    rows: Annotated[int, Field(ge=1, le=200)] = 8
    row: Annotated[str, Field(max_length=30)] = "row"
    columns: Annotated[dict[Key, Column], Field(min_length=1, max_length=24)]


class Fit(_Model):
    """A curve through the rows of a series. ``x`` and ``y`` are formulas of its columns."""

    label: Annotated[str, Field(max_length=80)] = ""
    series: Key
    x: Formula
    y: Formula
    x_label: Annotated[str, Field(max_length=80)] = ""
    y_label: Annotated[str, Field(max_length=80)] = ""
    model: Literal["line"]


class Result(_Model):
    """A quantity derived from fits, quantities and columns."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    formula: Formula
    unit: UnitText | None = None
    accepted: Formula | None = None
    method: Annotated[str, Field(max_length=80)] = ""


class Check(_Model):
    """A rule that ought to hold; where it does not, ``say`` stands beside ``at``."""

    rule: Formula
    level: Literal["note", "caution", "danger"] = "note"
    at: Annotated[str, Field(max_length=80)] = ""
    say: Line


class Timer(_Model):
    """How the deck times a step. ``laps``: start, count ``laps`` of ``lap`` (a word, and its plural), stop."""

    kind: Literal["laps"]
    laps: Formula = "1"
    lap: Annotated[str, Field(max_length=20)] = "lap"
    plural: Annotated[str, Field(max_length=20)] = "laps"


class Step(_Model):
    do: Line
    fills: Annotated[tuple[Annotated[str, Field(max_length=60)], ...], Field(max_length=12)] = ()
    timer: Timer | None = None


class Suggest(_Model):
    """Values to try next in a set column, ``for = "series.column"``."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)
    target: Annotated[str, Field(alias="for", max_length=60)]
    formula: Formula


class Remark(_Model):
    say: Line


class Definition(_Model):
    """An experiment, whole."""

    format: Literal["cavrel-experiment/1"]
    id: Identifier
    title: Annotated[str, Field(min_length=1, max_length=80)]
    field: Literal["mechanics", "matter", "waves", "electricity", "thermal", "modern"]
    aim: Line
    law: Formula | None = None
    theory: Annotated[str, Field(max_length=2000)] = ""
    minutes: Annotated[int, Field(ge=1, le=600)] | None = None
    apparatus: Annotated[tuple[Line, ...], Field(max_length=24)] = ()
    instruments: Annotated[dict[Key, Instrument], Field(max_length=24)] = {}
    quantities: Annotated[dict[Key, Quantity], Field(max_length=40)] = {}
    series: Annotated[dict[Key, Series], Field(max_length=12)] = {}
    fits: Annotated[dict[Key, Fit], Field(max_length=12)] = {}
    results: Annotated[dict[Key, Result], Field(max_length=24)] = {}
    checks: Annotated[tuple[Check, ...], Field(max_length=40)] = ()
    steps: Annotated[tuple[Step, ...], Field(max_length=40)] = ()
    suggest: Annotated[tuple[Suggest, ...], Field(max_length=12)] = ()
    cautions: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()
    precautions: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()
    error_sources: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()

    def content_hash(self) -> str:
        """SHA-256 of the canonical JSON of this definition; a run stays pinned to it."""
        return hashlib.sha256(json.dumps(self.document(), sort_keys=True).encode()).hexdigest()

    def document(self) -> dict[str, Any]:
        """As plain JSON, defaults left out; loads again to an equal definition."""
        return self.model_dump(mode="json", by_alias=True, exclude_defaults=True)


def load(document: Mapping[str, Any], instruments: Mapping[str, Mapping[str, Any]] | None = None) -> Definition:
    """Validate a definition read from TOML or JSON.

    ``instruments``: the shared list by kind; its fields fill what the definition's instruments leave open.
    Raises DefinitionError naming the first place at fault.
    """
    if not isinstance(document, Mapping):
        raise DefinitionError("", "a definition is a table of keys")
    merged = dict(document)
    own = merged.get("instruments")
    if instruments and isinstance(own, Mapping):
        merged["instruments"] = {name: _with_defaults(name, body, instruments) for name, body in own.items()}
    try:
        return Definition.model_validate(merged)
    except ValidationError as fault:
        raise DefinitionError(*first_fault(fault)) from fault


def _with_defaults(name: str, body: Any, shared: Mapping[str, Mapping[str, Any]]) -> Any:
    if not isinstance(body, Mapping) or not body.get("kind"):
        return body
    kind = body["kind"]
    if kind not in shared:
        known = ", ".join(sorted(shared))
        raise DefinitionError(f"instruments.{name}.kind", f"unknown instrument '{kind}'; the list has {known}")
    return {**shared[kind], **body}


def first_fault(fault: ValidationError) -> tuple[str, str]:
    """Place and sentence of the first error pydantic found."""
    error = fault.errors(include_url=False)[0]
    place = ".".join(str(part) for part in error["loc"] if part not in ("[key]",))
    given = error.get("input")
    what = error["msg"].removeprefix("Value error, ")
    if error["type"] == "extra_forbidden":
        what = "unknown key; remove it or mend its spelling"
    elif error["type"] == "missing":
        what = "is missing"
    elif isinstance(given, str | int | float):
        what = f"{what} (given: {str(given)[:40]!r})"
    return place, what[0].lower() + what[1:]
