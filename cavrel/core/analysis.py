"""A program run on a sheet: every column, fit and result, with the uncertainty of each. A pure function."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core import uncertainty
from cavrel.core.accepted import Accepted, local_gravity
from cavrel.core.components import Block, Nominal, gather
from cavrel.core.fit import line
from cavrel.core.formula.evaluate import Environment
from cavrel.core.program import Derived, LineFit, Program, ResultStep
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
class Parameter:
    """One value derived: ``value``, ``u``, SI; ``parts`` ``(K,)`` signed contributions."""

    value: float
    u: float
    unit: Unit
    parts: Array


@dataclass(frozen=True, slots=True)
class FitAnalysis:
    """A line fitted, or the ``reason`` why not.

    ``x``, ``y``, ``u_x``, ``u_y``: ``(rows,)``, SI, all rows, NaN where missing; ``rows``: indices of those fitted. ``covariance`` of
    slope and intercept. ``source``: whether the rows' independent uncertainty was ``propagated`` or taken from ``scatter``.
    """

    name: str
    x: Array
    y: Array
    u_x: Array
    u_y: Array
    rows: NDArray[np.intp]
    reason: str
    parameters: Mapping[str, Parameter]
    covariance: Array
    diagnostics: line.Diagnostics | None
    weighting: line.Weighting | None
    source: str

    @property
    def made(self) -> bool:
        return not self.reason

    def at(self, x: Array) -> tuple[Array, Array]:
        """The line at ``x`` ``(n,)`` and its standard uncertainty, shared components included."""
        slope, intercept = self.parameters["slope"], self.parameters["intercept"]
        parts = slope.parts[:, None] * x[None, :] + intercept.parts[:, None]
        return slope.value * x + intercept.value, uncertainty.combined(parts)


@dataclass(frozen=True, slots=True)
class ResultAnalysis:
    """A result: ``value`` and ``u``, SI; effective ``dof``, ``k95`` and expanded ``U95``; the ``budget``; what it is compared with.

    ``difference_u``: standard uncertainty of result minus accepted, correlations included. ``value`` is NaN with a ``reason``.
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
    reason: str


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
    checks: Mapping[int, bool | None]


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
            blocks.append(
                Block("accepted", source, name, (name,), None, u, np.array([np.inf]), (f"accepted:{name}",), "normal")
            )
    pushes = uncertainty.plan(blocks)
    return _Runner(program, run, house, sheet, nominal, pushes, accepted).analysis()


