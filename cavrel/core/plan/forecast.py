"""The uncertainty to expect of each result, from a plan alone.

The readings to expect are analysed like any others. Their trials scatter by the true standard deviation; what a run of few trials finds for
it is itself a matter of chance and of rounding, so each estimate of scatter is drawn many times and the median of u taken. Where a result
rests on scatter that the readings to expect do not show (about a curve, from causes that no instrument declares, or in the largest of
several values), whole runs are drawn and their medians taken.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis, analyse
from cavrel.core.analysis.records import ResultAnalysis
from cavrel.core.analysis.uncertainty import coverage_factor
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import Program
from cavrel.core.errors import CavrelError
from cavrel.core.formula.nodes import Call, walk
from cavrel.core.formula.parse import parse
from cavrel.core.logbook import run as runs
from cavrel.core.plan.estimates import Estimate, estimates_of, median_u
from cavrel.core.plan.expected import expected
from cavrel.core.quantity.units import Unit
from cavrel.core.simulate import simulate
from cavrel.core.simulate.apparatus import Planned

Array = NDArray[np.float64]

DRAWN = 41
"""Runs drawn where the readings to expect do not tell."""
QUICKLY = 9
"""As many for a comparison with another plan drawn alike: what chance did to one it did to the other."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Expected:
    """What a plan promises of one result.

    ``name``: of the result.
    ``unit``: to show it in.
    ``value``: that the simulation's truths give, SI; NaN with a ``reason``.
    ``u``: standard uncertainty to expect (the median), SI; half of the 95 % interval over k where the law of propagation is no answer.
    ``dof``: its degrees of freedom.
    ``coverage_factor``: k for 95 %.
    ``dominated``: (source, share of u²), the largest first.
    ``reason``: why nothing can be said; empty where something can.
    """

    name: str
    unit: Unit
    value: float
    u: float
    dof: float
    coverage_factor: float
    dominated: tuple[tuple[str, float], ...] = ()
    reason: str = ""

    @property
    def percent(self) -> float:
        """u in percent of the value; NaN where there is no share of it to take, as of a sum that ought to be zero."""
        return 100 * self.u / abs(self.value) if abs(self.value) > self.u / 10 and not self.unit.offset else math.nan


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """``results``: by name, those that were asked for. ``analysis``: of the readings to expect. ``drawn``: how many runs were drawn, 0 where the
    readings to expect tell."""

    results: Mapping[str, Expected]
    analysis: Analysis
    drawn: int = 0


def forecast(
    program: Program, planned: Planned, rules: HouseRules | None = None, drawn: int = DRAWN, only: str = ""
) -> Forecast:
    """What ``planned`` promises under ``rules``; ``drawn``: runs to draw where the readings to expect do not tell; ``only``: a result that is
    all that is asked for.

    Raises DefinitionError where the experiment has no simulation, or the plan leads it to no reading.
    """
    analysis = analyse(program, runs.load(expected(program, planned)), rules)
    told = _told(analysis, planned)
    estimates = estimates_of(analysis)
    wanted = {only: analysis.results[only]} if only else dict(analysis.results)
    untold = [name for name in wanted if name not in told]
    by_draws = _drawn(program, planned, rules, drawn, analysis, untold) if untold else {}
    results = {name: by_draws.get(name) or _told_of(one, analysis, estimates) for name, one in wanted.items()}
    return Forecast(results=results, analysis=analysis, drawn=drawn if untold else 0)


def _told(analysis: Analysis, planned: Planned) -> frozenset[str]:
    """The results for which the readings to expect show all that a run would scatter by."""
    program = analysis.program
    plan = program.definition.simulate
    assert plan is not None
    if plan.vary:
        return frozenset()
    for key in plan.noise:
        spec = program.input_of.get(key)
        if spec is None or planned.trials.get(key, spec.repeats) < 2:
            return frozenset()
    fits = [*analysis.fits.values(), *analysis.means.values()]
    if not all(fit.reason or fit.source == "propagated" for fit in fits):
        return frozenset()
    return frozenset(name for name, result in analysis.results.items() if not _picks(program, result))


def _picks(program: Program, result: ResultAnalysis) -> bool:
    """Whether a result is the largest or smallest of several values, or a size without its sign that is near zero: without errors these
    say nothing."""
    formula = program.definition.results[result.name].formula
    if formula is None:
        return False
    used = {node.function for node in walk(parse(formula)) if isinstance(node, Call)}
    near = not abs(result.value) > 4 * result.u
    return bool(used & {"max", "min"}) or ("abs" in used and near)


def _told_of(result: ResultAnalysis, analysis: Analysis, estimates: Sequence[Estimate]) -> Expected:
    u, k, dof = result.u, result.coverage_factor, result.dof
    if not result.linear and not result.reason:
        u = (result.interval[1] - result.interval[0]) / 2 / k
    elif not result.reason:
        u = median_u(result.parts, analysis, estimates)
    return Expected(
        name=result.name,
        unit=result.unit,
        value=result.value,
        u=u,
        dof=dof,
        coverage_factor=k,
        dominated=tuple((source.source, source.share) for source in result.budget),
        reason=result.reason,
    )


def _drawn(
    program: Program,
    planned: Planned,
    rules: HouseRules | None,
    many: int,
    of_expected: Analysis,
    wanted: Sequence[str],
) -> dict[str, Expected]:
    """Medians over ``many`` runs, always the same ones, of the results ``wanted``."""
    found: dict[str, list[ResultAnalysis]] = {name: [] for name in wanted}
    for seed in range(many):
        try:
            analysis = analyse(program, runs.load(simulate(program, seed, planned=planned)), rules)
        except CavrelError:
            continue  # a run that chance led beyond any reading
        for name, results_of in found.items():
            if not analysis.results[name].reason:
                results_of.append(analysis.results[name])
    student = of_expected.rules.student
    results = {}
    for name, drawn in found.items():
        one = of_expected.results[name]
        if len(drawn) < max(many // 2, 1):
            reason = one.reason or "few simulated runs of this plan give it a value"
            results[name] = Expected(
                name=name,
                unit=one.unit,
                value=math.nan,
                u=math.nan,
                dof=math.inf,
                coverage_factor=math.nan,
                reason=reason,
            )
            continue
        sizes = [r.u if r.linear else (r.interval[1] - r.interval[0]) / 2 / r.coverage_factor for r in drawn]
        u = float(np.nanmedian(sizes))
        dof = float(np.median([r.dof for r in drawn]))
        middle = drawn[int(np.nanargmin(np.abs(np.array(sizes) - u)))]
        value = one.value if not one.reason else float(np.median([r.value for r in drawn]))
        results[name] = Expected(
            name=name,
            unit=one.unit,
            value=value,
            u=u,
            dof=dof,
            coverage_factor=coverage_factor(dof, student),
            dominated=tuple((source.source, source.share) for source in middle.budget),
        )
    return results
