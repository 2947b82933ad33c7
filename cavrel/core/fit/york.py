"""The straight line with error bars along both axes, correlated or not.

Source: York, Evensen, Lopez Martinez, De Basabe Delgado, Am. J. Phys. 72 (2004) 367, equations 13.
"""

import math
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


def solve(x: Array, y: Array, errors: Errors, start: float, forced: bool = False) -> tuple[float, float, Array]:
    """Slope and intercept of the line through ``x``, ``y`` ``(n,)``, sought from the slope ``start``, and the adjusted abscissae ``(n,)``.

    ``forced`` sends the line through the origin. NaN where no line settles.
    """
    slope, x_mean, y_mean = float(start), 0.0, 0.0
    u, v, beta = x, y, np.zeros_like(x)
    correlated = bool(errors.xy.any())
    for _ in range(_ROUNDS):
        w = 1 / errors.of_residual(slope)
        if not forced:
            total = w.sum()
            x_mean, y_mean = float(w @ x / total), float(w @ y / total)
            u, v = x - x_mean, y - y_mean
        beta = u * errors.y + slope * v * errors.x
        if correlated:
            beta = beta - (slope * u + v) * errors.xy
        beta = beta * w
        weighted = w * beta
        before, slope = slope, float((weighted @ v) / (weighted @ u))
        if abs(slope - before) <= 1e-14 * abs(slope) or math.isnan(slope):
            break
    return slope, y_mean - slope * x_mean, x_mean + beta


def nearby(
    x: Array, y: Array, errors: Errors, slope0: float, start: Array, forced: bool = False
) -> tuple[Array, Array]:
    """Slopes and intercepts ``(batch,)`` of ``x``, ``y`` ``(batch, n)`` by one round of York's equations from ``start`` ``(batch,)``, slopes
    near ``slope0``.

    The weights are those at ``slope0``, so that every sum is a matrix product. For draws whose slopes differ by a share d of themselves the
    slope is off by about d of its own uncertainty.
    """
    w = 1 / errors.of_residual(slope0)
    u, v = x, y
    x_mean = y_mean = np.zeros(len(x))
    if not forced:
        total = w.sum()
        x_mean, y_mean = x @ w / total, y @ w / total
        u, v = x - x_mean[:, None], y - y_mean[:, None]
    square = w * w
    along_x, along_y = square * errors.x, square * errors.y
    product, of_u, of_v = u * v, u * u, v * v
    over = product @ along_y + start * (of_v @ along_x)
    under = of_u @ along_y + start * (product @ along_x)
    if errors.xy.any():
        both = square * errors.xy
        over -= start * (product @ both) + of_v @ both
        under -= start * (of_u @ both) + product @ both
    slope = over / under
    return slope, y_mean - slope * x_mean
