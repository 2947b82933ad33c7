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
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class Instrument(_Model):
    """What a reading is taken with. ``kind`` names an entry of the shared list whose fields serve as defaults.

    ``reaction`` and ``placement`` act on each reading on its own; ``calibration`` (a percentage) and ``zero`` act on every
    reading of the instrument together. All four are standard uncertainties, each an amount with its unit. What makers print are
    limits, taken as rectangular and acting on all readings together: ``accuracy`` such as ``0.5 % + 2 digits``, and ``class`` in percent
    of ``full_scale``. ``dial``: it is set to marks, such as a resistance box, so that a setting has no last digit to judge.
    ``dead_time``: how long a counter is blind after each count; formulas name it ``counter.dead_time``, nought where none is given.
    """

    kind: Annotated[str, Field(max_length=60)] = ""
    label: Annotated[str, Field(max_length=60)] = ""
    least_count: Amount | None = None
    reaction: Amount | None = None
    placement: Amount | None = None
    calibration: Amount | None = None
    zero: Amount | None = None
    accuracy: Amount | None = None
    accuracy_class: Annotated[float, Field(gt=0, le=20)] | None = Field(None, alias="class")
    full_scale: Amount | None = None
    dial: bool = False
    dead_time: Amount | None = None
    zero_check: Annotated[str, Field(max_length=400)] = ""
    watch_for: Annotated[str, Field(max_length=400)] = ""


class _Read(_Model):
    """What is common to everything that is read: a quantity of the run, a column of a series.

    ``exact``: has no uncertainty unless one is typed. ``count``: a number of random events, known to about its root. ``whole``: a number of
    things, such as swings or weights. ``difference``: lies between two readings of a scale, so that 5 °C is 5 K.
    """

    label: Annotated[str, Field(min_length=1, max_length=80)]
    unit: UnitText | None = None
    instrument: Key | None = None
    exact: bool = False
    count: bool = False
    whole: bool = False
    difference: bool = False
    repeats: Annotated[int, Field(ge=1, le=30)] = 1
    formula: Formula | None = None
    range: Formula | None = None
    optional: bool = False
    note: Annotated[str, Field(max_length=400)] = ""


class Quantity(_Read):
    """Read or set once per run, or computed by a formula."""

    default: Annotated[str, Field(max_length=80)] | None = None


class Column(_Read):
    """A column of a series: set, measured or derived. ``from = "trace"``: each row's reading is extracted from a chosen stretch of
    samples."""

    role: Literal["set", "measured", "derived"]
    source: Annotated[Literal["trace"] | None, Field(alias="from")] = None
    extract: Literal["slope", "mean", "level", "period"] | None = None

    @model_validator(mode="after")
    def _formula_where_derived(self) -> "Column":
        if (self.role == "derived") != (self.formula is not None):
            raise ValueError("a derived column has a formula, and no other column has one")
        if (self.source is None) != (self.extract is None) or (self.source and self.role != "measured"):
            raise ValueError("a measured column from a trace says what to extract: slope, mean, level or period")
        if self.role == "derived" and (self.instrument or self.repeats > 1):
            raise ValueError("a derived column is computed: it has no instrument and no repeats")
        return self


