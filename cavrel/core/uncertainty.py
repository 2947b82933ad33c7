"""The law of propagation through the batch axis: every component pushed up and down by its standard uncertainty, all at once.

Source: JCGM 100:2008, 5.1.2 and 5.2.2; a component that acts on several inputs carries their correlation with it.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.components import Block, Nominal

Array = NDArray[np.float64]

COVERAGE = 0.95
_NOISE = 1e-24
"""A share of u² this small is the last bit of a difference that ought to be nought."""


@dataclass(frozen=True, slots=True)
class Pushes:
    """Which component stands where in a batch of ``2K + 1``: entry 0 is nominal, ``1 + k`` up, ``1 + K + k`` down.

    ``blocks`` and their first component ``starts``; ``independent`` ``(K,)`` marks components of single rows; ``dof`` ``(K,)``.
    """

    blocks: tuple[Block, ...]
    starts: tuple[int, ...]
    count: int
    independent: NDArray[np.bool_]
    dof: Array

    @property
    def batch(self) -> int:
        return 2 * self.count + 1

    def span(self, index: int) -> slice:
        """The components of block ``index``."""
        return slice(self.starts[index], self.starts[index] + self.blocks[index].size)


def plan(blocks: Sequence[Block]) -> Pushes:
    """Give every component its place."""
    starts, position = [], 0
    independent: list[bool] = []
    for block in blocks:
        starts.append(position)
        position += block.size
        independent += [block.rows is not None] * block.size
    dof = np.concatenate([block.dof for block in blocks]) if blocks else np.zeros(0)
    return Pushes(tuple(blocks), tuple(starts), position, np.array(independent, bool), dof)


def pushed_inputs(pushes: Pushes, nominal: Mapping[str, Nominal]) -> dict[str, Array]:
    """Each input over the batch, ``(2K+1, rows)``, SI."""
    values = {key: np.repeat(entry.values[None, :], pushes.batch, axis=0) for key, entry in nominal.items()}
    k_all = pushes.count
    for block, start in zip(pushes.blocks, pushes.starts, strict=True):
        up = 1 + start + np.arange(block.size)
        for target in block.targets:
            if target not in values:
                continue
            array = values[target]
            if block.rows is not None:
                array[up, block.rows] += block.u
                array[up + k_all, block.rows] -= block.u
            else:
                step = array[0] * block.u[0] if block.relative else block.u[0]
                array[up[0]] += step
                array[up[0] + k_all] -= step
    return values


def contributions(values: Array, count: int) -> Array:
    """Signed contribution of each component, ``(K, rows)``, from ``values`` ``(2K+1, rows)``: half the difference up to down."""
    if len(values) == 1:
        return np.zeros((count, values.shape[1]))
    return np.asarray((values[1 : count + 1] - values[count + 1 :]) / 2)


def combined(parts: Array) -> Array:
    """Combined standard uncertainty ``(rows,)`` of contributions ``(K, rows)``."""
    return np.asarray(np.sqrt((parts**2).sum(axis=0)))


def effective_dof(parts: Array, pushes: Pushes, dof: Array) -> float:
    """Welch-Satterthwaite degrees of freedom (JCGM 100:2008, G.4.1) for contributions ``(K,)`` with ``dof`` ``(K,)``.

    Components that rest on one estimate of scatter (a pooled one, the residuals of one fit) count as one, for their errors
    are one error.
    """
    variance = float((parts**2).sum())
    if variance <= 0:
        return math.inf
    by_estimate: dict[str, list[float]] = {}
    for index, block in enumerate(pushes.blocks):
        span = pushes.span(index)
        for name, part, freedom in zip(block.estimate, parts[span].tolist(), dof[span].tolist(), strict=False):
            if part and math.isfinite(freedom):
                entry = by_estimate.setdefault(name, [0.0, freedom])
                entry[0] += part**2
    below = sum(v**2 / freedom for v, freedom in by_estimate.values() if freedom > 0)
    return variance**2 / below if below > 0 else math.inf


def freedom_behind(parts: Array, pushes: Pushes) -> float:
    """Degrees of freedom of the variances that contributions ``(K, n)`` give to n rows: infinite where all are known beforehand.

    Welch-Satterthwaite on each estimate's mean share of the rows' variance. A chi-squared made with such variances over its own degrees
    of freedom follows F rather than chi-squared.
    """
    squares = parts**2
    total = squares.sum(axis=0)
    if not (total > 0).all():
        return math.inf
    shares = (squares / total).mean(axis=1)
    by_estimate: dict[str, list[float]] = {}
    for index, block in enumerate(pushes.blocks):
        if not block.estimate:
            continue
        span = pushes.span(index)
        for name, share, freedom in zip(block.estimate, shares[span].tolist(), pushes.dof[span].tolist(), strict=False):
            if share and math.isfinite(freedom):
                entry = by_estimate.setdefault(name, [0.0, freedom])
                entry[0] += share
    below = sum(share**2 / freedom for share, freedom in by_estimate.values() if freedom > 0)
    return 1 / below if below > 0 else math.inf


def coverage_factor(dof: float, student: bool = True) -> float:
    """k for 95 %: Student's t for ``dof`` degrees of freedom (JCGM 100:2008, table G.2), 1.960 where ``student`` is off."""
    if not student or not math.isfinite(dof) or dof > 1e6:
        return float(special.ndtri((1 + COVERAGE) / 2))
    return float(special.stdtrit(max(dof, 1.0), (1 + COVERAGE) / 2))


@dataclass(frozen=True, slots=True)
class Source:
    """A line of the budget: ``contribution`` (always positive, SI) of one source, its ``share`` of u², and u if it were halved."""

    source: str
    kind: str
    subject: str
    contribution: float
    share: float
    u_if_halved: float


def budget(parts: Array, pushes: Pushes, by: str = "source") -> tuple[Source, ...]:
    """Contributions ``(K,)`` gathered by ``source``, ``instrument`` or ``quantity``, the largest first. Their squares add up to u² exactly;
    what belongs to no instrument or quantity is gathered under its own source."""
    squares: dict[str, float] = {}
    kinds: dict[str, tuple[str, str]] = {}
    for index, block in enumerate(pushes.blocks):
        name = {"instrument": block.instrument, "quantity": block.quantity}.get(by, "") or block.source
        own = parts[pushes.span(index)]
        squares[name] = squares.get(name, 0.0) + float(own @ own)
        kinds[name] = (block.kind, block.subject)
    total = sum(squares.values())
    lines = [
        Source(source, *kinds[source], math.sqrt(v), v / total, math.sqrt(max(total - 0.75 * v, 0.0)))
        for source, v in squares.items()
        if v > _NOISE * total
    ]
    return tuple(sorted(lines, key=lambda line: -line.contribution))
