"""Where a straight part ends: an elastic limit, a terminal speed, a counter that saturates."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[np.float64]

BENT = 0.001
"""A second line is proposed where one line alone would leave this much scatter less often than this by chance."""
FEWEST = 4
"""Points on the straight part, so that it can show that it is straight."""
_GRID = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class End:
    """A straight part and where it ends.

    ``knot``: the abscissa of the bend.
    ``u``: its standard uncertainty, as one more parameter of the curve.
    ``below``: the straight part lies below the knot; else above it.
    ``inside``: ``(k,)`` indices of the points on it, by ascending x.
    ``outside``: the others.
    ``slope``, ``beyond``: slopes of the straight part and of what follows.
    ``p``: chance of so much gained by a bend that is not there.
    """

    knot: float
    u: float
    below: bool
    inside: NDArray[np.intp]
    outside: NDArray[np.intp]
    slope: float
    beyond: float
    p: float


def straight_end(x: Array, y: Array, weights: Array) -> End | None:
    """The bend of two lines that meet, ``(n,)`` each; None where one line does, or where points are too few to tell.

    Least squares over the place of the bend (a broken stick; Hudson 1966, J. Am. Stat. Assoc. 61, 1097), F against the single line with its
    two parameters less; the straight part is the side with more points, which must itself be straight.
    """
    order = np.argsort(x, kind="stable")
    x, y, w = x[order], y[order], weights[order]
    count = len(x)
    if count < FEWEST + 3 or not np.ptp(x) > 0:
        return None
    single = _squares(np.stack([np.ones(count), x], axis=1), y, w)
    low, high = x[1], x[-2]
    if not high > low:
        return None
    knots = np.linspace(low, high, _GRID)
    squares = _sticks(x, y, w, knots)
    best = int(np.argmin(squares))
    dof = count - 4
    gained, left = single - float(squares[best]), float(squares[best])
    if not (dof > 0 and gained > 0):
        return None
    p = float(special.fdtrc(2, dof, gained / 2 / (left / dof))) if left > 1e-12 * single else 0.0
    # The place was picked among many, so that chance alone gains more than F counts with (about the number of places between points).
    p = min(1.0, p * (count - 3))
    if p >= BENT:
        return None
    knot = float(knots[best])
    root = np.sqrt(w)
    _, slope, turn = np.linalg.lstsq(_stick(x, knot) * root[:, None], y * root, rcond=None)[0]
    # The place as one more parameter of the curve (Seber and Wild 1989, Nonlinear Regression, 9.4).
    moved = np.concatenate([_stick(x, knot), np.where(x > knot, -turn, 0.0)[:, None]], axis=1) * root[:, None]
    spread = np.linalg.pinv(moved.T @ moved)[3, 3] * left / dof
    u = max(math.sqrt(max(float(spread), 0.0)), float(knots[1] - knots[0]) / math.sqrt(12))
    below = x <= knot
    inner = below if below.sum() >= (~below).sum() else ~below
    if inner.sum() < FEWEST:
        return None
    first = bool(inner[0])
    own, other = (slope, slope + turn) if first else (slope + turn, slope)
    return End(
        knot=knot,
        u=u,
        below=first,
        inside=order[inner],
        outside=order[~inner],
        slope=float(own),
        beyond=float(other),
        p=p,
    )


def _stick(x: Array, knot: float) -> Array:
    return np.stack([np.ones(len(x)), x, np.maximum(x - knot, 0.0)], axis=1)


def _sticks(x: Array, y: Array, w: Array, knots: Array) -> Array:
    """What a broken stick at each of ``knots`` leaves, ``(k,)``: what the single line leaves, less what its bend takes up."""
    root = np.sqrt(w)
    line, _ = np.linalg.qr(np.stack([root, x * root], axis=1))
    rest = y * root - line @ (line.T @ (y * root))
    bends = np.maximum(x[None, :] - knots[:, None], 0.0) * root
    bends = bends - bends @ line @ line.T
    length = np.maximum((bends**2).sum(axis=1), 1e-300)
    return np.asarray(np.maximum(float(rest @ rest) - (bends @ rest) ** 2 / length, 0.0))


def _squares(design: Array, y: Array, w: Array) -> float:
    root = np.sqrt(w)
    best = np.linalg.lstsq(design * root[:, None], y * root, rcond=None)[0]
    left = (y - design @ best) * root
    return float(left @ left)
