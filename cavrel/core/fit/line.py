"""The straight line: closed sums over the rows, for a batch at once; error bars along x by York's equations."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[np.float64]

X_MATTERS = 0.1
"""Error bars along x count when slope·u(x) passes this share of u(y) at any point: below it, u² grows by less than 1 %."""
_YORK_ROUNDS = 200


@dataclass(frozen=True, slots=True)
class Weighting:
    """How the points of one fit are weighted: variances along x and y ``(n,)``, SI²; ``known`` false when all count alike.

    ``york``: whether the x variances enter.
    """

    x_variance: Array
    y_variance: Array
    known: bool
    york: bool


@dataclass(frozen=True, slots=True)
class Diagnostics:
    """How well a line stands by its points (nominal values).

    ``weights`` ``(n,)``: 1/variance of each residual; ``standardised`` ``(n,)`` residuals over their standard deviation;
    ``leverage`` ``(n,)``; ``chi2`` and ``p`` None when no uncertainty of the points is known; ``s`` residual standard deviation of y;
    ``curvature_p`` two-sided p of an added square term, ``runs_p`` chance of so few runs of one sign; None where too few points.
    """

    weights: Array
    residuals: Array
    standardised: Array
    leverage: Array
    chi2: float | None
    dof: int
    p: float | None
    r2: float
    s: float
    curvature_p: float | None
    curvature_sign: int
    runs_p: float | None


def solve(
    x: Array, y: Array, weighting: Weighting, forced: bool = False, start: float | None = None
) -> tuple[Array, Array]:
    """Slopes and intercepts ``(batch,)`` of the weighted lines through ``x``, ``y`` ``(batch, n)``, n > 1 (n > 0 if ``forced``).

    With x variances, the slope solves York's equations for uncorrelated errors (York et al., Am. J. Phys. 72 (2004) 367, eq. 13),
    from ``start`` or, without it, from the line of y on x. ``forced`` sends the line through the origin. All x equal gives NaN.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        if not weighting.york:
            return _weighted(x, y, 1 / weighting.y_variance, forced)
        if start is None:
            slope, intercept = _weighted(x, y, np.ones(x.shape[1]), forced)
        else:
            slope, intercept = np.full(len(x), start), np.zeros(len(x))
        for _ in range(_YORK_ROUNDS):
            new, intercept = _york_round(x, y, slope, weighting, forced)
            settled = np.abs(new - slope) <= 1e-14 * np.abs(new)
            slope = new
            if (settled | np.isnan(new)).all():
                break
        return slope, intercept


def _weighted(x: Array, y: Array, w: Array, forced: bool) -> tuple[Array, Array]:
    if forced:
        slope = (w * x * y).sum(axis=1) / (w * x * x).sum(axis=1)
        return slope, np.zeros_like(slope)
    total = w.sum()
    x_mean, y_mean = (w * x).sum(axis=1) / total, (w * y).sum(axis=1) / total
    dx = x - x_mean[:, None]
    slope = (w * dx * (y - y_mean[:, None])).sum(axis=1) / (w * dx * dx).sum(axis=1)
    return slope, y_mean - slope * x_mean


def _york_round(x: Array, y: Array, slope: Array, weighting: Weighting, forced: bool) -> tuple[Array, Array]:
    b = slope[:, None]
    w = 1 / (weighting.y_variance + b * b * weighting.x_variance)
    if forced:
        u, v = x, y
    else:
        total = w.sum(axis=1)
        x_mean, y_mean = (w * x).sum(axis=1) / total, (w * y).sum(axis=1) / total
        u, v = x - x_mean[:, None], y - y_mean[:, None]
    beta = w * (u * weighting.y_variance + b * v * weighting.x_variance)
    new = (w * beta * v).sum(axis=1) / (w * beta * u).sum(axis=1)
    return new, (np.zeros_like(new) if forced else y_mean - new * x_mean)


def choose_weighting(x_variance: Array, y_variance: Array, slope: float, equal: bool, abscissae: str) -> Weighting:
    """Decide how points count. ``slope`` is that of the unweighted line; ``equal`` and ``abscissae`` are house rules."""
    both = y_variance + slope**2 * x_variance
    known = bool((both > 0).all())
    york = known and abscissae != "ignore" and bool((x_variance > 0).any())
    if york and abscissae == "auto":
        york = bool((slope**2 * x_variance > X_MATTERS**2 * y_variance).any())
    if not york and not (y_variance > 0).all():
        known = False
    if equal or not known:
        return Weighting(np.zeros_like(x_variance), np.ones_like(y_variance), False, False)
    return Weighting(x_variance, y_variance, True, york)


