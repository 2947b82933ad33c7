"""What one more reading would give: the curve's value at a place, and the interval that holds the reading with 95 %."""

import math

import numpy as np

from cavrel.core.analysis import uncertainty
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.analysis.perturbations import Perturbations
from cavrel.core.analysis.records import Analysis
from cavrel.core.definition.rules import HouseRules
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.units import Unit


def reach(
    fit: FitAnalysis, parts: np.ndarray, perturbations: Perturbations, dof: np.ndarray, rules: HouseRules
) -> tuple[float, float, float]:
    """(u, k, half-width) for a curve's value with contributions ``parts`` ``(K,)``: that of the curve and that of a single reading together,
    with the coverage factor of the curve's effective degrees of freedom, no more than the scatter has. The half-width is NaN where nothing is
    known of how readings scatter."""
    u = uncertainty.combined_one(parts)
    freedom = uncertainty.effective_dof(parts, perturbations, dof)
    if fit.source == "scatter" and fit.diagnostics is not None:
        freedom = min(freedom, float(fit.diagnostics.dof))
    factor = uncertainty.coverage_factor(freedom, rules.student)
    return u, factor, factor * math.hypot(u, fit.single_u())


def at(analysis: Analysis, fit: FitAnalysis, x: float) -> tuple[float, float, float]:
    """(low, value, high) of one more reading at ``x``, SI; NaN ends where its scatter is not known. Needs a curve that can be drawn."""
    assert fit.shape is not None
    theta, grid = fit.theta[None, :], np.array([[x]])
    parts = fit.parts @ fit.shape.jacobian(theta, grid)[0][0]
    half = reach(fit, parts, analysis.perturbations, analysis.dof, analysis.rules)[2]
    value = float(fit.shape.predict(theta, grid)[0, 0])
    return value - half, value, value + half


def outside(fit: FitAnalysis, x: float) -> bool:
    """Whether a place lies beyond what was measured."""
    measured = fit.x[fit.rows]
    return not float(measured.min()) <= x <= float(measured.max())


def said(analysis: Analysis, fit: FitAnalysis, x: float, unit: Unit) -> tuple[str, str]:
    """The value at ``x`` with its uncertainty, and the interval of one more reading, as texts; the latter empty where it is not known."""
    assert fit.shape is not None
    low, value, high = at(analysis, fit, x)
    u = float(fit.at(np.array([x]))[1][0])
    shown = analysis.measured(value, u, unit).text()
    ends = [significant(unit.from_si(v), 4) for v in (low, high)]
    return shown, f"{ends[0]} to {ends[1]} {unit.pretty}".strip() if math.isfinite(low) else ""
