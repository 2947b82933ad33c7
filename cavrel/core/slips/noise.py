"""How likely residuals are when nobody knows how large their noise is.

Students scatter half to four times as much as an instrument's sheet says. The scale of the noise is a factor on what is declared, log-normal,
and is integrated out (a scale mixture of normal densities; Box and Tiao, Bayesian Inference in Statistical Analysis, 1973, 2.4).
"""

import math

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[np.float64]

MIDDLE, WIDTH = 1.3, 0.55
"""Median of the factor on declared noise, and the standard deviation of its logarithm."""
_OF_SEEN = 0.35
"""The same for noise that was estimated from repeats: rows may still differ by more than their repeats show."""
_NODES = np.linspace(-2.6, 2.6, 15)
_WEIGHTS = np.exp(-0.5 * _NODES**2) / np.exp(-0.5 * _NODES**2).sum()
_WIDEST = 100.0
_WIDE = np.exp(np.linspace(0.0, math.log(_WIDEST), 48))
_GROSS = 14.0 + math.log(2 * math.log(1e8))
"""What a gross error of any size costs against noise, as a logarithm, with the range that its size is spread over."""
RANGE = math.log(300.0)
"""Logarithm of the range over which a systematic effect of unknown size, in standard uncertainties, is log-uniform."""


def _factors(variance_dof: float) -> Array:
    if not math.isfinite(variance_dof):
        return np.asarray(MIDDLE * np.exp(WIDTH * _NODES))
    width = min(math.hypot(_OF_SEEN, math.sqrt(0.5 / max(variance_dof, 1.0))), 0.9)
    return np.asarray(1.1 * np.exp(width * _NODES))


_WITHIN = 1.3 * np.exp(1.4 * _NODES)
"""Of repeats: how far they scatter is what they are there to show, so what is declared says little of it."""


def within_rows(squares: Array, dof: int) -> Array:
    """Logarithm of the likelihood of squares within repeats ``(H,)`` over their declared variance."""
    if dof <= 0:
        return np.zeros(len(squares))
    terms = np.log(_WEIGHTS) - dof * np.log(_WITHIN) - 0.5 * squares[:, None] / _WITHIN**2
    return np.asarray(np.logaddexp.reduce(terms, axis=1))


def log_likelihood(squares: Array, dof: int, variance_dof: float = math.inf) -> Array:
    """Logarithm of the likelihood of chi-squareds ``squares`` ``(H,)`` on ``dof`` degrees of freedom, the scale of the noise integrated out, up
    to a constant of ``dof``. Far beyond all noise it falls as a power: a difference of a million uncertainties is no more improbable than one of
    a thousand.

    ``variance_dof``: degrees of freedom of an estimate that the variances rest on; infinite where they are declared.
    """
    if dof <= 0:
        return np.zeros(len(squares))
    factor = _factors(variance_dof)
    terms = np.log(_WEIGHTS) - dof * np.log(factor) - 0.5 * squares[:, None] / factor**2
    tail = special.gammaln(dof / 2) + 0.5 * dof * np.log(2 / np.maximum(squares, dof)) - _GROSS
    return np.asarray(np.logaddexp(np.logaddexp.reduce(terms, axis=1), tail))


def chance(squares: float, dof: int, variance_dof: float = math.inf) -> float:
    """Chance of a chi-squared as large on ``dof`` degrees of freedom, the scale of the noise integrated out."""
    if dof <= 0 or not math.isfinite(squares):
        return 1.0
    return float(_WEIGHTS @ special.chdtrc(dof, squares / _factors(variance_dof) ** 2))


def of_scatter(squares: float, dof: int) -> float:
    """The same for scatter of any size above the declared one, log-uniform up to a hundredfold."""
    if dof <= 0:
        return 0.0
    terms = -dof * np.log(_WIDE) - 0.5 * squares / _WIDE**2
    return float(np.logaddexp.reduce(terms) - math.log(len(_WIDE)))


def of_effect(size: float) -> float:
    """Logarithm of the density, over that of a normal distribution at its middle, of an effect of ``size`` standard uncertainties that may be of any
    size and sign: log-uniform from one standard uncertainty on."""
    return math.log(math.sqrt(2 * math.pi) / (2 * max(abs(size), 1.0) * RANGE))
