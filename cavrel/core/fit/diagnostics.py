"""How well a curve stands by its points."""

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True)
class Diagnostics:
    """Diagnostics of a fit (nominal values), for its ``n`` points and ``p`` parameters. What only a look at the curve asks for is computed
    when somebody looks.

    ``x``: ``(n,)`` abscissae, SI.
    ``residuals``: ``(n,)`` SI.
    ``basis``: ``(n, p)`` orthonormal, of the curve's weighted derivatives.
    ``weights``: ``(n,)`` 1/variance of each residual, or 1 where none is known.
    ``known``: which of the two.
    ``power``: the power of x whose absence is tested.
    ``squares``: weighted, of the residuals; chi-squared where the weights are known.
    ``reported``: chi-squared and chance of other weights that speak for these points, where there are any.
    ``dof``: points less parameters.
    ``r2``: share of the variance that the curve takes up.
    ``s``: residual standard deviation of y, SI.
    ``variance_dof``: degrees of freedom of the points' variances.
    """

    x: Array
    residuals: Array
    basis: Array
    weights: Array
    known: bool
    power: int
    squares: float
    dof: int
    r2: float
    s: float
    variance_dof: float = math.inf
    reported: tuple[float | None, float | None] | None = None

    @property
    def chi2(self) -> float | None:
        """None where no uncertainty of the points is known."""
        if self.reported is not None:
            return self.reported[0]
        return self.squares if self.known else None

    @cached_property
    def p(self) -> float | None:
        """Chance of a chi-squared as large, None where there is none."""
        if self.reported is not None:
            return self.reported[1]
        return chance_of(self.squares, self.dof, self.variance_dof) if self.known and self.dof > 0 else None

    @cached_property
    def leverage(self) -> Array:
        """``(n,)``, after Draper and Smith, Applied Regression Analysis."""
        return np.asarray(np.einsum("np,np->n", self.basis, self.basis))

    @cached_property
    def standardised(self) -> Array:
        """``(n,)`` residuals over their standard deviation."""
        scale = 1.0 if self.known or self.dof <= 0 else self.squares / self.dof
        with np.errstate(all="ignore"):
            size = np.sqrt(self.weights / scale) / np.sqrt(np.maximum(1 - self.leverage, 1e-12))
            return np.nan_to_num(self.residuals * size)

    @cached_property
    def curvature(self) -> tuple[float | None, int]:
        """Two-sided p of an added power of x, None where there are too few points; and the sign of the added term."""
        root = np.sqrt(self.weights)
        with np.errstate(all="ignore"):
            return _curvature(self.x, self.residuals * root, root, self.basis, self.power, self.known)

    @property
    def curvature_p(self) -> float | None:
        return self.curvature[0]

    @property
    def curvature_sign(self) -> int:
        return self.curvature[1]

    @cached_property
    def runs_p(self) -> float | None:
        """Chance of so few runs of one sign, None where there are too few points (Wald and Wolfowitz 1940)."""
        return runs_probability(self.residuals[np.argsort(self.x, kind="stable")], self.dof)


def chance_of(chi2: float, dof: int, variance_dof: float = math.inf) -> float:
    """Chance of a chi-squared as large, of ``dof`` degrees of freedom, when its variances were themselves estimated with ``variance_dof``
    degrees of freedom: chi-squared over dof then follows F (the ratio of two estimates of one variance; Fisher 1925)."""
    if not math.isfinite(variance_dof):
        return float(special.chdtrc(dof, chi2))
    return float(special.fdtrc(dof, variance_dof, chi2 / dof))


def diagnose(
    x: Array,
    y: Array,
    fitted: Array,
    q: Array,
    w: Array,
    known: bool,
    power: int,
    centred: bool = True,
    variance_dof: float = math.inf,
) -> Diagnostics:
    """Diagnostics of a curve with values ``fitted`` ``(n,)``; ``q`` ``(n, p)``: an orthonormal basis of its weighted derivatives.

    ``known``: weights are 1/variance rather than all alike; ``power``: the power of x whose absence is tested;
    ``variance_dof``: degrees of freedom of those variances; ``centred``: r² against the mean of y rather than against zero.
    """
    n, p = q.shape
    dof = n - p
    residuals = y - fitted
    squares = float((w * residuals) @ residuals)
    away = y - float(w @ y) / float(np.add.reduce(w)) if centred else y
    total = float((w * away) @ away)
    return Diagnostics(
        x=x,
        residuals=residuals,
        basis=q,
        weights=w,
        known=known,
        power=power,
        squares=squares,
        dof=dof,
        r2=1 - squares / total if total > 0 else math.nan,
        s=math.sqrt(float(residuals @ residuals) / dof) if dof > 0 else math.nan,
        variance_dof=variance_dof,
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
