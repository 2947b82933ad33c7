"""The straight line with error bars along both axes, correlated or not, for a batch at once.

Source: York, Evensen, Lopez Martinez, De Basabe Delgado, Am. J. Phys. 72 (2004) 367, equations 13.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

_ROUNDS = 300


@dataclass(frozen=True, slots=True)
class Errors:
    """Variances of each point along x and y, and their covariance, ``(n,)`` each, SI²."""

    x: Array
    y: Array
    xy: Array

    def of_residual(self, slope: Array | float) -> Array:
        """Variance of y - slope·x, ``(n,)`` or ``(batch, n)``."""
        return np.asarray(self.y + slope * slope * self.x - 2 * slope * self.xy)


def solve(
    x: Array, y: Array, errors: Errors, start: Array, forced: bool = False, settled_at: float = 1e-14
) -> tuple[Array, Array, Array]:
    """Slopes and intercepts ``(batch,)`` of ``x``, ``y`` ``(batch, n)`` from the slopes ``start`` ``(batch,)``, and the adjusted
    abscissae ``(batch, n)``. ``forced`` sends the line through the origin. Entries that have no line become NaN."""
    slope = start
    with np.errstate(all="ignore"):
        for _ in range(_ROUNDS):
            new, intercept, adjusted = _round(x, y, slope, errors, forced)
            close = np.abs(new - slope) <= settled_at * np.abs(new)
            slope = new
            if (close | np.isnan(new)).all():
                break
    return slope, intercept, adjusted


def _round(x: Array, y: Array, slope: Array, errors: Errors, forced: bool) -> tuple[Array, Array, Array]:
    b = slope[:, None]
    w = 1 / errors.of_residual(b)
    if forced:
        x_mean = y_mean = np.zeros((len(x), 1))
    else:
        total = w.sum(axis=1, keepdims=True)
        x_mean, y_mean = (w * x).sum(axis=1, keepdims=True) / total, (w * y).sum(axis=1, keepdims=True) / total
    u, v = x - x_mean, y - y_mean
    beta = w * (u * errors.y + b * v * errors.x - (b * u + v) * errors.xy)
    new = (w * beta * v).sum(axis=1) / (w * beta * u).sum(axis=1)
    return new, (y_mean[:, 0] - new * x_mean[:, 0]), x_mean + beta
