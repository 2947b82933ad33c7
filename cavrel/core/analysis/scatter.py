"""Scatter of repeated readings: each row's own, pooled where rows scatter alike, and what a mean and a count are known to by it."""

import math

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import Input

Array = NDArray[np.float64]

POOLING_LEVEL = 0.01
"""Rows whose scatters differ at this significance or beyond (Bartlett) are not pooled."""


def counting(mean: Array, seen: Array, k: NDArray[np.intp]) -> tuple[Array, NDArray[np.bool_]]:
    """Standard uncertainty of mean counts ``(rows,)`` of ``k`` intervals by counting alone, and where repeats scatter beyond that.

    The root of the total counted, over the number of intervals; one count for a total of none, for an interval without a count still
    allows a true mean of about one. Repeats are believed over it where their index of dispersion is improbable (Fisher 1925).
    """
    many = np.maximum(k, 1)
    total = np.maximum(np.where(k > 0, np.abs(mean), 0.0) * many, 1.0)
    index = np.where(k > 1, (many - 1) * np.nan_to_num(seen) ** 2 / (total / many), 0.0)
    chance = special.chdtrc(np.maximum(many - 1, 1), index)
    return np.sqrt(total) / many, (k > 1) & (chance < POOLING_LEVEL)


def root_mean_square(values: Array, present: NDArray[np.bool_], k: NDArray[np.intp]) -> Array:
    squares = np.where(present, values, 0.0) ** 2
    return np.asarray(np.sqrt(squares.sum(axis=1) / np.maximum(k, 1)))


def scatter(
    spec: Input, seen: Array, k: NDArray[np.intp], rounding: Array, rules: HouseRules
) -> tuple[Array, Array, list[str]]:
    """The per-trial standard deviation to use for each row, its degrees of freedom, and which estimate it rests on."""
    own = [f"scatter:{spec.key}:{i}" for i in range(len(k))]
    repeated = k > 1
    if not repeated.any():
        return seen, np.full(len(k), np.inf), own
    freedom = np.where(repeated, k - 1, 0)
    if rules.repeats == "half_range" or rules.pool == "never":
        return seen, np.where(repeated, freedom, np.inf), own
    together = repeated.copy()
    if rules.pool == "auto":
        # One row with a slip in it must not cost the others their common scatter: the oddest row goes its own way first.
        spread = np.maximum(seen, rounding)
        while together.sum() > 1 and not _alike(spread[together], freedom[together]):
            middle = float(np.median(spread[together]))
            oddness = np.abs(np.log(np.maximum(spread, 1e-300) / middle))
            together[int(np.argmax(np.where(together, oddness, -1.0)))] = False
    if together.sum() < min(2, int(repeated.sum())):
        return seen, np.where(repeated, freedom, np.inf), own
    total = int(freedom[together].sum())
    pooled = math.sqrt(float((freedom[together] * seen[together] ** 2).sum()) / total)
    shared = together | ~repeated  # a row read once borrows the scatter of the others
    s = np.where(shared, pooled, seen)
    return (
        s,
        np.where(shared, float(total), freedom),
        [f"scatter:{spec.key}" if m else own[i] for i, m in enumerate(shared)],
    )


def _alike(s: Array, freedom: NDArray[np.intp]) -> bool:
    """Bartlett's test that scatters ``s`` with ``freedom`` degrees are of one size (Bartlett 1937); true for a single row."""
    groups = len(s)
    if groups < 2:
        return True
    if not (s > 0).all():
        return bool((s == 0).all())
    total = freedom.sum()
    pooled = (freedom * s**2).sum() / total
    statistic = total * math.log(pooled) - (freedom * np.log(s**2)).sum()
    correction = 1 + ((1 / freedom).sum() - 1 / total) / (3 * (groups - 1))
    return bool(special.chdtrc(groups - 1, statistic / correction) > POOLING_LEVEL)


def repeatability(entry: InputReadings, s: Array, k: NDArray[np.intp], rules: HouseRules) -> Array:
    """Standard uncertainty of each row's mean from the scatter of its trials, by the house rule."""
    if rules.repeats == "sd":
        return s
    if rules.repeats == "half_range":
        high = np.where(np.isnan(entry.values), -np.inf, entry.values).max(axis=1)
        low = np.where(np.isnan(entry.values), np.inf, entry.values).min(axis=1)
        return np.where(k > 1, (high - low) / 2, 0.0)
    return s / np.sqrt(np.maximum(k, 1))
