"""What an analysis gives, as records."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import marks, uncertainty
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.analysis.identities import Parity, Verified
from cavrel.core.analysis.perturbations import Perturbations
from cavrel.core.analysis.sheet import Sheet
from cavrel.core.analysis.uncertainty import Source
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import Derived, Program
from cavrel.core.formula.evaluate import Environment
from cavrel.core.logbook.run import RunDocument
from cavrel.core.quantity.reading import read
from cavrel.core.quantity.units import Unit
from cavrel.core.quantity.value import MeasuredValue

Array = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True)
class Values:
    """A quantity or column as computed.

    ``key``: ``N``, or ``swings.t``.
    ``unit``: to show it in.
    ``batch``: ``(batch, rows)`` SI, nominal and with each component's push.
    ``perturbations``: those components.
    ``trials``: ``(rows,)`` how many were read; None for what is computed.
    ``scatter``: ``(rows,)`` per-trial standard deviation, SI; None for what is computed.
    """

    key: str
    unit: Unit
    batch: Array
    perturbations: Perturbations
    trials: NDArray[np.intp] | None = None
    scatter: Array | None = None

    @property
    def value(self) -> Array:
        """``(rows,)`` SI."""
        nominal: Array = self.batch[0]
        return nominal

    @cached_property
    def u(self) -> Array:
        """``(rows,)`` standard uncertainty, SI."""
        with np.errstate(all="ignore"):
            return uncertainty.combined(self.perturbations.contributions(self.batch))

    @cached_property
    def own(self) -> Array:
        """``(rows,)`` the part of it by each row's own components, SI."""
        with np.errstate(all="ignore"):
            parts = self.perturbations.contributions(self.batch)
            return uncertainty.combined(parts[self.perturbations.own(parts)])


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparison:
    """A result against another value of the same quantity.

    ``accepted``: that value with its uncertainty and source.
    ``u``: standard uncertainty of the difference, correlations included, SI.
    ``parts``: ``(K,)`` contributions to the difference.
    ``dof``: effective degrees of freedom of the difference (Welch-Satterthwaite over its contributions), not of the result.
    ``coverage_factor``: its coverage factor.
    ``measured``: the other value comes from this run too.
    ``waits``: what is still to be read before there is another value, in words.
    """

    accepted: ReferenceValue
    u: float
    parts: Array
    dof: float
    coverage_factor: float
    measured: bool
    waits: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class ResultAnalysis:
    """A result.

    ``name``: of the result.
    ``unit``: to show it in.
    ``value``, ``u``: SI; ``value`` is NaN with a ``reason``, ``u`` is NaN where linear propagation is no answer.
    ``dof``, ``coverage_factor``, ``expanded_uncertainty``: effective degrees of freedom, coverage factor, expanded uncertainty.
    ``parts``: ``(K,)`` contributions.
    ``perturbations``: the components that contribute.
    ``compared``: with what it is compared, None where there is nothing.
    ``birge``: the ratio of a weighted mean, NaN elsewhere.
    ``reason``: why there is no value.
    ``linear``: whether the law of propagation holds.
    ``drawn``: where it does not, the ends of a result's interval by its name.
    ``plausible``: False outside the range that the definition gives, None where it gives none.
    ``weights``: of a mean of other results, by their names.
    """

    name: str
    unit: Unit
    value: float
    u: float
    dof: float
    coverage_factor: float
    expanded_uncertainty: float
    parts: Array
    perturbations: Perturbations
    compared: Comparison | None
    birge: float
    reason: str
    linear: bool
    drawn: Callable[[str], tuple[float, float]] | None = None
    plausible: bool | None = None
    weights: Mapping[str, float] = field(default_factory=dict)

    @property
    def interval(self) -> tuple[float, float]:
        """Low and high end with 95 % coverage, SI: of the distribution where the law of propagation is no answer."""
        if self.drawn is not None:
            return self.drawn(self.name)
        return self.value - self.expanded_uncertainty, self.value + self.expanded_uncertainty

    @cached_property
    def budget(self) -> tuple[Source, ...]:
        """Contributions gathered by source; none where linear propagation is no answer."""
        with np.errstate(all="ignore"):
            return uncertainty.budget(self.parts, self.perturbations) if self.u > 0 else ()

    @property
    def accepted(self) -> ReferenceValue | None:
        """What it is compared with."""
        return self.compared.accepted if self.compared else None

    @property
    def spread(self) -> float | None:
        """Where the law of propagation is no answer, a standard deviation that would reach as far as the interval, SI; None elsewhere."""
        if self.linear or self.reason:
            return None
        low, high = self.interval
        return (high - low) / 4

    def text(self, rule: str) -> str:
        """``9.79 ± 0.04 m/s²`` by the house rule of rounding; where the law of propagation is no answer, ``0.07 m (0.01 to 0.14 m with 95 %)``;
        empty where there is no value."""
        value = self.measured(rule)
        if self.linear or self.reason:
            return value.text()
        interval = value.interval(*self.interval)
        alone = value.value_text(self.spread) if interval else value.text()
        return f"{alone} ({interval} with 95 %)" if interval else f"{alone} (uncertain beyond telling)"

    def measured(self, rule: str) -> MeasuredValue:
        """The value on its way to a person, by the house rule of rounding."""
        return MeasuredValue(value=self.value, u=self.u, unit=self.unit, dof=self.dof, rule=rule)


