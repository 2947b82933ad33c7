"""The steepest and the shallowest straight line through all error boxes, as schools draw them by hand."""

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def extremes(x: Array, y: Array, u_x: Array, u_y: Array, rising: bool) -> tuple[Array, Array] | None:
    """(slope, intercept) of the shallowest and of the steepest line through boxes that reach ``u_x`` and ``u_y`` to every side, ``(n,)`` each;
    None where no line passes through all, or a box has no size. ``rising``: the slope is not negative."""
    from scipy import optimize  # a fifth of a second, which a start need not wait for

    if not (u_y + u_x > 0).all():
        return None
    side = u_x if rising else -u_x
    # Scaled, so that the solver's tolerances mean the same for metres and for nanometres.
    x_size, y_size = float(np.abs(x).max() or 1.0), float(np.abs(y).max() or 1.0)
    above = np.stack([-(x + side), -np.ones_like(x)], axis=1), -(y - u_y)
    below = np.stack([x - side, np.ones_like(x)], axis=1), y + u_y
    scale = np.array([1 / x_size, 1.0])
    rows, limits = np.concatenate([above[0], below[0]]) * scale, np.concatenate([above[1], below[1]]) / y_size
    found = []
    for sign in (1.0, -1.0):
        best = optimize.linprog([sign, 0.0], A_ub=rows, b_ub=limits, bounds=[(None, None), (None, None)])
        if not best.success:
            return None
        found.append(np.asarray(best.x * y_size * scale))
    return found[0], found[1]
