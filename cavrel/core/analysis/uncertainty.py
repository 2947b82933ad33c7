"""From contributions to a combined standard uncertainty, its degrees of freedom, its coverage factor and its budget.

Source: JCGM 100:2008, 5.1.2 and 5.2.2; a component that acts on several inputs carries their correlation with it.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis.perturbations import Perturbations

Array = NDArray[np.float64]

COVERAGE = 0.95
_NOISE = 1e-24
"""A share of u² this small is the last bit of a difference that ought to be zero."""


def squares(parts: Array) -> Array:
    """Combined variance ``(rows,)`` of contributions ``(L, rows)`` or ``(K, rows)``."""
    return np.asarray(np.einsum("ij,ij->j", parts, parts))


def combined(parts: Array) -> Array:
    """Combined standard uncertainty ``(rows,)`` of contributions ``(L, rows)`` or ``(K, rows)``."""
    total = squares(parts)
    # Squares of what is very large or very small leave the range of a double.
    if not all(1e-280 < square < 1e280 for square in total.tolist()):
        if not parts.any():
            return np.zeros(len(total))
        size = np.abs(parts).max(axis=0, initial=0.0)
        safe = np.where((size > 0) & np.isfinite(size), size, 1.0)
        return np.asarray(np.where(np.isfinite(size), safe * np.sqrt(((parts / safe) ** 2).sum(axis=0)), size))
    return np.asarray(np.sqrt(total))


def combined_one(parts: Array) -> float:
    """Combined standard uncertainty of contributions ``(K,)`` to a single value."""
    total = float(parts @ parts)
    return math.sqrt(total) if 1e-280 < total < 1e280 else float(combined(parts[:, None])[0])


def effective_dof(parts: Array, perturbations: Perturbations, dof: Array, known: float = 0.0) -> float:
    """Welch-Satterthwaite degrees of freedom (JCGM 100:2008, G.4.1) for contributions ``(K,)`` with ``dof`` ``(K,)``.

    Components that rest on one estimate of scatter (a pooled one, the residuals of one fit) count as one, for their errors
    are one error. ``known``: a further standard uncertainty, known beforehand.
    """
    size = max(float(np.abs(parts).max(initial=0.0)), known)
    if not 0 < size < math.inf:
        return math.inf
    squares = (parts / size) ** 2
    below = _below(squares, perturbations, dof)
    return (float(squares.sum()) + (known / size) ** 2) ** 2 / below if below > 0 else math.inf


def widened_dof(dof: float, share: float, many: int) -> float:
    """Degrees of freedom where ``share`` of a variance rests on how ``many`` values scatter about their mean, and the rest has ``dof``
    (Welch-Satterthwaite)."""
    if not share > 0 or many < 2:
        return dof
    return 1 / ((1 - share) ** 2 / dof + share**2 / (many - 1)) if dof > 0 else dof


def variance_dof(parts: Array, use: NDArray[np.intp], perturbations: Perturbations, wide: bool) -> float:
    """Degrees of freedom of the variances that rows' own contributions ``(L, rows)``, or ``(K, rows)`` where ``wide``, give to the rows
    ``use``: infinite where all are known beforehand.

    Welch-Satterthwaite on each estimate's mean share of the rows' variance. A chi-squared made with such variances over its own degrees
    of freedom follows F rather than chi-squared.
    """
    if not len(perturbations.layout.resting):
        return math.inf
    squares = parts[:, use] ** 2
    total = np.add.reduce(squares, 0)
    if not (total > 0).all():
        return math.inf
    shares = np.zeros_like(parts)
    shares[:, use] = squares / total / len(use)
    by_component = np.zeros(perturbations.count)
    if wide:
        by_component = shares.sum(axis=1)
    else:
        by_component[perturbations.layout.lone[1]] = shares[perturbations.layout.lone[0]].sum(axis=1)
        column, row, component = perturbations.layout.each[:, perturbations.layout.each[1] < parts.shape[1]]
        by_component[component] = shares[column, row]
    below = _below(by_component, perturbations, perturbations.dof)
    return 1 / below if below > 0 else math.inf


def _below(squares: Array, perturbations: Perturbations, dof: Array) -> float:
    """The sum of squared variances over their degrees of freedom, each estimate's components taken as one, from ``squares`` ``(K,)``."""
    layout = perturbations.layout
    if not len(layout.resting):
        return 0.0
    gathered = np.bincount(layout.estimate[layout.resting], squares[layout.resting])
    return float((gathered * gathered / dof[layout.begins]).sum())


def coverage_factor(dof: float, student: bool = True) -> float:
    """k for 95 %: Student's t for ``dof`` degrees of freedom (JCGM 100:2008, table G.2), 1.960 where ``student`` is off."""
    if not student or not math.isfinite(dof) or dof > 1e6:
        return float(special.ndtri((1 + COVERAGE) / 2))
    return float(special.stdtrit(max(dof, 1.0), (1 + COVERAGE) / 2))


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """A line of the budget.

    ``source``: in words.
    ``kind``: of its components.
    ``subject``: input, instrument, fit or accepted value.
    ``contribution``: to u, always positive, SI.
    ``share``: of u².
    ``u_if_halved``: u if it were halved, SI.
    """

    source: str
    kind: str
    subject: str
    contribution: float
    share: float
    u_if_halved: float


def budget(parts: Array, perturbations: Perturbations, by: str = "source") -> tuple[Source, ...]:
    """Contributions ``(K,)`` gathered by ``source``, ``instrument`` or ``quantity``, the largest first. Their squares add up to u² exactly;
    what belongs to no instrument or quantity is gathered under its own source."""
    size = float(np.abs(parts).max(initial=0.0))
    if not 0 < size < math.inf:
        return ()
    squares: dict[str, float] = {}
    kinds: dict[str, tuple[str, str]] = {}
    of_groups = np.add.reduceat((parts / size) ** 2, perturbations.starts).tolist()
    for group, square in zip(perturbations.groups, of_groups, strict=True):
        name = {"instrument": group.instrument, "quantity": group.quantity}.get(by, "") or group.source
        squares[name] = squares.get(name, 0.0) + square
        kinds[name] = (group.kind, group.subject)
    total = sum(squares.values())
    lines = [
        Source(
            source=source,
            kind=kinds[source][0],
            subject=kinds[source][1],
            contribution=size * math.sqrt(v),
            share=v / total,
            u_if_halved=size * math.sqrt(max(total - 0.75 * v, 0.0)),
        )
        for source, v in squares.items()
        if v > _NOISE * total
    ]
    return tuple(sorted(lines, key=lambda line: -line.contribution))