class Series(_Model):
    """A table of readings, one row for each setting. ``optional``: an experiment is whole without it."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    note: Annotated[str, Field(max_length=400)] = ""
    rows: Annotated[int, Field(ge=1, le=200)] = 8
    row: Annotated[str, Field(max_length=30)] = "row"
    optional: bool = False
    columns: Annotated[dict[Key, Column], Field(min_length=1, max_length=24)]

    @property
    def short(self) -> str:
        """The label as far as its colon: ``Part A``."""
        return self.label.partition(":")[0]


Shape = Literal["no relation", "proportional", "linear", "inverse", "square", "square root"]
"""What a bench may foresee of a graph before it measures."""


class Fit(_Model):
    """A curve through the rows of a series. ``x`` and ``y`` are formulas of its columns.

    ``origin``: theory sends the line through the origin. ``offset``: a ``rise`` has its constant ``c``. ``formula`` and ``free``: any curve,
    a formula of columns, quantities and the free parameters, which have starting values. ``at`` and ``points``: where a ``tangent``
    touches, and over how many rows. ``sketch``: drawn for its shape only, so that how well it fits is not
    remarked on. ``expect``: the shape of y against x, for a bench that foresees it.
    """

    label: Annotated[str, Field(max_length=80)] = ""
    series: Key
    x: Formula | None = None
    y: Formula
    x_label: Annotated[str, Field(max_length=80)] = ""
    y_label: Annotated[str, Field(max_length=80)] = ""
    model: Literal[
        "line", "proportional", "mean", "parabola", "power", "exponential", "rise", "damped", "tangent", "formula"
    ]
    origin: bool = False
    offset: bool = True
    formula: Formula | None = None
    free: Annotated[dict[Key, Amount], Field(max_length=10)] = {}
    at: Formula | None = None
    points: Annotated[int, Field(ge=3, le=2000)] | None = None
    sketch: bool = False
    expect: Shape | None = None

    @model_validator(mode="after")
    def _what_its_model_needs(self) -> "Fit":
        if self.x is None and self.model != "mean":
            raise ValueError("every fit but a mean has an x")
        if (self.model == "formula") != (self.formula is not None) or (self.model == "formula") != bool(self.free):
            raise ValueError("a fit of model 'formula', and no other, has a formula and free parameters")
        if (self.model == "tangent") != (self.at is not None):
            raise ValueError("a tangent, and no other fit, says at which x it touches")
        return self


class Result(_Model):
    """A quantity derived from fits, quantities and columns, or ``combine``, the weighted mean of other results.

    ``below`` and ``above``: what it means to lie below or above the accepted value ("It floats"), said with its probability.
    ``difference``: of two readings of a scale, so that °C is K. ``range``: within which it is plausible at all.
    """

    label: Annotated[str, Field(min_length=1, max_length=80)]
    formula: Formula | None = None
    combine: Annotated[tuple[Key, ...], Field(max_length=12)] = ()
    unit: UnitText | None = None
    difference: bool = False
    range: Formula | None = None
    accepted: Formula | None = None
    below: Annotated[str, Field(max_length=80)] = ""
    above: Annotated[str, Field(max_length=80)] = ""
    method: Annotated[str, Field(max_length=80)] = ""

    @model_validator(mode="after")
    def _one_way(self) -> "Result":
        if (self.formula is None) == (not self.combine) or len(self.combine) == 1:
            raise ValueError("a result has a formula, or combines at least two others")
        if (self.below or self.above) and self.accepted is None:
            raise ValueError("'below' and 'above' speak of an accepted value, which is missing")
        return self


class Prediction(_Model):
    """A value read from a fit at an x that was not measured."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    fit: Key
    at: Formula
    unit: UnitText | None = None


class Force(_Model):
    """A force on a rule: ``at`` its mark, ``force`` its size downwards."""

    label: Annotated[str, Field(min_length=1, max_length=40)]
    at: Formula
    force: Formula


class Picture(_Model):
    """A rule on its pivot with an arrow for each force, to scale; of the single readings, or of the last full row of ``series``."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    series: Key | None = None
    pivot: Formula
    forces: Annotated[tuple[Force, ...], Field(min_length=1, max_length=8)]


class Choice(_Model):
    """One way of an option: ``set`` overrides parts of the definition by path."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    set: Annotated[dict[Annotated[str, Field(max_length=120)], Any], Field(max_length=24)] = {}