def diagnose(
    x: Array, y: Array, slope: float, intercept: float, weighting: Weighting, forced: bool = False
) -> Diagnostics:
    """Diagnostics of the line ``slope``, ``intercept`` through ``x``, ``y`` ``(n,)``.

    Leverage and standardised residuals after Draper and Smith, Applied Regression Analysis; runs after Wald and Wolfowitz 1940.
    """
    n = len(x)
    dof = n - (1 if forced else 2)
    variance = weighting.y_variance + (slope**2 * weighting.x_variance if weighting.york else 0.0)
    w = 1 / variance
    residuals = y - intercept - slope * x
    squares = float((w * residuals**2).sum())
    x_mean = 0.0 if forced else float((w * x).sum() / w.sum())
    spread = float((w * (x - x_mean) ** 2).sum())
    leverage = w * ((0.0 if forced else 1 / w.sum()) + (x - x_mean) ** 2 / spread)
    s = math.sqrt(float((residuals**2).sum()) / dof) if dof > 0 else math.nan
    scale = 1.0 if weighting.known or dof <= 0 else squares / dof
    with np.errstate(divide="ignore", invalid="ignore"):
        standardised = residuals * np.sqrt(w / scale) / np.sqrt(np.maximum(1 - leverage, 1e-12))
    y_mean = 0.0 if forced else float((w * y).sum() / w.sum())
    total = float((w * (y - y_mean) ** 2).sum())
    curvature_p, sign = _curvature(x, residuals, w, forced, weighting.known)
    return Diagnostics(
        w,
        residuals,
        np.nan_to_num(standardised),
        leverage,
        squares if weighting.known else None,
        dof,
        float(special.chdtrc(dof, squares)) if weighting.known and dof > 0 else None,
        1 - squares / total if total > 0 else math.nan,
        s,
        curvature_p,
        sign,
        _runs(residuals[np.argsort(x, kind="stable")], dof),
    )


def _curvature(x: Array, residuals: Array, w: Array, forced: bool, known: bool) -> tuple[float | None, int]:
    """p of a square term added to the line, by the larger of the known and the residual variance; and the term's sign."""
    n, columns = len(x), (1 if forced else 2)
    if n < columns + 2:
        return None, 0
    # The part of the square term that a line cannot take up itself.
    from_middle = x - float((w * x).sum() / w.sum())
    term_of = from_middle**2
    rest = term_of if forced else term_of - float((w * term_of).sum() / w.sum())
    along = x if forced else from_middle
    rest = rest - along * float((w * along * rest).sum() / (w * along**2).sum())
    square = rest * np.sqrt(w)
    length = float(square @ square)
    if length <= 1e-18 * float((w * term_of**2).sum()):
        return None, 0
    weighted = residuals * np.sqrt(w)
    term = float(square @ weighted) / length
    dof = n - columns - 1
    left = float(((weighted - term * square) ** 2).sum()) / dof
    variance = max(left, 1.0) if known else left
    if variance <= 0:
        return None, 0
    t = term * math.sqrt(length / variance)
    return float(2 * special.stdtr(dof, -abs(t))), int(np.sign(term))


def _runs(residuals: Array, dof: int) -> float | None:
    """Chance of as few runs of equal sign as ``residuals``, in the order of x, show if their signs were shuffled."""
    signs = residuals[residuals != 0] > 0
    plus, minus = int(signs.sum()), int((~signs).sum())
    if plus < 2 or minus < 2 or dof < 3:
        return None
    runs = 1 + int((signs[1:] != signs[:-1]).sum())
    ways = math.comb(plus + minus, plus)
    few = 0
    for r in range(2, runs + 1):
        half = r // 2
        if r % 2 == 0:
            few += 2 * math.comb(plus - 1, half - 1) * math.comb(minus - 1, half - 1)
        else:
            few += math.comb(plus - 1, half) * math.comb(minus - 1, half - 1)
            few += math.comb(plus - 1, half - 1) * math.comb(minus - 1, half)
    return few / ways
