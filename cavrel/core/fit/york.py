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
        variance = self.y + slope * slope * self.x
        return np.asarray(variance - 2 * slope * self.xy if self.xy.any() else variance)


def solve(
    x: Array, y: Array, errors: Errors, start: Array, forced: bool = False, rounds: int = _ROUNDS
) -> tuple[Array, Array, Array]:
    """Slopes and intercepts ``(batch,)`` of ``x``, ``y`` ``(batch, n)`` from the slopes ``start`` ``(batch,)``, and the adjusted
    abscissae ``(batch, n)``. ``forced`` sends the line through the origin. Entries that have no line become NaN."""
    slope = start
    with np.errstate(all="ignore"):
        for _ in range(rounds):
            new, intercept, adjusted = _round(x, y, slope, errors, forced)
            close = np.abs(new - slope) <= 1e-14 * np.abs(new)
            slope = new
            if (close | np.isnan(new)).all():
                break
    return slope, intercept, adjusted


def _round(x: Array, y: Array, slope: Array, errors: Errors, forced: bool) -> tuple[Array, Array, Array]:
    b = slope[:, None]
    w = errors.of_residual(b)
    np.reciprocal(w, out=w)
    if forced:
        x_mean = y_mean = np.zeros(len(x))
        u, v = x, y
    else:
        total = w.sum(axis=1)
        x_mean, y_mean = np.einsum("bn,bn->b", w, x) / total, np.einsum("bn,bn->b", w, y) / total
        u, v = x - x_mean[:, None], y - y_mean[:, None]
    beta = v * errors.x
    beta *= b
    beta += u * errors.y
    if errors.xy.any():
        beta -= (b * u + v) * errors.xy
    beta *= w
    w *= beta
    new = np.einsum("bn,bn->b", w, v) / np.einsum("bn,bn->b", w, u)
    return new, y_mean - new * x_mean, x_mean[:, None] + beta


def nearby(
    x: Array, y: Array, errors: Errors, slope0: float, start: Array, forced: bool = False
) -> tuple[Array, Array]:
    """Slopes and intercepts ``(batch,)`` by one round of York's equations from ``start`` ``(batch,)``, slopes near ``slope0``.

    The weights are those at ``slope0``, so that every sum is a matrix product. For draws whose slopes differ by a share d of themselves the
    slope is off by about d of its own uncertainty.
    """
    if errors.xy.any():
        slope, intercept, _ = solve(x, y, errors, start, forced, rounds=1)
        return slope, intercept
    w = 1 / errors.of_residual(slope0)
    u, v = x, y
    x_mean = y_mean = np.zeros(len(x))
    if not forced:
        total = w.sum()
        x_mean, y_mean = x @ w / total, y @ w / total
        u, v = x - x_mean[:, None], y - y_mean[:, None]
    along_x, along_y = w * w * errors.x, w * w * errors.y
    product = u * v
    over = product @ along_y + start * ((v * v) @ along_x)
    under = (u * u) @ along_y + start * (product @ along_x)
    slope = over / under
    return slope, y_mean - slope * x_mean
