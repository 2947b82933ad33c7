"""What a compiled definition consists of: the inputs that are read, and the steps that follow from them."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from cavrel.core.definition import Definition, Timer
from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.fit.models import Model
from cavrel.core.formula.evaluate import Compiled
from cavrel.core.formula.nodes import Node
from cavrel.core.quantity.units import Unit


@dataclass(frozen=True, slots=True)
class Input:
    """Something read: a quantity (``series`` None, key ``N``) or a column that is not derived (key ``swings.t``)."""

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
    whole: bool = False
    difference: bool = False


@dataclass(frozen=True, slots=True)
class Derived:
    """A column or quantity that a formula gives."""

    key: str
    name: str
    series: str | None
    unit: Unit
    run: Compiled


@dataclass(frozen=True, slots=True)
class FitStep:
    """A fit. ``x`` (None for a mean) and ``y`` as trees, compiled, with their coherent units; ``parameters`` with theirs.

    ``shape`` is the built-in curve, None for a tangent (made once its place is known) and for a formula, whose ``curve`` is compiled
    with its free parameters as names and starts from ``free``, SI; ``slopes`` are its derivatives by them, None where a formula has none.
    ``at`` is where a tangent touches. ``plain``: a mean that a formula takes, all rows alike; ``label`` names it.
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


@dataclass(frozen=True, slots=True)
class ResultStep:
    """A result by a formula (``run``), or the weighted mean of the results in ``combine``. ``accepted`` is a name of the accepted values,
    or a compiled formula, or None."""

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

    ``steps``: sorted so that each finds what it needs; among them means that formulas take, as fits of their own.
    ``accepted``: every accepted value by name; ``used_accepted``: those that formulas use.
    ``constants``: what formulas name of instruments, SI.
    ``edges``: series whose first or last row formulas pick out.
    ``ranges``: within which a result is plausible, by result.
    ``needs``: by fit and result (and by ``result#accepted``), keys of the inputs it follows from.
    ``laps``: how many laps a step's timer counts, by the step's index.
    """

    definition: Definition
    inputs: tuple[Input, ...]
    steps: tuple[Step, ...]
    checks: tuple[CheckStep, ...]
    gauges: Mapping[str, MeasuringInstrument]
    used_accepted: tuple[str, ...]
    accepted: Mapping[str, ReferenceValue]
    suggestions: Mapping[str, tuple[Compiled, Unit]]
    pictures: tuple[PictureStep, ...]
    constants: Mapping[str, float]
    edges: frozenset[str]
    ranges: Mapping[str, Compiled]
    laps: Mapping[int, Compiled]
    needs: Mapping[str, frozenset[str]]

    @cached_property
    def input_of(self) -> dict[str, Input]:
        return {entry.key: entry for entry in self.inputs}

    @cached_property
    def fits(self) -> dict[str, FitStep]:
        """Every fit by name, means that formulas take included."""
        return {step.name: step for step in self.steps if isinstance(step, FitStep)}
