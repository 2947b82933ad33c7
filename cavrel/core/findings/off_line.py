"""Points that stand too far off the curve through the others."""

import math

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.findings.finding import Finding
from cavrel.core.quantity.rounding import significant

Array = NDArray[np.float64]

_ODD_POINT = 0.001


def odd_points(fit: FitAnalysis, series: str) -> list[Finding]:
    """Points too far from the line for their number (Student's t of the deleted residual, Bonferroni over the points)."""
    found = fit.diagnostics
    assert found is not None
    n, dof = len(fit.rows), found.dof
    if dof < 2:
        return []
    t = found.standardised
    if found.chi2 is None or found.chi2 > dof:
        scale = 1.0 if found.chi2 is None else found.chi2 / dof
        squares = np.minimum(t**2 / scale, dof * (1 - 1e-12))
        t = np.sign(t) * np.sqrt(squares * (dof - 1) / (dof - squares))
        p = 2 * special.stdtr(dof - 1, -np.abs(t))
    else:
        p = two_sided(np.abs(t), found.variance_dof)
    worst = int(np.argmin(p))
    if p[worst] * n > _ODD_POINT:
        return []
    row = int(fit.rows[worst]) + 1
    side = "above" if found.residuals[worst] > 0 else "below"
    return [
        Finding(
            code="off-line",
            level="caution",
            at=f"{series}.{row}",
            title=f"Row {row} lies off the line",
            say=f"It lies {significant(abs(float(t[worst])), 2)} standard deviations {side} the line of the others. "
            "Check its readings and its setting.",
            row_out=(series, row),
        )
    ]


def two_sided(t: Array | float, dof: float) -> Array:
    """Chance of so large a deviation either way: Student's, or normal where ``dof`` is infinite."""
    if not math.isfinite(dof):
        return np.asarray(special.erfc(np.asarray(t) / math.sqrt(2)))
    return np.asarray(2 * special.stdtr(dof, -np.asarray(t)))