class Option(_Model):
    """A convention to choose, such as which gap holds the unknown."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    default: Key
    choices: Annotated[dict[Key, Choice], Field(min_length=2, max_length=8)]

    @model_validator(mode="after")
    def _known_default(self) -> "Option":
        if self.default not in self.choices:
            raise ValueError(f"the default '{self.default}' is none of the choices")
        return self


class Check(_Model):
    """A rule that ought to hold; where it does not, ``say`` stands beside ``at``."""

    rule: Formula
    level: Literal["note", "caution", "danger"] = "note"
    at: Annotated[str, Field(max_length=80)] = ""
    say: Line


class Timer(_Model):
    """How the deck times a step.

    ``laps``: start, count ``laps`` of ``lap`` (a word, and its plural), stop. ``interval``: call out every ``every``, and move on to the next
    cell, until ``for`` is over. ``wait``: let ``for`` pass before reading.
    """

    kind: Literal["laps", "interval", "wait"]
    laps: Formula = "1"
    lap: Annotated[str, Field(max_length=20)] = "lap"
    plural: Annotated[str, Field(max_length=20)] = "laps"
    every: Amount | None = None
    lasting: Annotated[Amount | None, Field(alias="for")] = None

    @model_validator(mode="after")
    def _what_its_kind_needs(self) -> "Timer":
        wanted = {"laps": (), "interval": ("every", "lasting"), "wait": ("lasting",)}
        missing = [name for name in wanted[self.kind] if getattr(self, name) is None]
        if missing:
            raise ValueError(f"a timer of kind '{self.kind}' says '{missing[0].replace('lasting', 'for')}'")
        return self


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


class Fault(_Model):
    """Something wrong with the stand-in apparatus or whoever reads it. ``read`` replaces true values for the whole run; ``once`` does so
    for a single reading, drawn at random."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    read: Annotated[dict[str, Formula], Field(max_length=40)] = {}
    once: Annotated[dict[str, Formula], Field(max_length=4)] = {}

    @model_validator(mode="after")
    def _something(self) -> "Fault":
        if not self.read and not self.once:
            raise ValueError("a fault says what is read instead: 'read', or 'once' for a single reading")
        return self


class Simulate(_Model):
    """The stand-in for the real apparatus. ``truth``: true values of constants and quantities, as amounts or formulas of those above them;
    ``set``: settings by column, where they differ from the suggestions; ``read``: the true value of each measured column and quantity,
    by formula of true values, where ``row`` counts the rows of a series from 1; ``vary``: standard deviation by which that true value
    itself varies from row to row; ``noise``: standard deviation of single readings beyond what the instruments declare; ``faults``: what
    can be made to go wrong."""

    truth: Annotated[dict[Key, Formula], Field(max_length=40)] = {}
    set: Annotated[dict[str, Formula], Field(max_length=24)] = {}
    read: Annotated[dict[str, Formula], Field(max_length=40)] = {}
    vary: Annotated[dict[str, Amount], Field(max_length=24)] = {}
    noise: Annotated[dict[str, Amount], Field(max_length=24)] = {}
    faults: Annotated[dict[Key, Fault], Field(max_length=12)] = {}


class Definition(_Model):
    """An experiment, whole. ``keywords``: other words that people look for it by."""

    format: Literal["cavrel-experiment/1"]
    id: Identifier
    title: Annotated[str, Field(min_length=1, max_length=80)]
    field: Literal["mechanics", "matter", "waves", "electricity", "thermal", "modern"]
    aim: Line
    law: Formula | None = None
    theory: Annotated[str, Field(max_length=2000)] = ""
    keywords: Annotated[tuple[Annotated[str, Field(min_length=1, max_length=40)], ...], Field(max_length=24)] = ()
    minutes: Annotated[int, Field(ge=1, le=600)] | None = None
    apparatus: Annotated[tuple[Line, ...], Field(max_length=24)] = ()
    instruments: Annotated[dict[Key, Instrument], Field(max_length=24)] = {}
    quantities: Annotated[dict[Key, Quantity], Field(max_length=40)] = {}
    series: Annotated[dict[Key, Series], Field(max_length=12)] = {}
    fits: Annotated[dict[Key, Fit], Field(max_length=12)] = {}
    results: Annotated[dict[Key, Result], Field(max_length=24)] = {}
    predict: Annotated[dict[Key, Prediction], Field(max_length=12)] = {}
    pictures: Annotated[dict[Key, Picture], Field(max_length=6)] = {}
    options: Annotated[dict[Key, Option], Field(max_length=8)] = {}
    checks: Annotated[tuple[Check, ...], Field(max_length=40)] = ()
    steps: Annotated[tuple[Step, ...], Field(max_length=40)] = ()
    suggest: Annotated[tuple[Suggest, ...], Field(max_length=12)] = ()
    cautions: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()
    precautions: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()
    error_sources: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()
    simulate: Simulate | None = None

    def content_hash(self) -> str:
        """SHA-256 of this definition as JSON, the order of its columns and results included; a run stays pinned to it."""
        return hashlib.sha256(json.dumps(self.document()).encode()).hexdigest()

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
    series = merged.get("series")
    if isinstance(series, Mapping):
        merged["series"] = {name: _like(name, body, series) for name, body in series.items()}
    try:
        return Definition.model_validate(merged)
    except ValidationError as fault:
        raise DefinitionError(*first_fault(fault)) from fault


