"""A program run on a sheet: every column, fit and result, with the uncertainty of each. A pure function."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core import fitting, uncertainty
from cavrel.core.accepted import Accepted, local_gravity
from cavrel.core.components import Block, Nominal, gather
from cavrel.core.fitting import Bound, FitAnalysis
from cavrel.core.formula.evaluate import Environment
from cavrel.core.formula.nodes import PUBLISHED, Call, Member, Name, Node, children, walk
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.program import Derived, FitStep, PictureStep, PredictStep, Program, ResultStep
from cavrel.core.rules import HouseRules, Site
from cavrel.core.run import RunDocument
from cavrel.core.sheet import Sheet, lay_out
from cavrel.core.uncertainty import Pushes, Source
from cavrel.core.units import Unit

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Values:
    """A quantity or column: ``value`` and standard uncertainty ``u`` ``(rows,)``, SI; ``unit`` to show it in.

    ``parts``: signed contribution of each component, ``(K, rows)``. For something read, ``trials`` and per-trial ``scatter`` too.
    """

    key: str
    unit: Unit
    value: Array
    u: Array
    parts: Array
    trials: NDArray[np.intp] | None = None
    scatter: Array | None = None


@dataclass(frozen=True, slots=True)
class ResultAnalysis:
    """A result: ``value`` and ``u``, SI; effective ``dof``, ``k95`` and expanded ``U95``; the ``budget``; what it is compared with.

    ``difference_u``: standard uncertainty of result minus accepted, correlations included, from
    ``difference_parts`` ``(K,)``; ``against_measured``: the other value comes from this run
    too. ``birge``: the ratio of a weighted mean, NaN elsewhere. ``value`` is NaN with a ``reason``.
    """

    name: str
    unit: Unit
    value: float
    u: float
    dof: float
    k95: float
    U95: float
    parts: Array
    budget: tuple[Source, ...]
    accepted: Accepted | None
    difference_u: float
    against_measured: bool
    birge: float
    reason: str
    difference_parts: Array


@dataclass(frozen=True, slots=True)
class PredictionAnalysis:
    """A value read from a fit at ``x``: ``value`` and ``u`` of the curve there, SI; ``low`` and ``high`` bound, with 95 %, one more reading.

    ``outside``: x lies outside the measured range. ``value`` is NaN with a ``reason``.
    """

    name: str
    unit: Unit
    value: float
    u: float
    x: float
    low: float
    high: float
    k95: float
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


@dataclass(frozen=True, slots=True)
class Analysis:
    """Everything that follows from one sheet."""

    program: Program
    run: RunDocument
    rules: HouseRules
    sheet: Sheet
    pushes: Pushes
    values: Mapping[str, Values]
    fits: Mapping[str, FitAnalysis]
    results: Mapping[str, ResultAnalysis]
    predictions: Mapping[str, PredictionAnalysis]
    dof: Array
    accepted: Mapping[str, Accepted]
    checks: Mapping[int, bool | None]
    pictures: Mapping[str, ForcePicture]


def analyse(program: Program, run: RunDocument, rules: HouseRules | None = None) -> Analysis:
    """Run ``program`` on the readings of ``run`` under ``rules`` (the run document's own, if None).

    Raises RunError for a document that does not fit the definition. A missing reading, a fit that cannot be made or a bad
    text never raises: what depends on it is NaN and says why.
    """
    house = rules or run.house_rules()
    sheet = lay_out(program, run)
    nominal, blocks = gather(sheet, house)
    for fit in program.fits.values():
        blocks.append(_scatter_block(program, fit, sheet.rows[fit.series]))
    accepted = _accepted(program, house)
    for name in program.used_accepted:
        nominal[name] = _single(accepted[name].value)
        if accepted[name].u > 0:
            u = np.array([accepted[name].u])
            source = f"accepted {accepted[name].label}"
            blocks.append(Block("accepted", source, name, (name,), None, u, np.array([np.inf]), (), "normal"))
    pushes = uncertainty.plan(blocks)
    return _Runner(program, run, house, sheet, nominal, pushes, accepted).analysis()


def _scatter_block(program: Program, fit: FitStep, rows: int) -> Block:
    """Room for one component per ordinate of a fit; the fit itself says how large they are, once the line is known."""
    label = program.definition.fits[fit.name].label or "the line"
    names = (f"fit:{fit.name}",) * rows
    return Block(
        "scatter",
        f"scatter about {label}",
        fit.name,
        (),
        np.arange(rows),
        np.zeros(rows),
        np.full(rows, np.inf),
        names,
        "student",
    )


def _accepted(program: Program, rules: HouseRules) -> dict[str, Accepted]:
    """The accepted values under these house rules."""
    accepted = dict(program.accepted)
    site = rules.g if isinstance(rules.g, Site) else None
    accepted["g_local"] = local_gravity(rules.gravity(), site.latitude if site else None, site.height if site else None)
    return accepted


def bind(step: FitStep, environment: Environment, sheet: Sheet, batch: int) -> Bound:
    """The batch that a fit runs over; a mean runs over the row numbers."""
    rows = sheet.rows[step.series]
    y = np.broadcast_to(step.run_y(environment), (batch, rows))
    counted = np.broadcast_to(np.arange(1.0, rows + 1)[None, :], (batch, rows))
    x = counted if step.run_x is None else np.broadcast_to(step.run_x(environment), (batch, rows))
    return Bound(x, y, environment, sheet.keep[step.series])


def weighted_mean(values: Array, covariance: Array) -> tuple[Array, float]:
    """Weights ``(n,)`` of the best linear mean of ``values`` ``(n,)``, and the Birge ratio.

    Where the covariance is singular (results that are one result twice) equal weights are used for what it cannot tell apart.
    """
    ones = np.ones(len(values))
    inverse = np.linalg.pinv(covariance, rcond=1e-9, hermitian=True)
    total = float(ones @ inverse @ ones)
    weights = inverse @ ones / total if total > 0 else ones / len(values)
    left = values - values @ weights
    chi2 = float(left @ inverse @ left)
    return np.asarray(weights), math.sqrt(max(chi2, 0.0) / (len(values) - 1))


def _single(value: float) -> Nominal:
    return Nominal(np.array([value]), np.array([1]), np.array([np.nan]))


class _Runner:
    """Carries the environment of one run from step to step."""

    def __init__(
        self,
        program: Program,
        run: RunDocument,
        rules: HouseRules,
        sheet: Sheet,
        nominal: Mapping[str, Nominal],
        pushes: Pushes,
        accepted: Mapping[str, Accepted],
    ) -> None:
        self.program, self.run, self.rules, self.sheet = program, run, rules, sheet
        self.nominal, self.pushes, self.accepted = nominal, pushes, accepted
        self.dof = pushes.dof.copy()
        self.values: dict[str, Array] = uncertainty.pushed_inputs(pushes, nominal)
        self.values["pi"] = np.array([[math.pi]])
        self.environment = Environment(self.values, sheet.keep)
        self.fits: dict[str, FitAnalysis] = {}
        self.results: dict[str, ResultAnalysis] = {}
        self.predictions: dict[str, PredictionAnalysis] = {}
        self.parameters: dict[str, Array] = {}

    def analysis(self) -> Analysis:
        with np.errstate(all="ignore"):
            for step in self.program.steps:
                if isinstance(step, FitStep):
                    self.fit(step)
                elif isinstance(step, ResultStep):
                    self.result(step)
                elif isinstance(step, PredictStep):
                    self.predict(step)
                else:
                    self.values[step.key] = self.shaped(step)
            checks = {check.index: self.truth(check.run(self.environment)) for check in self.program.checks}
            values = {entry.key: self.described(entry.key, entry.unit) for entry in self.program.inputs}
            for step in self.program.steps:
                if isinstance(step, Derived):
                    values[step.key] = self.described(step.key, step.unit)
            pictures = {step.key: picture for step in self.program.pictures if (picture := self.picture(step))}
        # Worked out in the order of what each needs, shown in the order of the definition.
        results = {name: self.results[name] for name in self.program.definition.results}
        fits = {name: self.fits[name] for name in self.program.definition.fits}
        return Analysis(
            self.program,
            self.run,
            self.rules,
            self.sheet,
            self.pushes,
            values,
            fits,
            results,
            self.predictions,
            self.dof,
            self.accepted,
            checks,
            pictures,
        )

    def shaped(self, step: Derived) -> Array:
        """A derived column has its series' rows even where its formula holds only single values."""
        values = step.run(self.environment)
        rows = self.sheet.rows[step.series] if step.series else 1
        return values if values.shape[1] == rows else np.broadcast_to(values, (values.shape[0], rows))

    def picture(self, step: PictureStep) -> ForcePicture | None:
        """A picture of the last row that has everything it needs, or of the run's single readings; None while something is missing."""
        columns = [step.pivot(self.environment)]
        for at, force in step.forces:
            columns += [at(self.environment), force(self.environment)]
        rows = max(column.shape[1] for column in columns)
        table = np.array([np.broadcast_to(column[0], rows) for column in columns])
        whole = np.flatnonzero(np.isfinite(table).all(axis=0))
        if not len(whole):
            return None
        here = table[:, whole[-1]].tolist()
        labels = [f.label for f in self.program.definition.pictures[step.key].forces]
        forces = tuple(zip(labels, here[1::2], here[2::2], strict=True))
        return ForcePicture(step.key, here[0], forces, int(whole[-1]) + 1 if step.series else None)

    def truth(self, values: Array) -> bool | None:
        value = values[0, 0]
        return None if math.isnan(value) else bool(value)

    def described(self, key: str, unit: Unit) -> Values:
        values = self.values[key]
        parts = uncertainty.contributions(values, self.pushes.count)
        read = self.nominal.get(key)
        return Values(
            key,
            unit,
            values[0],
            uncertainty.combined(parts),
            parts,
            read.trials if read else None,
            read.scatter if read else None,
        )

    # --- fits --------------------------------------------------------------------------------------------------------

    def fit(self, step: FitStep) -> None:
        bound = self.bound(step)
        x0 = math.nan
        if step.at is not None:
            x0 = float(step.at(self.environment)[0, 0])
        span = self.scatter_span(step.name)
        made, over_batch = fitting.fit(step, bound, self.pushes, self.rules, span, x0)
        self.fits[step.name], self.parameters[step.name] = made, over_batch
        for i, parameter in enumerate(step.parameters):
            self.values[f"{step.name}.{parameter}"] = over_batch[:, i : i + 1]
        if made.source == "scatter" and made.diagnostics is not None:
            self.dof[span] = made.diagnostics.dof

    def bound(self, step: FitStep) -> Bound:
        """What a fit runs over, from the environment as it stands."""
        return bind(step, self.environment, self.sheet, self.pushes.batch)

    def scatter_span(self, fit: str) -> slice:
        index = next(i for i, b in enumerate(self.pushes.blocks) if b.kind == "scatter" and b.subject == fit)
        return self.pushes.span(index)

    def predict(self, step: PredictStep) -> None:
        fit = self.fits[step.fit]
        at = step.at(self.environment)
        if fit.shape is None or not fit.made or not math.isfinite(float(at[0, 0])):
            nan, why = math.nan, fit.reason or self.missing()
            self.values[step.key] = np.full((1, 1), nan)
            self.predictions[step.key] = PredictionAnalysis(
                step.key, step.unit, nan, nan, nan, nan, nan, nan, False, why
            )
            return
        values = fit.shape.predict(self.parameters[step.fit], at)
        self.values[step.key] = values
        parts = uncertainty.contributions(values, self.pushes.count)[:, 0]
        u = float(np.sqrt((parts**2).sum()))
        single = fit.single_u()
        dof = uncertainty.effective_dof(parts, self.pushes, self.dof)
        if fit.source == "scatter" and fit.diagnostics is not None:
            dof = min(dof, float(fit.diagnostics.dof))
        k95 = uncertainty.coverage_factor(dof, self.rules.student)
        where, value = float(at[0, 0]), float(values[0, 0])
        reach = k95 * math.hypot(u, single if math.isfinite(single) else 0.0)
        measured = fit.x[fit.rows]
        outside = not measured.min() <= where <= measured.max()
        self.predictions[step.key] = PredictionAnalysis(
            step.key, step.unit, value, u, where, value - reach, value + reach, k95, outside, ""
        )

    # --- results -----------------------------------------------------------------------------------------------------

    def result(self, step: ResultStep) -> None:
        birge = math.nan
        if step.combine:
            values, birge = self.combined(step.combine)
        else:
            assert step.run is not None
            values = step.run(self.environment)
        self.values[step.key] = values
        count = self.pushes.count
        value = float(values[0, 0])
        parts = uncertainty.contributions(values, count)[:, 0]
        u = float(np.sqrt((parts**2).sum()))
        dof = uncertainty.effective_dof(parts, self.pushes, self.dof)
        k95 = uncertainty.coverage_factor(dof, self.rules.student)
        accepted = self.accepted[step.accepted_name] if step.accepted_name else None
        difference_u = math.hypot(u, accepted.u) if accepted else math.nan
        apart = parts
        if accepted and step.accepted_name in self.program.used_accepted:
            moved = values - self.values[step.accepted_name]
            apart = uncertainty.contributions(moved, count)[:, 0]
            difference_u = float(uncertainty.combined(apart))
        measured = False
        if step.accepted_run:
            other = step.accepted_run(self.environment)
            own = self.program.definition.results[step.key].accepted or ""
            measured = self.from_this_run(parse(own))
            u_other = float(uncertainty.combined(uncertainty.contributions(other, count))[0])
            source = "computed from this run" if measured else "by this formula from published values"
            if not any(isinstance(n, Name | Member) for n in walk(parse(own))):
                source = "stated in the definition"
            label = "measured another way" if measured else typeset(parse(own))
            accepted = Accepted(float(other[0, 0]), u_other, step.unit.text, label, source)
            apart = uncertainty.contributions(values - other, count)[:, 0]
            difference_u = float(uncertainty.combined(apart))
        reason = "" if math.isfinite(value) else self.missing()
        self.results[step.key] = ResultAnalysis(
            step.key,
            step.unit,
            value,
            u,
            dof,
            k95,
            k95 * u,
            parts,
            uncertainty.budget(parts, self.pushes) if u > 0 else (),
            accepted,
            difference_u,
            measured,
            birge,
            reason,
            apart,
        )

    def from_this_run(self, node: Node) -> bool:
        """Whether a formula is another measurement of this run: it holds a reading or a result, other than as the condition, such as a
        temperature, at which a published formula is taken."""
        if isinstance(node, Call) and node.function in PUBLISHED:
            return False
        if isinstance(node, Name | Member):
            return node != Name("pi") and not (isinstance(node, Name) and node.name in self.program.used_accepted)
        return any(self.from_this_run(part) for part in children(node))

    def combined(self, names: tuple[str, ...]) -> tuple[Array, float]:
        """The weighted mean of results over the batch, and its Birge ratio, by which it is widened where it passes 1.

        Generalised least squares with the covariance of the results, shared components included (JCGM 102:2011, 6; Birge, Phys. Rev. 40
        (1932) 207).
        """
        batch = self.pushes.batch
        present = [n for n in names if not self.results[n].reason]
        if not present:
            return np.full((1, 1), np.nan), math.nan
        values = np.concatenate([np.broadcast_to(self.values[n], (batch, 1)) for n in present], axis=1)
        if len(present) == 1:
            return values, math.nan
        parts = np.stack([self.results[n].parts for n in present], axis=1)
        weights, birge = weighted_mean(values[0], parts.T @ parts)
        mean = values @ weights[:, None]
        return mean[:1] + (mean - mean[:1]) * max(1.0, birge), birge

    def missing(self) -> str:
        """What a result that cannot be computed waits for."""
        for fit in self.fits.values():
            if fit.reason:
                return fit.reason
        for entry in self.program.inputs:
            if entry.series is None and not entry.optional and np.isnan(self.nominal[entry.key].values).all():
                return f"{entry.label} is not measured yet"
        return "its formula has no value for these readings"
