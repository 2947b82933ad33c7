"""What a result would be row by row, and by a line through the origin, where the free intercept of its line hides that.

Over a narrow range far from the origin slope and intercept are hardly two things: a line can miss what every single row says.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from cavrel.core.analysis.records import Analysis, ResultAnalysis
from cavrel.core.analysis.runner import analyse
from cavrel.core.analysis.uncertainty import coverage_factor
from cavrel.core.definition.steps import FitStep, ResultStep
from cavrel.core.formula.evaluate import Environment
from cavrel.core.formula.nodes import Member, walk
from cavrel.core.formula.parse import parse

APART = 1.0
"""A result stands apart from its rows where it lies outside all of them by more than so many of its standard uncertainties,"""
MUCH = 0.05
"""or by more than this share of what they say."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Otherwise:
    """A result compared with what its rows, and a line through the origin, give.

    ``name``: of the result.
    ``fit``: whose intercept is free.
    ``free``: by the line as it is fitted.
    ``forced``: by the line through the origin.
    ``rows``: by each row alone, SI, ``(n,)``.
    ``reach``: the range of the abscissae over their distance from the origin.
    ``z``: the intercept over its standard uncertainty.
    ``chance``: whether the intercept may be zero, by its coverage factor for 95 %.
    """

    name: str
    fit: str
    free: ResultAnalysis
    forced: ResultAnalysis
    rows: np.ndarray
    reach: float
    z: float
    chance: bool


def otherwise(analysis: Analysis) -> Mapping[str, Otherwise]:
    """By result, for those that lie outside of all that their rows say; none under a rule that sends lines through the origin."""
    if analysis.rules.origin == "forced":
        return {}
    wanted = {}
    for step in analysis.program.steps:
        if isinstance(step, ResultStep) and (found := _apart(analysis, step)) is not None:
            wanted[step.key] = found
    if not wanted:
        return {}
    rules = analysis.rules.model_copy(update={"origin": "forced"})
    forced = analyse(analysis.program, analysis.run, rules).results
    return {
        name: Otherwise(name=name, free=analysis.results[name], forced=forced[name], **found)
        for name, found in wanted.items()
        if not forced[name].reason
    }


def _apart(analysis: Analysis, step: ResultStep) -> dict[str, Any] | None:
    """What is known of a result that lies apart from its rows; None for any other."""
    formula, result = analysis.program.definition.results[step.key].formula, analysis.results[step.key]
    if formula is None or step.run is None or result.reason or result.u == 0:
        return None
    owners = {node.owner for node in walk(parse(formula)) if isinstance(node, Member)} & set(analysis.fits)
    if len(owners) != 1:
        return None
    fit = analysis.fits[name := next(iter(owners))]
    of = analysis.program.fits[name]
    if not _may_miss(of) or not fit.made or len(fit.theta) != 2 or len(fit.rows) < 3:
        return None
    x, y = fit.x[fit.rows], fit.y[fit.rows]
    slope, intercept = list(of.parameters)[:2]
    if not (x != 0).all() or not fit.parameters[intercept].u > 0:
        return None
    values = {
        **analysis.nominal,
        f"{name}.{slope}": (y / x)[:, None],
        f"{name}.{intercept}": np.zeros((len(x), 1)),
    }
    with np.errstate(all="ignore"):
        rows = np.broadcast_to(step.run(Environment(values, analysis.sheet.keep)), (len(x), 1))[:, 0]
    if not np.isfinite(rows).all():
        return None
    beyond = max(float(rows.min()) - result.value, result.value - float(rows.max()))
    if not beyond > min(APART * result.u if result.linear else math.inf, MUCH * abs(float(np.median(rows)))):
        return None
    z = fit.parameters[intercept].value / fit.parameters[intercept].u
    dof = fit.diagnostics.dof if fit.source == "scatter" and fit.diagnostics is not None else math.inf
    chance = abs(z) <= coverage_factor(dof, analysis.rules.student)
    return {"fit": name, "rows": rows, "reach": float(np.ptp(x) / np.abs(x).max()), "z": z, "chance": chance}


def _may_miss(step: FitStep) -> bool:
    return step.origin and step.model == "line" and len(step.parameters) >= 2