@dataclass(frozen=True, slots=True, kw_only=True)
class PredictionAnalysis:
    """A value read from a fit.

    ``name``: of the prediction.
    ``unit``: to show it in.
    ``value``: of the curve, SI; NaN with a ``reason``.
    ``u``: its standard uncertainty, SI.
    ``x``: where, SI.
    ``low``: lower bound of one more reading there, with 95 %, SI.
    ``high``: upper bound of it.
    ``coverage_factor``: k for 95 %.
    ``outside``: x lies outside the measured range.
    ``reason``: why there is none; empty where there is one.
    """

    name: str
    unit: Unit
    value: float
    u: float
    x: float
    low: float
    high: float
    coverage_factor: float
    outside: bool
    reason: str


@dataclass(frozen=True, slots=True)
class ForcePicture:
    """Forces on a rule, as the readings have them. ``pivot``: mark in metres; ``forces``: (label, mark in metres, newtons, downwards);
    ``row``: of the series it is drawn for, from 1, or None."""

    name: str
    pivot: float
    forces: tuple[tuple[str, float, float], ...]
    row: int | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Analysis:
    """Everything that follows from one sheet.

    ``program``, ``run``, ``rules``: what was analysed.
    ``sheet``: the readings understood.
    ``perturbations``: the components of uncertainty.
    ``values``: quantities and columns by key.
    ``fits``: the definition's, by name; ``means``: those that its formulas take.
    ``results``: by name, those that answer the experiment's aim first.
    ``predictions``, ``pictures``: by name, in the definition's order.
    ``parities``: what the readings say of the definition's identities.
    ``verified``: what is compared with a standard.
    ``dof``: ``(K,)`` degrees of freedom of the components.
    ``accepted``: accepted values under these house rules.
    ``checks``: whether each check holds, None while it cannot be told.
    ``nominal``: every name that a formula may hold, ``(1, rows)``, SI: one environment for suggestions, ranges and timers.
    ``waits``: by fit and result, what is still to be read before it has a value, in words.
    """

    program: Program
    run: RunDocument
    rules: HouseRules
    sheet: Sheet
    perturbations: Perturbations
    values: Mapping[str, Values]
    fits: Mapping[str, FitAnalysis]
    means: Mapping[str, FitAnalysis]
    results: Mapping[str, ResultAnalysis]
    predictions: Mapping[str, PredictionAnalysis]
    parities: tuple[Parity, ...]
    verified: tuple[Verified, ...]
    dof: Array
    accepted: Mapping[str, ReferenceValue]
    checks: Mapping[int, bool | None]
    pictures: Mapping[str, ForcePicture]
    nominal: Mapping[str, Array]
    waits: Mapping[str, tuple[str, ...]]

    @property
    def environment(self) -> Environment:
        """What a formula reads that is not part of the program's own steps."""
        return Environment(self.nominal, self.sheet.keep)

    @property
    def suggesting(self) -> Environment:
        """The same with the values that the definition suggests where a quantity was not read: for set points and timers, never for a result."""
        missing = [
            e for e in self.program.inputs if e.default and e.series is None and np.isnan(self.nominal[e.key]).all()
        ]
        if not missing:
            return self.environment
        values = dict(self.nominal)
        for entry in missing:
            assert entry.default is not None
            values[entry.key] = np.array([[read(entry.default, entry.unit.text, entry.difference).value]])
        environment = Environment(values, self.sheet.keep)
        for step in self.program.steps:
            if isinstance(step, Derived) and step.series is None:
                values[step.key] = step.run(environment)
        return environment

    def marks(self, series: str) -> tuple[str, ...]:
        """The word of each row that holds a reading, ``(rows,)``: as typed, else as the rule of its table says; empty for none."""
        rows = self.sheet.rows[series]
        found = marks.of_rows(self.program, self.run, series, rows, self.environment)
        read = [np.isfinite(e.values).any(axis=1) for e in self.sheet.inputs if e.spec.series == series]
        typed = self.run.marks.get(series, [])
        began = np.any(read, axis=0) if read else np.zeros(rows, bool)
        return tuple(w if began[i] or (i < len(typed) and typed[i]) else "" for i, w in enumerate(found))

    def begun(self, name: str) -> bool:
        """Whether any of the readings behind a fit, result or rule (``check#0``) was taken; true for what rests on none."""
        needs = self.program.needs.get(name, frozenset())
        return not needs or any(np.isfinite(self.nominal[key]).any() for key in needs)

    def behind_read(self, name: str, rows: int) -> NDArray[np.bool_]:
        """Where everything behind a fit, ``(rows,)``, or a result, ``(1,)``, was read; some of every column is enough for a result."""
        whole = np.ones(rows, bool)
        for key in self.program.needs.get(name, frozenset()):
            known = np.isfinite(self.values[key].value)
            whole &= known if len(known) == rows > 1 else bool(known.any())
        return whole

    def laps(self, step: int) -> float:
        """How many laps the timer of a step counts; NaN where it cannot be told."""
        run = self.program.laps.get(step)
        if run is None:
            return math.nan
        with np.errstate(all="ignore"):
            return float(run(self.suggesting)[0, 0])

    def suggested(self, key: str) -> Array:
        """Settings that the definition suggests for a column, ``(n,)``, SI; none while what they rest on is not known."""
        if key not in self.program.suggestions:
            return np.zeros(0)
        with np.errstate(all="ignore"):
            values = self.program.suggestions[key][0](self.suggesting)[0]
        return values if np.isfinite(values).all() else np.zeros(0)

    def measured(self, value: float, u: float, unit: Unit) -> MeasuredValue:
        """Any value of this analysis on its way to a person, by the house rule of rounding."""
        return MeasuredValue(value=value, u=u, unit=unit, rule=self.rules.rounding)
