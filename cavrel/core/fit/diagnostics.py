"""How well a curve stands by its points."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Diagnostics:
    """Diagnostics of a fit (nominal values), for its ``n`` points and ``p`` parameters.

    ``weights``: ``(n,)`` 1/variance of each residual, or 1 where none is known.
    ``residuals``: ``(n,)`` SI.
    ``standardised``: ``(n,)`` residuals over their standard deviation.
    ``leverage``: ``(n,)``.
    ``chi2``: None where no uncertainty of the points is known.
    ``dof``: points less parameters.
    ``p``: chance of a chi-squared as large, None where there is none.
    ``r2``: share of the variance that the curve takes up.
    ``s``: residual standard deviation of y, SI.
    ``curvature_p``: two-sided p of an added power of x, None where there are too few points.
    ``curvature_sign``: that of the added term.
    ``runs_p``: chance of so few runs of one sign, None where there are too few points.
    ``behind``: degrees of freedom of the points' variances.
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
    behind: float = math.inf


def chance_of(chi2: float, dof: int, behind: float = math.inf) -> float:
    """Chance of a chi-squared as large, of ``dof`` degrees of freedom, when its variances were themselves estimated with ``behind``
    degrees of freedom: chi-squared over dof then follows F (the ratio of two estimates of one variance; Fisher 1925)."""
    if not math.isfinite(behind):
        return float(special.chdtrc(dof, chi2))
    return float(special.fdtrc(dof, behind, chi2 / dof))


def diagnose(
    x: Array,
    y: Array,
    fitted: Array,
    q: Array,
    w: Array,
    known: bool,
    power: int,
    centred: bool = True,
    behind: float = math.inf,
) -> Diagnostics:
    """Diagnostics of a curve with values ``fitted`` ``(n,)``; ``q`` ``(n, p)``: an orthonormal basis of its weighted derivatives.

    ``known``: weights are 1/variance rather than all alike; ``power``: the power of x whose absence is tested;
    ``behind``: degrees of freedom of those variances;
    ``centred``: r² against the mean of y rather than against zero. Leverage and standardised residuals after Draper and Smith,
    Applied Regression Analysis; runs after Wald and Wolfowitz 1940.
    """
    n, p = q.shape
    dof = n - p
    root = np.sqrt(w)
    residuals = y - fitted
    squares = float((w * residuals) @ residuals)
    leverage = np.einsum("np,np->n", q, q)
    s = math.sqrt(float(residuals @ residuals) / dof) if dof > 0 else math.nan
    scale = 1.0 if known or dof <= 0 else squares / dof
    with np.errstate(divide="ignore", invalid="ignore"):
        standardised = residuals * np.sqrt(w / scale) / np.sqrt(np.maximum(1 - leverage, 1e-12))
    away = y - (w @ y / w.sum() if centred else 0.0)
    total = float((w * away) @ away)
    curvature_p, sign = _curvature(x, residuals * root, root, q, power, known)
    return Diagnostics(
        weights=w,
        residuals=residuals,
        standardised=np.nan_to_num(standardised),
        leverage=leverage,
        chi2=squares if known else None,
        dof=dof,
        p=chance_of(squares, dof, behind) if known and dof > 0 else None,
        r2=1 - squares / total if total > 0 else math.nan,
        s=s,
        curvature_p=curvature_p,
        curvature_sign=sign,
        runs_p=runs_probability(residuals[np.argsort(x, kind="stable")], dof),
        behind=behind,
    )


def _curvature(x: Array, weighted: Array, root: Array, q: Array, power: int, known: bool) -> tuple[float | None, int]:
    """p of a term x^power added to the curve, by the larger of the known and the residual variance; and the term's sign."""
    n, p = q.shape
    if n < p + 2:
        return None, 0
    raw = (x - x.mean()) ** power * root
    rest = raw - q @ (q.T @ raw)  # the part that the curve cannot take up itself
    length = float(rest @ rest)
    if length <= 1e-18 * float(raw @ raw):
        return None, 0
    term = float(rest @ weighted) / length
    dof = n - p - 1
    away = weighted - term * rest
    left = float(away @ away) / dof
    variance = max(left, 1.0) if known else left
    if variance <= 0:
        return None, 0
    t = term * math.sqrt(length / variance)
    return float(2 * special.stdtr(dof, -abs(t))), int(np.sign(term))


def runs_probability(residuals: Array, dof: int) -> float | None:
    """Chance of as few runs of equal sign as ``residuals``, in the order of x, show if their signs were shuffled."""
    signs = residuals[residuals != 0] > 0
    plus, minus = int(signs.sum()), int((~signs).sum())
    if plus < 2 or minus < 2 or dof < 3 or plus + minus > 400:
        return None
    runs = 1 + int((signs[1:] != signs[:-1]).sum())
    few = 0
    for r in range(2, runs + 1):
        half = r // 2
        if r % 2 == 0:
            few += 2 * math.comb(plus - 1, half - 1) * math.comb(minus - 1, half - 1)
        else:
            few += math.comb(plus - 1, half) * math.comb(minus - 1, half - 1)
            few += math.comb(plus - 1, half - 1) * math.comb(minus - 1, half)
    return few / math.comb(plus + minus, plus)
