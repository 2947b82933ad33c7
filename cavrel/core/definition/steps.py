"""What a compiled definition consists of: the inputs that are read, and the steps that follow from them."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

from cavrel.core.definition import Definition, Timer
from cavrel.core.definition.extraction import EXTRACTIONS
from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.definition.readings import ROLES
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.fit.models import Model
from cavrel.core.formula.evaluate import Compiled
from cavrel.core.formula.nodes import Node
from cavrel.core.quantity.units import Unit


@dataclass(frozen=True, slots=True, kw_only=True)
class Input:
    """Something read: a quantity of the run, or a column that is not derived.

    ``key``: ``N``, or ``swings.t``.
    ``name``: the last part of it.
    ``series``: its table, None for a quantity.
    ``label``: what it is called.
    ``unit``: that it is read in.
    ``role``: of its column, ``quantity`` for a quantity.
    ``gauge``: what it is read with, None where nothing is said.
    ``exact``: has no uncertainty unless one is typed.
    ``count``: a number of random events.
    ``repeats``: trials in the definition.
    ``optional``: a run is whole without it.
    ``default``: text that stands until one is typed.
    ``unread``: text of what formulas take, exactly, where it is not read.
    ``from_result``: the result of another experiment that it can be taken from.
    ``plausible``: its plausible range, compiled.
    ``timer``: that fills it.
    ``extract``: what is taken from a row's samples.
    ``reversed``: their sign is changed first, for their sensor counts the other way.
    ``whole``: a number of things.
    ``difference``: lies between two readings of a scale.
    ``step``: by what it can be set, compiled; None where nothing is said.
    ``listed``: it can be set to nothing but what is suggested.
    """

    key: str
    name: str
    series: str | None
    label: str
    unit: Unit
    role: str
    gauge: MeasuringInstrument | None
    exact: bool
    count: bool
    repeats: int
    optional: bool
    default: str | None
    plausible: Compiled | None
    timer: Timer | None
    extract: str | None = None
    reversed: bool = False
    unread: str | None = None
    from_result: str | None = None
    whole: bool = False
    difference: bool = False
    step: Compiled | None = None
    listed: bool = False

    @property
    def moved_by_zero(self) -> bool:
        """An offset of its instrument moves it: every reading, and of what samples give all but a slope, an area and a time."""
        return self.extract is None or EXTRACTIONS[self.extract].shifts

    @property
    def chosen(self) -> bool:
        """The bench decides what it shall be: a set column of whatever role."""
        return self.role in ROLES and ROLES[self.role].chosen


@dataclass(frozen=True, slots=True, kw_only=True)
class EarlierGauge:
    """An instrument before another took its place. ``gauge``: itself; ``zero``: what it read at zero, as typed; ``places``: the readings taken with
    it, as slots."""

    gauge: MeasuringInstrument
    zero: str
    places: frozenset[str]


@dataclass(frozen=True, slots=True)
class Derived:
    """A column or quantity that a formula gives."""

    key: str
    name: str
    series: str | None
    unit: Unit
    run: Compiled


@dataclass(frozen=True, slots=True, kw_only=True)
class FitStep:
    """A fit.

    ``name``: as the definition names it, or made for a mean that a formula takes.
    ``series``: the table it runs over.
    ``model``: its kind.
    ``x``: the abscissa as a tree, None for a mean.
    ``y``: the ordinate as a tree.
    ``run_x``: the abscissa compiled, None for a mean.
    ``run_y``: the ordinate compiled.
    ``x_unit``: coherent unit of the abscissa.
    ``y_unit``: coherent unit of the ordinate.
    ``parameters``: names that the definition gives, with coherent units.
    ``shape``: the built-in curve; None for a tangent, made once its place is known, and for a formula.
    ``curve``: the formula compiled, with its free parameters as names.
    ``free``: starting values of a formula's parameters, SI.
    ``at``: where a tangent touches.
    ``points``: how many points near there it takes, None for a third.
    ``origin``: theory sends the line through the origin.
    ``slopes``: derivatives of the formula by its parameters, None where one has none.
    ``plain``: a mean that a formula takes, all rows alike.
    ``label``: what it is called.
    ``marked``: words of the rows that it runs over, all rows where there are none.
    """

    name: str
    series: str
    model: str
    x: Node | None
    y: Node
    run_x: Compiled | None
    run_y: Compiled
    x_unit: Unit
    y_unit: Unit
    parameters: Mapping[str, Unit]
    shape: Model | None
    curve: Compiled | None
    free: Mapping[str, float]
    at: Compiled | None
    points: int | None
    origin: bool
    slopes: tuple[Compiled | None, ...] = ()
    plain: bool = False
    label: str = ""
    marked: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class ResultStep:
    """A result.

    ``key``: its name.
    ``unit``: to show it in.
    ``run``: its formula compiled, None for a mean of other results.
    ``combine``: those results.
    ``accepted_name``: the accepted value it is compared with, None for none or a formula.
    ``accepted_run``: the formula it is compared with, compiled.
    """

    key: str
    unit: Unit
    run: Compiled | None
    combine: tuple[str, ...]
    accepted_name: str | None
    accepted_run: Compiled | None


@dataclass(frozen=True, slots=True)
class PredictStep:
    """A value of a fit at an x: ``at`` compiled."""

    key: str
    fit: str
    unit: Unit
    at: Compiled


@dataclass(frozen=True, slots=True)
class CheckStep:
    run: Compiled
    index: int


@dataclass(frozen=True, slots=True, kw_only=True)
class CauseStep:
    """A physical cause compiled.

    ``index``: among the definition's.
    ``without``: by input, the reading as it would be without the cause, from readings, ``size`` and ``row``.
    ``low``, ``high``: sizes that occur, SI.
    """

    index: int
    without: Mapping[str, Compiled]
    low: float
    high: float


SIZE = "systematic#size"
"""Key of the size of a cause in the environment of its formulas; ``row_key`` of the number of a row."""


def row_key(series: str) -> str:
    """Key of the row numbers of a table, from 1."""
    return f"{series}#row"


@dataclass(frozen=True, slots=True, kw_only=True)
class IdentityStep:
    """What readings are held to by each other.

    ``index``: among the definition's.
    ``series``: the table it runs over, None for the run.
    ``run``: the difference of both sides, compiled.
    ``size``: the left side, compiled.
    ``unit``: coherent, of both.
    """

    index: int
    series: str | None
    run: Compiled
    size: Compiled
    unit: Unit


@dataclass(frozen=True, slots=True)
class VerifyStep:
    """What is compared with a standard.

    ``differ``: standard less value, as an identity would have it.
    ``value``: compiled.
    ``within``: how far apart they may be, None where nothing is said.
    """

    differ: IdentityStep
    value: Compiled
    within: Compiled | None


@dataclass(frozen=True, slots=True)
class PictureStep:
    """A force picture: ``pivot``, and (mark, force) of each arrow, compiled."""

    key: str
    series: str | None
    pivot: Compiled
    forces: tuple[tuple[Compiled, Compiled], ...]


Step = Derived | FitStep | ResultStep | PredictStep


@dataclass(frozen=True)
class Program:
    """A compiled definition.

    ``definition``: that it was compiled from, under its conventions.
    ``inputs``: all that is read, in the order of the definition.
    ``steps``: sorted so that each finds what it needs; among them means that formulas take, as fits of their own.
    ``checks``: formulas that ought to hold.
    ``identities``: what readings are held to by each other.
    ``causes``: physical causes that the law leaves out, those whose readings this convention has.
    ``verifications``: what is compared with a standard, row by row.
    ``gauges``: instruments understood, by name.
    ``used_accepted``: accepted values that formulas use.
    ``accepted``: every accepted value by name.
    ``suggestions``: settings to try, by column, with their unit.
    ``pictures``: drawn to scale from readings.
    ``constants``: what formulas name of instruments, SI.
    ``edges``: series whose first or last row formulas pick out.
    ``ranges``: within which a result is plausible, by result.
    ``outcomes``: when each outcome of a series is to be expected, by series and word.
    ``laps``: how many laps a step's timer counts, by the step's index.
    ``earlier``: by instrument, those of this run that it took the place of.
    ``needs``: by fit and result (and by ``result#accepted``), keys of the inputs it follows from.
    """

    definition: Definition
    inputs: tuple[Input, ...]
    steps: tuple[Step, ...]
    checks: tuple[CheckStep, ...]
    identities: tuple[IdentityStep, ...]
    causes: tuple[CauseStep, ...]
    verifications: tuple[VerifyStep, ...]
    gauges: Mapping[str, MeasuringInstrument]
    used_accepted: tuple[str, ...]
    accepted: Mapping[str, ReferenceValue]
    suggestions: Mapping[str, tuple[Compiled, Unit]]
    pictures: tuple[PictureStep, ...]
    constants: Mapping[str, float]
    edges: frozenset[str]
    ranges: Mapping[str, Compiled]
    outcomes: Mapping[str, Mapping[str, Compiled]]
    laps: Mapping[int, Compiled]
    needs: Mapping[str, frozenset[str]]
    earlier: Mapping[str, tuple[EarlierGauge, ...]] = field(default_factory=dict)

    @cached_property
    def input_of(self) -> dict[str, Input]:
        return {entry.key: entry for entry in self.inputs}

    @cached_property
    def fits(self) -> dict[str, FitStep]:
        """Every fit by name, means that formulas take included."""
        return {step.name: step for step in self.steps if isinstance(step, FitStep)}
