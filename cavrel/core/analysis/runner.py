"""A program run on a sheet: every column, fit and result, with the uncertainty of each. A pure function."""

import math
from collections.abc import Collection
from dataclasses import replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import uncertainty
from cavrel.core.analysis.binding import combination
from cavrel.core.analysis.components import Nominal, UncertaintyComponents, gather
from cavrel.core.analysis.distribution import MonteCarlo
from cavrel.core.analysis.environment import Carrying
from cavrel.core.analysis.montecarlo import monte_carlo
from cavrel.core.analysis.perturbations import plan_perturbations
from cavrel.core.analysis.records import (
    Analysis,
    Comparison,
    ResultAnalysis,
)
from cavrel.core.analysis.sheet import Sheet, lay_out
from cavrel.core.definition.reference import ReferenceValue, local_gravity
from cavrel.core.definition.rules import HouseRules, Site
from cavrel.core.definition.steps import Derived, FitStep, PredictStep, Program, ResultStep
from cavrel.core.formula.evaluate import Environment
from cavrel.core.formula.nodes import PUBLISHED, Call, Member, Name, Node, children, walk
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.logbook.run import RunDocument

Array = NDArray[np.float64]

BENT = 0.2
"""Where second order adds this share of u to a result, or more, the law of propagation is no answer (JCGM 101:2008, 5.11): the result's
distribution is drawn instead."""
_DRAWS = 6_000


def analyse(program: Program, run: RunDocument, rules: HouseRules | None = None) -> Analysis:
    """Run ``program`` on the readings of ``run`` under ``rules`` (the run document's own, if None).

    Raises RunError for a document that does not fit the definition. A missing reading, a fit that cannot be made or a bad
    text never raises: what depends on it is NaN and says why.
    """
    return analyse_sheet(program, run, rules or run.house_rules(), lay_out(program, run))


def analyse_sheet(program: Program, run: RunDocument, house: HouseRules, sheet: Sheet) -> Analysis:
    """The same for a sheet that was laid out already, such as one that differs from ``run``'s own in a few readings."""
    with np.errstate(all="ignore"):
        nominal, groups = gather(sheet, house)
    for fit in program.fits.values():
        groups.append(_scatter_block(program, fit, sheet.rows[fit.series]))
    accepted = _accepted(program, house, run)
    for name in program.used_accepted:
        nominal[name] = _single(accepted[name].value)
        if accepted[name].u > 0:
            u = np.array([accepted[name].u])
            source = f"accepted {accepted[name].label}"
            groups.append(
                UncertaintyComponents(
                    kind="accepted",
                    source=source,
                    subject=name,
                    targets=(name,),
                    rows=None,
                    u=u,
                    dof=np.array([np.inf]),
                    estimate=(),
                    distribution="normal",
                )
            )
    singled = {series: _edges(sheet.keep[series]) for series in program.edges}
    perturbations = plan_perturbations(groups, singled)
    found = _Runner(program, run, house, sheet, nominal, perturbations, accepted).analysis()
    bent = {name: result for name, result in found.results.items() if not result.linear}
    if not bent:
        return found
    drawn = _Drawn(found, bent)
    results = {name: replace(r, drawn=drawn.of) if name in bent else r for name, r in found.results.items()}
    return replace(found, results=results)


def _edges(keep: NDArray[np.bool_]) -> frozenset[int]:
    """The first and the last row that count."""
    kept = np.flatnonzero(keep)
    return frozenset(kept[[0, -1]].tolist()) if len(kept) else frozenset()


class _Drawn:
    """Intervals from distributions, for results where the law of propagation is no answer; drawn when somebody looks at one."""

    def __init__(self, found: Analysis, bent: Collection[str]) -> None:
        self._found, self._bent = found, set(bent)

    @cached_property
    def _distributions(self) -> dict[str, MonteCarlo]:
        return monte_carlo(self._found, _DRAWS, only=self._bent)

    def of(self, name: str) -> tuple[float, float]:
        """Low and high end with 95 % coverage, SI."""
        drawn = self._distributions.get(name)
        return (drawn.low95, drawn.high95) if drawn is not None else (math.nan, math.nan)


