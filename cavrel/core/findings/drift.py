"""A rest point that drifts while a swing about it dies away."""

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.findings.finding import Finding
from cavrel.core.quantity.value import amount_text

Array = NDArray[np.float64]

_CHANCE = 0.001
_FEWEST = 4
"""Degrees of freedom that a drift leaves, so that the rest of the scatter is known."""


def of_swing(fit: FitAnalysis, at: str) -> list[Finding]:
    """A remark where an even drift of the level of a damped oscillation explains what chance does not.

    The score test of one more parameter (Rao 1948, Proc. Camb. Phil. Soc. 44, 50), as F with one and the remaining degrees of freedom.
    """
    if fit.shape is None or fit.shape.key != "damped":
        return []
    x, y, root = fit.x[fit.rows], fit.y[fit.rows], np.sqrt(fit.weights)
    left = (y - fit.shape.predict(fit.theta[None, :], x[None, :])[0]) * root
    q, _ = np.linalg.qr(fit.shape.jacobian(fit.theta[None, :], x[None, :])[0] * root[:, None])
    drift = (x - x.mean()) * root
    drift = drift - q @ (q.T @ drift)
    size, dof = float(drift @ drift), len(x) - len(fit.theta) - 1
    if dof < _FEWEST or not size > 0:
        return []
    rate, whole = float(drift @ left) / size, float(left @ left)
    gained = rate**2 * size
    rest = whole - gained
    if not rest > 0 or float(special.fdtrc(1, dof, gained / (rest / dof))) > _CHANCE:
        return []
    moved = amount_text(rate * float(np.ptp(x)), fit.parameters["c"].unit.difference, 2, True)
    say = (
        f"A level that moves evenly, by about {moved} from the first reading to the last, would take up {100 * gained / whole:.0f} % of χ². "
        "Look for what warms or settles; where the experiment offers a drifting rest point, choose it in Plan."
    )
    return [Finding(code="drift", level="note", at=at, title="The rest point seems to drift", say=say)]
