"""The laboratory document, ``cavrel-laboratory/1``: what a laboratory owns and holds to be true, all of one version."""

import math
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError, field_validator, model_validator

from cavrel.core.definition import Amount, Instrument, Key, first_fault
from cavrel.core.definition.instrument import read_instrument
from cavrel.core.definition.parts import Model
from cavrel.core.definition.rules import HouseRules
from cavrel.core.errors import CavrelError
from cavrel.core.quantity import units

FORMAT = "cavrel-laboratory/1"
FORMER = "cavrel-cupboard/1"
"""What the same format was called at first; it is still read."""
MOST = 300
"""Instruments, and accepted values, in one laboratory."""

STATED = ("least_count", "reaction", "placement", "zero", "calibration", "accuracy", "accuracy_class", "full_scale")
"""What is said of an instrument, in the words of a definition."""


class LaboratoryError(CavrelError):
    """A laboratory that cannot be used."""


class OwnInstrument(Model):
    """An instrument that the laboratory owns.

    ``label``: as it is called here.
    ``kind``: of the shared list, whose fields fill what is not said, or a kind of its own.
    ``count``: how many there are.
    ``usual``: it is taken wherever an experiment names its kind.
    ``calibrated``: the day of its last calibration, as ``2026-09-01``; empty where there was none.
    ``note``: where it lies, what it is like.
    The other fields are those of an instrument in a definition.
    """

    label: Annotated[str, Field(min_length=1, max_length=60)]
    kind: Annotated[str, Field(min_length=1, max_length=60)]
    count: Annotated[int, Field(ge=1, le=400)] = 1
    usual: bool = False
    calibrated: Annotated[str, Field(pattern=r"^(\d{4}-\d{2}-\d{2})?$")] = ""
    note: Annotated[str, Field(max_length=400)] = ""
    least_count: Amount | None = None
    reaction: Amount | None = None
    placement: Amount | None = None
    zero: Amount | None = None
    calibration: Amount | None = None
    accuracy: Amount | None = None
    accuracy_class: Annotated[float, Field(gt=0, le=20)] | None = Field(None, alias="class")
    full_scale: Amount | None = None

    def fields(self) -> dict[str, str]:
        """What a run says of it: the fields of an instrument of a run document."""
        body = self.model_dump(by_alias=True, exclude_none=True, include={"label", "kind", *STATED})
        return {name: f"{value:g}" if isinstance(value, float) else str(value) for name, value in body.items()}


class OwnValue(Model):
    """A value that the laboratory accepts.

    ``label``: what it is.
    ``value``: with its unit, such as ``24.6 N/m``.
    ``u``: its standard uncertainty with its unit; empty for none.
    ``source``: where it comes from.
    ``results``: ``experiment.result`` that are compared with it, whatever their definition says.
    """

    label: Annotated[str, Field(min_length=1, max_length=80)]
    value: Amount
    u: Annotated[str, Field(max_length=60)] = ""
    source: Annotated[str, Field(max_length=200)] = ""
    results: tuple[Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,39}\.[A-Za-z][A-Za-z0-9_]{0,23}$")], ...] = ()

    @field_validator("value")
    @classmethod
    def _is_amount(cls, value: str) -> str:
        return _amount(value, "24.6 N/m")

    @model_validator(mode="after")
    def _u_fits(self) -> "OwnValue":
        if self.u:
            u, of_u = units.quantity(_amount(self.u, "0.2 N/m"))
            of_value = units.quantity(self.value)[1]
            if of_u.dimension != of_value.dimension:
                raise ValueError(
                    f"u is in {of_u.text or 'plain numbers'}, the value in {of_value.text or 'plain numbers'}"
                )
            if u - of_u.offset < 0:
                raise ValueError("an uncertainty has no sign")
        return self


def _amount(text: str, like: str) -> str:
    """A size with its unit, as it was written. Raises ValueError."""
    try:
        value, _ = units.quantity(text)
    except CavrelError as fault:
        raise ValueError(f"{fault.what}; write it like '{like}'") from fault
    if not math.isfinite(value):
        raise ValueError(f"'{text}' is too large")
    return text


CriterionKey = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]
FormKey = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,23}$")]


class Criterion(Model):
    """A line of the rubric. ``label``: what is judged; ``points``: the most it can bring."""

    label: Annotated[str, Field(min_length=1, max_length=120)]
    points: Annotated[float, Field(gt=0, le=100)]


RUBRIC = {
    "table": Criterion(label="Table: units, digits, repeats", points=4),
    "graph": Criterion(label="Graph: axes, scales, points, line", points=4),
    "line": Criterion(label="Reading of the line: slope, intercept, units", points=4),
    "uncertainty": Criterion(label="Uncertainty: sources, propagation, rounding", points=4),
    "judgement": Criterion(label="Discussion: comparison, sources of error", points=4),
    "conclusion": Criterion(label="Conclusion", points=4),
}
"""By which reports are marked where a course says nothing else."""


class ReportForm(Model):
    """How a course prints its reports. ``title``: as it is chosen; ``body``: a Jinja template over what a report holds."""

    title: Annotated[str, Field(min_length=1, max_length=60)]
    body: Annotated[str, Field(min_length=1, max_length=60_000)]


class Laboratory(Model):
    """One version. ``instruments`` and ``accepted`` by a name that other documents may use; ``rules`` over the default house rules; ``rubric``:
    by which reports are marked, by name of criterion; ``forms``: the course's own forms of report."""

    format: Literal["cavrel-laboratory/1"] = "cavrel-laboratory/1"
    instruments: Annotated[dict[Key, OwnInstrument], Field(max_length=MOST)] = {}
    accepted: Annotated[dict[Key, OwnValue], Field(max_length=MOST)] = {}
    rules: dict[str, Any] = {}
    rubric: Annotated[dict[CriterionKey, Criterion], Field(max_length=20)] = RUBRIC
    forms: Annotated[dict[FormKey, ReportForm], Field(max_length=12)] = {}

    @model_validator(mode="after")
    def _can_be_used(self) -> "Laboratory":
        usual: dict[str, str] = {}
        for name, own in self.instruments.items():
            try:
                read_instrument(name, Instrument.model_validate(own.fields()))
            except CavrelError as fault:
                raise ValueError(f"{own.label}: {fault.what}") from fault
            if own.usual and own.kind in usual:
                raise ValueError(f"{usual[own.kind]} and {own.label} are both the usual {own.kind}; one can be")
            if own.usual:
                usual[own.kind] = own.label
        compared: dict[str, str] = {}
        for value in self.accepted.values():
            for result in value.results:
                if result in compared:
                    raise ValueError(f"{compared[result]} and {value.label} both stand for {result}; one can")
                compared[result] = value.label
        self.house_rules()
        return self

    def __hash__(self) -> int:
        return hash((*self.instruments, *self.accepted, *self.rules))

    def house_rules(self) -> HouseRules:
        """The rules of the course."""
        return HouseRules.model_validate(self.rules)


EMPTY = Laboratory()


def load(document: Any) -> Laboratory:
    """Validate a laboratory document read from JSON. Raises LaboratoryError naming the first place at fault."""
    if not isinstance(document, Mapping):
        raise LaboratoryError("", f'a laboratory is one JSON object: {{"format": "{FORMAT}", ...}}')
    if document.get("format") == FORMER:
        document = {**document, "format": FORMAT}
    try:
        return Laboratory.model_validate(document)
    except ValidationError as fault:
        raise LaboratoryError(*first_fault(fault)) from fault
    except CavrelError as fault:
        raise LaboratoryError(fault.place, fault.what) from fault