def _scatter_block(program: Program, fit: FitStep, rows: int) -> UncertaintyComponents:
    """Room for one component per ordinate of a fit; the fit itself says how large they are, once the line is known."""
    names = (f"fit:{fit.name}",) * rows
    return UncertaintyComponents(
        kind="scatter",
        source=f"scatter about {fit.label}",
        subject=fit.name,
        targets=(),
        rows=np.arange(rows),
        u=np.zeros(rows),
        dof=np.full(rows, np.inf),
        estimate=names,
        distribution="student",
    )


def _accepted(program: Program, rules: HouseRules, run: RunDocument) -> dict[str, ReferenceValue]:
    """The accepted values under these house rules; what the laboratory says of g itself stands above its rule."""
    accepted = dict(program.accepted)
    if "g_local" in run.accepted:
        return accepted
    site = rules.g if isinstance(rules.g, Site) else None
    accepted["g_local"] = local_gravity(rules.gravity(), site.latitude if site else None, site.height if site else None)
    return accepted


def _single(value: float) -> Nominal:
    return Nominal(np.array([value]), np.array([1]), np.array([np.nan]))


class _Runner(Carrying):
    """One run from its inputs to its results."""

    def analysis(self) -> Analysis:
        definition = self.program.definition
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
            parities = tuple(self.parity(step) for step in self.program.identities)
            verified = tuple(self.verified(step) for step in self.program.verifications)
            # What is true or false, and what is drawn to scale, asks for the nominal values alone.
            nominal = {key: value[:1] for key, value in self.values.items()}
            plain = Environment(nominal, self.sheet.keep)
            checks = {check.index: self.truth(check.run(plain)) for check in self.program.checks}
            values = {entry.key: self.described(entry.key, entry.unit) for entry in self.program.inputs}
            for step in self.program.steps:
                if isinstance(step, Derived):
                    values[step.key] = self.described(step.key, step.unit)
            pictures = {step.key: picture for step in self.program.pictures if (picture := self.picture(step, plain))}
        # Computed in the order of what each needs, shown in the order of the definition, the point of the experiment first.
        return Analysis(
            program=self.program,
            run=self.run,
            rules=self.rules,
            sheet=self.sheet,
            perturbations=self.perturbations,
            values=values,
            fits={name: self.fits[name] for name in definition.fits},
            means={name: fit for name, fit in self.fits.items() if name not in definition.fits},
            results={name: self.results[name] for name in definition.led},
            predictions={name: self.predictions[name] for name in definition.predict},
            parities=parities,
            verified=verified,
            dof=self.dof,
            accepted=self.accepted,
            checks=checks,
            pictures=pictures,
            nominal=nominal,
            waits={name: self.waits(name) for name in [*definition.fits, *definition.results, *definition.predict]},
        )

    def result(self, step: ResultStep) -> None:
        ratio, weights = math.nan, dict[str, float]()
        if step.combine:
            values, ratio, weights = self.combined(step.combine)
        else:
            assert step.run is not None
            values = step.run(self.environment)
        self.values[step.key] = values
        value = float(values[0, 0])
        parts, bend = self.perturbations.single_and_bend(values)
        u = uncertainty.combined_one(parts)
        reason = "" if math.isfinite(value) else self.missing(step.key)
        linear = bool(reason) or (bend <= BENT * u if u > 0 else bend <= 1e-9 * abs(value))
        # What a Birge ratio adds to the variance of a mean is known by the scatter of its parts alone.
        added = 1 - 1 / ratio**2 if ratio > 1 else 0.0
        dof = uncertainty.widened_dof(
            uncertainty.effective_dof(parts, self.perturbations, self.dof), added, len(weights)
        )
        coverage_factor = uncertainty.coverage_factor(dof, self.rules.student)
        if not linear or not math.isfinite(u):
            linear, u = bool(reason), math.nan
        plausible = None
        if step.key in self.program.ranges and not reason:
            plausible = self.truth(self.program.ranges[step.key](self.environment))
        self.results[step.key] = ResultAnalysis(
            name=step.key,
            unit=step.unit,
            value=value if not reason else math.nan,
            u=u,
            dof=dof,
            coverage_factor=coverage_factor,
            expanded_uncertainty=coverage_factor * u,
            parts=parts,
            perturbations=self.perturbations,
            compared=self.compared(step, values, parts, u, added, len(weights)),
            birge=ratio,
            reason=reason,
            linear=linear,
            plausible=plausible,
            weights=weights,
        )

    def compared(
        self, step: ResultStep, values: Array, parts: Array, u: float, added: float, many: int
    ) -> Comparison | None:
        """The result against its accepted value, or against what the same run says another way. ``added``: the share of its variance
        by the scatter of the ``many`` results that it is the mean of."""
        waits: tuple[str, ...] = ()
        if step.accepted_name:
            accepted, measured, known = self.accepted[step.accepted_name], False, 0.0
            if step.accepted_name in self.program.used_accepted:
                difference_parts = parts - self.perturbations.single(self.values[step.accepted_name])
            else:
                difference_parts, known = parts, accepted.u
        elif step.accepted_run:
            other = step.accepted_run(self.environment)
            own = parse(self.program.definition.results[step.key].accepted or "")
            measured, known = self.from_this_run(own), 0.0
            u_other = uncertainty.combined_one(self.perturbations.single(other))
            source = "computed from this run" if measured else "by this formula from published values"
            if not any(isinstance(n, Name | Member) for n in walk(own)):
                source = "stated in the definition"
            label = "measured another way" if measured else typeset(own)
            accepted = ReferenceValue(float(other[0, 0]), u_other, step.unit.text, label, source)
            # Contributions are subtracted, not values: against 9.81 the digits of 10⁻³⁰ would be lost.
            difference_parts = parts - self.perturbations.single(other)
            if not math.isfinite(accepted.value):
                waits = self.waits(f"{step.key}#accepted") or ("the other value",)
        else:
            return None
        dof = uncertainty.effective_dof(difference_parts, self.perturbations, self.dof, known)
        if added:
            of_difference = math.hypot(uncertainty.combined_one(difference_parts), known)
            dof = uncertainty.widened_dof(dof, added * min(u / of_difference, 1.0) ** 2, many)
        return Comparison(
            accepted=accepted,
            u=math.hypot(uncertainty.combined_one(difference_parts), known) if math.isfinite(u) else math.nan,
            parts=difference_parts,
            dof=dof,
            coverage_factor=uncertainty.coverage_factor(dof, self.rules.student),
            measured=measured,
            waits=waits,
        )

    def from_this_run(self, node: Node) -> bool:
        """Whether a formula is another measurement of this run: it holds a reading or a result, other than as the condition, such as a
        temperature, at which a published formula is taken."""
        if isinstance(node, Call) and node.function in PUBLISHED:
            return False
        if isinstance(node, Name | Member):
            return node != Name("pi") and not (isinstance(node, Name) and node.name in self.program.used_accepted)
        return any(self.from_this_run(part) for part in children(node))

    def combined(self, names: tuple[str, ...]) -> tuple[Array, float, dict[str, float]]:
        """The mean of results over the batch, the ratio that widens it where it passes 1, and each result's weight."""
        present = [n for n in names if not self.results[n].reason]
        if not present:
            return np.full((1, 1), np.nan), math.nan, {}
        if len(present) == 1:
            return self.values[present[0]], math.nan, {present[0]: 1.0}
        wide = [
            np.broadcast_to(self.perturbations.widen(self.values[n]), (self.perturbations.batch, 1)) for n in present
        ]
        values = np.concatenate(wide, axis=1)
        parts = np.stack([self.results[n].parts for n in present], axis=1)
        weights, ratio = combination(values[0], parts.T @ parts, self.rules.combine == "plain")
        mean = values @ weights[:, None]
        widened = mean[:1] + (mean - mean[:1]) * (max(1.0, ratio) if math.isfinite(ratio) else 1.0)
        return widened, ratio, dict(zip(present, weights.tolist(), strict=True))