def _like(name: str, body: Any, series: Mapping[str, Any]) -> Any:
    """A series that repeats another's columns, with what it says itself put over them."""
    if not isinstance(body, Mapping) or "like" not in body:
        return body
    model = series.get(body["like"]) if isinstance(body["like"], str) else None
    if not isinstance(model, Mapping) or "like" in model:
        raise DefinitionError(f"series.{name}.like", f"'{body['like']}' is no series with columns of its own")
    own = {key: value for key, value in body.items() if key not in ("like", "columns")}
    columns = {
        key: dict(value) if isinstance(value, Mapping) else value for key, value in model.get("columns", {}).items()
    }
    for key, value in body.get("columns", {}).items():
        columns[key] = {**columns[key], **value} if key in columns and isinstance(value, Mapping) else value
    return {**model, **own, "columns": columns}


def choose(definition: Definition, chosen: Mapping[str, str]) -> Definition:
    """The definition as the chosen options make it; those not chosen take their default.

    Raises DefinitionError for an option or a choice that is not there, and for a path that leads nowhere.
    """
    for name, choice in chosen.items():
        if name not in definition.options:
            raise DefinitionError(f"options.{name}", "the experiment has no such option")
        if choice not in definition.options[name].choices:
            known = ", ".join(definition.options[name].choices)
            raise DefinitionError(f"options.{name}", f"'{choice}' is none of its choices: {known}")
    document = definition.document()
    for name, option in definition.options.items():
        key = chosen.get(name, option.default)
        for path, value in option.choices[key].set.items():
            _put(document, path, value, f"options.{name}.choices.{key}.set.{path}")
    if document == definition.document():
        return definition
    return load(document)


def _put(document: Any, path: str, value: Any, place: str) -> None:
    *way, last = path.split(".")
    for key in way:
        inside = document.get(key) if isinstance(document, dict) else None
        if isinstance(document, list) and key.isdigit() and int(key) < len(document):
            inside = document[int(key)]
        if not isinstance(inside, dict | list):
            raise DefinitionError(place, f"the path leads nowhere: there is no '{key}'")
        document = inside
    if isinstance(document, list):
        if not last.isdigit() or int(last) >= len(document):
            raise DefinitionError(place, f"the path leads nowhere: there is no '{last}'")
        document[int(last)] = value
    elif value in (None, ""):  # TOML has no null: an empty text takes a key away
        document.pop(last, None)
    else:
        document[last] = value


def _with_defaults(name: str, body: Any, shared: Mapping[str, Mapping[str, Any]]) -> Any:
    if not isinstance(body, Mapping) or not body.get("kind"):
        return body
    kind = body["kind"]
    if not isinstance(kind, str):
        raise DefinitionError(f"instruments.{name}.kind", "is the name of an instrument of the shared list")
    if kind not in shared:
        known = ", ".join(sorted(shared))
        raise DefinitionError(f"instruments.{name}.kind", f"unknown instrument '{kind}'; the list has {known}")
    return {**shared[kind], **body}


def first_fault(fault: ValidationError) -> tuple[str, str]:
    """Place and sentence of the first error pydantic found."""
    return fault_of(fault.errors(include_url=False)[0])


def fault_of(error: Mapping[str, Any]) -> tuple[str, str]:
    """Place and sentence of one error of pydantic's."""
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