def _scatter_block(program: Program, fit: LineFit, rows: int) -> Block:
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

    def analysis(self) -> Analysis:
        with np.errstate(all="ignore"):
            for step in self.program.steps:
                if isinstance(step, LineFit):
                    self.fit(step)
                elif isinstance(step, ResultStep):
                    self.result(step)
                else:
                    self.values[step.key] = self.shaped(step)
            checks = {check.index: self.truth(check.run(self.environment)) for check in self.program.checks}
            values = {entry.key: self.described(entry.key, entry.unit) for entry in self.program.inputs}
            for step in self.program.steps:
                if isinstance(step, Derived):
                    values[step.key] = self.described(step.key, step.unit)
        return Analysis(
            self.program, self.run, self.rules, self.sheet, self.pushes, values, self.fits, self.results, checks
        )

    def shaped(self, step: Derived) -> Array:
        """A derived column has its series' rows even where its formula holds only single values."""
        values = step.run(self.environment)
        rows = self.sheet.rows[step.series] if step.series else 1
        return values if values.shape[1] == rows else np.broadcast_to(values, (values.shape[0], rows))

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

    def fit(self, step: LineFit) -> None:
        rows = self.sheet.rows[step.series]
        batch = self.pushes.batch
        x_all = np.broadcast_to(step.run_x(self.environment), (batch, rows))
        y_all = np.broadcast_to(step.run_y(self.environment), (batch, rows))
        x_parts = uncertainty.contributions(x_all, self.pushes.count)
        y_parts = uncertainty.contributions(y_all, self.pushes.count)
        # A component is a row's own where it moves that row and no other; all else acts on the rows together.
        own = self.pushes.independent & (((x_parts != 0) | (y_parts != 0)).sum(axis=1) <= 1)
        use = np.flatnonzero(np.isfinite(x_all[0]) & np.isfinite(y_all[0]) & self.sheet.keep[step.series])
        x, y = x_all[:, use], y_all[:, use]
        reason = self.impossible(x[0])
        if reason:
            nothing = {
                p: Parameter(math.nan, math.nan, u, np.full(self.pushes.count, np.nan))
                for p, u in step.parameters.items()
            }
            made = FitAnalysis(
                step.name,
                x_all[0],
                y_all[0],
                uncertainty.combined(x_parts),
                uncertainty.combined(y_parts),
                use,
                reason,
                nothing,
                np.full((2, 2), np.nan),
                None,
                None,
                "",
            )
            for parameter in step.parameters:
                self.values[f"{step.name}.{parameter}"] = np.full((1, 1), np.nan)
            self.fits[step.name] = made
            return
        forced = self.rules.origin == "forced"
        plain = line.solve(x[:1], y[:1], line.Weighting(np.zeros(len(use)), np.ones(len(use)), False, False), forced)[
            0
        ][0]
        x_variance = (x_parts[own][:, use] ** 2).sum(axis=0)
        y_variance = (y_parts[own][:, use] ** 2).sum(axis=0)
        weighting = line.choose_weighting(
            x_variance, y_variance, plain, self.rules.weights == "equal", self.rules.abscissae
        )
        slope0, intercept0 = (float(v[0]) for v in line.solve(x[:1], y[:1], weighting, forced, float(plain)))
        diagnostics = line.diagnose(x[0], y[0], slope0, intercept0, weighting, forced)
        span = self.scatter_span(step.name)
        y = self.with_scatter(y, use, span, diagnostics)
        slope, intercept = line.solve(x, y, weighting, forced, slope0)
        uses_scatter = self.choose_scatter(slope, own, span, diagnostics)
        # The components that are not believed have no say: their entries show the nominal line.
        silent = np.zeros(self.pushes.count, bool)
        if uses_scatter:
            silent[own] = True
            silent[span] = False
        else:
            silent[span] = True
        entries = np.concatenate([[False], silent, silent])
        slope, intercept = np.where(entries, slope0, slope), np.where(entries, intercept0, intercept)
        self.values[f"{step.name}.slope"], self.values[f"{step.name}.intercept"] = slope[:, None], intercept[:, None]
        parts = uncertainty.contributions(np.stack([slope, intercept], axis=1), self.pushes.count)
        parameters = {
            name: Parameter(value, float(np.sqrt((parts[:, i] ** 2).sum())), step.parameters[name], parts[:, i])
            for i, (name, value) in enumerate((("slope", slope0), ("intercept", intercept0)))
        }
        self.fits[step.name] = FitAnalysis(
            step.name,
            x_all[0],
            y_all[0],
            uncertainty.combined(x_parts),
            uncertainty.combined(y_parts),
            use,
            "",
            parameters,
            parts.T @ parts,
            diagnostics,
            weighting,
            "scatter" if uses_scatter else "propagated",
        )
        if uses_scatter:
            self.dof[span] = diagnostics.dof

    def impossible(self, x: Array) -> str:
        """Why no line can be drawn through points at ``x``; empty if it can."""
        least = 1 if self.rules.origin == "forced" else 2
        if len(x) < least:
            return f"a line needs {least} complete rows; there are {len(x)}"
        if least == 2 and np.ptp(x) <= 1e-12 * max(abs(x).max(), 1e-300):
            return "all points stand at the same x; a line needs at least two different settings"
        if least == 1 and not (x != 0).any():
            return "all points stand at x = 0"
        return ""

    def scatter_span(self, fit: str) -> slice:
        index = next(i for i, b in enumerate(self.pushes.blocks) if b.kind == "scatter" and b.subject == fit)
        return self.pushes.span(index)

    def with_scatter(self, y: Array, use: NDArray[np.intp], span: slice, diagnostics: line.Diagnostics) -> Array:
        """``y`` with each ordinate pushed by the residual standard deviation in the entries kept for that."""
        if diagnostics.dof <= 0:
            return y
        y = y.copy()
        squares = float((diagnostics.weights * diagnostics.residuals**2).sum())
        size = np.sqrt(squares / diagnostics.dof / diagnostics.weights)
        up = 1 + span.start + use
        y[up, np.arange(len(use))] += size
        y[up + self.pushes.count, np.arange(len(use))] -= size
        return y

    def choose_scatter(self, slope: Array, own: NDArray[np.bool_], span: slice, diagnostics: line.Diagnostics) -> bool:
        """Whether the points' scatter speaks for their own uncertainty, by the house rule and by what is known."""
        if diagnostics.dof <= 0:
            return False
        parts = uncertainty.contributions(slope[:, None], self.pushes.count)[:, 0]
        scattered = float((parts[span] ** 2).sum())
        parts[span] = 0
        propagated = float((parts[own] ** 2).sum())
        if propagated == 0 or self.rules.fit_uncertainty == "scatter":
            return True
        return self.rules.fit_uncertainty == "larger" and scattered > propagated

    # --- results -----------------------------------------------------------------------------------------------------

    def result(self, step: ResultStep) -> None:
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
        if accepted and step.accepted_name in self.program.used_accepted:
            moved = values - self.values[step.accepted_name]
            difference_u = float(uncertainty.combined(uncertainty.contributions(moved, count))[0])
        if step.accepted_run:
            other = step.accepted_run(self.environment)
            u_other = float(uncertainty.combined(uncertainty.contributions(other, count))[0])
            body = self.program.definition.results[step.key]
            accepted = Accepted(
                float(other[0, 0]), u_other, step.unit.text, body.accepted or "", "computed from this run"
            )
            difference_u = float(uncertainty.combined(uncertainty.contributions(values - other, count))[0])
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
            reason,
        )

    def missing(self) -> str:
        """What a result that cannot be computed waits for."""
        for fit in self.fits.values():
            if fit.reason:
                return fit.reason
        for entry in self.program.inputs:
            if entry.series is None and not entry.optional and np.isnan(self.nominal[entry.key].values).all():
                return f"{entry.label} is not measured yet"
        return "its formula has no value for these readings"
