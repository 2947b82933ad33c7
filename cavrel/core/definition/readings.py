"""What is read: instruments, quantities of a run, and the columns of its series."""

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field, model_validator

from cavrel.core.definition.extraction import EXTRACTIONS, ExtractionName
from cavrel.core.definition.parts import Amount, Formula, Key, Model, UnitText


class Instrument(Model):
    """What a reading is taken with. ``kind`` names an entry of the shared list whose fields serve as defaults.

    ``reaction`` and ``placement`` act on each reading on its own; ``calibration`` (a percentage) and ``zero`` act on every
    reading of the instrument together. All four are standard uncertainties, each an amount with its unit. What makers print are
    limits, taken as rectangular: ``accuracy`` such as ``0.5 % + 2 digits``, one limit that is the sum of both, and ``class`` in percent
    of ``full_scale``. ``accuracy_acts``: on all readings together, as a wrong gain or offset does, or on each by itself, as a bent scale does.
    ``dial``: it is set to marks, such as a resistance box, so that a setting has no last digit to judge.
    ``step``: the smallest change by which it can be set.
    ``instead``: kinds that could read the same here; all of its family where nothing is said, none where the list is empty, as for a scale that
    is part of the apparatus.
    ``source``: where its figures come from, such as a certificate, a data sheet or common practice.
    ``dead_time``: how long a counter is blind after each count; formulas name it ``counter.dead_time``, zero where none is given.
    """

    kind: Annotated[str, Field(max_length=60)] = ""
    label: Annotated[str, Field(max_length=60)] = ""
    least_count: Amount | None = None
    reaction: Amount | None = None
    placement: Amount | None = None
    calibration: Amount | None = None
    zero: Amount | None = None
    accuracy: Amount | None = None
    accuracy_acts: Literal["together", "each"] = "together"
    accuracy_class: Annotated[float, Field(gt=0, le=20)] | None = Field(None, alias="class")
    full_scale: Amount | None = None
    dial: bool = False
    step: Amount | None = None
    dead_time: Amount | None = None
    instead: Annotated[list[Annotated[str, Field(max_length=60)]], Field(max_length=12)] | None = None
    zero_check: Annotated[str, Field(max_length=400)] = ""
    watch_for: Annotated[str, Field(max_length=400)] = ""
    source: Annotated[str, Field(max_length=300)] = ""


class _Read(Model):
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
    """Read or set once per run, or computed by a formula. ``unread``: what formulas take, exactly, where an optional one is not read, such as
    the angle of a swing that nobody found worth reading. ``from_result``: the result of another experiment that it can be taken from, as
    ``half-deflection.G``."""

    default: Annotated[str, Field(max_length=80)] | None = None
    unread: Annotated[str, Field(max_length=80)] | None = None
    from_result: Annotated[str, Field(max_length=120, pattern=r"^[a-z0-9-]+\.[A-Za-z][A-Za-z0-9_]*$")] | None = None

    @model_validator(mode="after")
    def _unread_where_optional(self) -> "Quantity":
        if self.unread is not None and (not self.optional or self.formula or self.default is not None):
            raise ValueError(
                "only an optional quantity that is read, and has no default, says what replaces it where it is not read"
            )
        return self


@dataclass(frozen=True, slots=True, kw_only=True)
class Role:
    """What the rest of the house asks of a column's role.

    ``typed``: it takes readings.
    ``wanted``: a run is not whole without them.
    ``chosen``: the bench decides what they shall be, so that they can be suggested and planned.
    """

    typed: bool
    wanted: bool = False
    chosen: bool = False

    @property
    def shown_as(self) -> str:
        """How the table shows such a column: ``set``, ``measured`` or ``derived``."""
        return "set" if self.chosen else "measured" if self.typed else "derived"


ROLES = {
    "set": Role(typed=True, chosen=True),
    "measured": Role(typed=True, wanted=True),
    "derived": Role(typed=False),
}


class Column(_Read):
    """A column of a series: set, measured or derived. ``from = "trace"``: each row's reading is extracted from a chosen stretch of
    samples: its slope, mean, level (median), period of swing, the time of its peak or dip, or the area between it and zero. ``off``: a derived
    column is not shown until a run asks for it. ``reversed``: its sensor counts the other way, so that all samples of it change their sign.
    ``step``: by what a set column can be set, counted from the first setting that is suggested, such as ``10[g]`` for slotted masses.
    ``listed``: there are no other settings than those suggested, as of coils, lamps and spectral lines."""

    role: Literal["set", "measured", "derived"]
    source: Annotated[Literal["trace"] | None, Field(alias="from")] = None
    extract: ExtractionName | None = None
    step: Formula | None = None
    listed: bool = False
    off: bool = False
    reversed: bool = False

    @property
    def column_role(self) -> Role:
        """What its role means."""
        return ROLES[self.role]

    @model_validator(mode="after")
    def _formula_where_derived(self) -> "Column":
        if self.column_role.typed != (self.formula is None):
            raise ValueError("a derived column has a formula, and no other column has one")
        if (self.source is None) != (self.extract is None) or (self.source and not self.column_role.wanted):
            raise ValueError(f"a measured column from a trace says what to extract: one of {', '.join(EXTRACTIONS)}")
        if not self.column_role.typed and (self.instrument or self.repeats > 1):
            raise ValueError("a derived column is computed: it has no instrument and no repeats")
        if self.reversed and self.source is None:
            raise ValueError("only a column from a trace has a sensor that can count the other way")
        if self.off and self.column_role.typed:
            raise ValueError("only a derived column can be switched off")
        if not self.column_role.chosen and (self.step or self.listed):
            raise ValueError("only a set column has a step, or a list of what it can be set to")
        return self


class Outcome(Model):
    """A word for each row: what happened and is no number (it floated, the fringes vanished), or which way a row was taken (up, down).

    ``label``: of its column.
    ``choices``: the words that are offered, each with the condition, in the letters of the table, under which it is to be expected; empty
    where nothing predicts it.
    ``by_rule``: a row that says none has the first word whose condition holds, else the first that has no condition.
    """

    label: Annotated[str, Field(min_length=1, max_length=80)]
    choices: Annotated[
        dict[Annotated[str, Field(min_length=1, max_length=40)], Annotated[str, Field(max_length=400)]],
        Field(min_length=1, max_length=12),
    ]
    by_rule: bool = False


class Series(Model):
    """A table of readings, one row for each setting. ``optional``: an experiment is whole without it; ``outcome``: what each row is to say next
    to its numbers."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    note: Annotated[str, Field(max_length=400)] = ""
    rows: Annotated[int, Field(ge=1, le=200)] = 8
    row: Annotated[str, Field(max_length=30)] = "row"
    optional: bool = False
    outcome: Outcome | None = None
    columns: Annotated[dict[Key, Column], Field(min_length=1, max_length=24)]

    @property
    def short(self) -> str:
        """The label as far as its colon: ``Part A``."""
        return self.label.partition(":")[0]
