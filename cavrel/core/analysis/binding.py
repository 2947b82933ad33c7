"""What the linear batch and the batch of draws have in common: a fit bound to its columns, results combined."""

import math

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis.fitted import Bound
from cavrel.core.definition.steps import FitStep
from cavrel.core.formula.evaluate import Environment

Array = NDArray[np.float64]

BEYOND_CHANCE = 0.05
"""Values of one thing whose differences chance makes this large less often than this are not weighted by their uncertainties any more."""


def bind(step: FitStep, environment: Environment, keep: NDArray[np.bool_]) -> Bound:
    """What a fit runs over, of its table's rows those that are kept; a mean runs over the row numbers."""
    rows = len(keep)
    y = step.run_y(environment)
    x = np.arange(1.0, rows + 1)[None, :] if step.run_x is None else step.run_x(environment)
    return Bound(over_rows(x, rows), over_rows(y, rows), environment, keep)


def over_rows(values: Array, rows: int) -> Array:
    """Values ``(batch, rows)``, also where they are one for all rows."""
    return values if values.shape[1] == rows else np.broadcast_to(values, (len(values), rows))


def combination(values: Array, covariance: Array, plain: bool) -> tuple[Array, float]:
    """Weights ``(n,)`` of the mean of ``values`` ``(n,)``, and the ratio by which it is widened where that passes 1.

    The best linear mean (generalised least squares with the covariance of the results, JCGM 102:2011, 6) and its Birge ratio (Phys. Rev. 40
    (1932) 207). Where ``plain``, or where the values differ beyond what their uncertainties allow, all count alike, and the ratio is that of
    the mean's standard uncertainty by scatter to the propagated one. Where the covariance is singular (results that are one result twice)
    equal weights are used for what it cannot tell apart.
    """
    n = len(values)
    ones, alike = np.ones(n), np.full(n, 1 / n)
    size = float(np.sqrt(np.abs(np.diag(covariance)).max(initial=0.0)))
    if not 0 < size < math.inf:
        return alike, math.nan
    inverse = np.linalg.pinv(covariance / size**2, rcond=1e-9, hermitian=True)
    total = float(ones @ inverse @ ones)
    weights = inverse @ ones / total if total > 0 else alike
    left = (values - values @ weights) / size
    chi2 = max(float(left @ inverse @ left), 0.0)
    if not plain and special.chdtrc(n - 1, chi2) >= BEYOND_CHANCE:
        return np.asarray(weights), math.sqrt(chi2 / (n - 1))
    away = (values - values.mean()) / size
    propagated = float(alike @ covariance @ alike) / size**2
    scatter = float(away @ away) / (n * (n - 1))
    return alike, math.sqrt(scatter / propagated) if propagated > 0 else math.nan
