"""The straight stretches of a trace, and the one that most likely counts.

Change points by optimal partitioning: the split into straight pieces that has the least sum of squares plus a price for each piece (Jackson et
al., IEEE Signal Process. Lett. 12 (2005) 105), with the noise taken from second differences. Long traces are averaged in bins first; the edges are
set between samples afterwards.
"""

import itertools
import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis.noise import noise_of, white_noise

Array = NDArray[np.float64]

_BINS = 240
_PRICE = 9.0
"""What a piece more has to win, in variances of the noise times the logarithm of the number of bins: three numbers are fitted for it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Piece:
    """A straight piece. ``begin``, ``end``: s. ``slope``: a second. ``change``: over the piece, in the samples' unit. ``bends``: probability of
    so much bending, in a piece that is straight, by chance."""

    begin: float
    end: float
    slope: float
    change: float
    bends: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposal:
    """``begin``, ``end``: of the stretch proposed, s. ``before``, ``after``: what lies around it, in words, empty where nothing does.
    ``straight``: the piece is straight within its noise. ``bends``: ``up``, ``down`` or empty. ``pieces``: all of them."""

    begin: float
    end: float
    before: str
    after: str
    straight: bool
    bends: str
    pieces: tuple[Piece, ...]


def propose(t: Array, values: Array) -> Proposal | None:
    """The stretch of ``values`` ``(n,)`` at ``t`` ``(n,)`` s in which they change most, straight.

    None where nothing changes beyond the noise, or there are fewer than twelve samples.
    """
    good = np.isfinite(t) & np.isfinite(values)
    t, values = t[good], values[good]
    if len(t) < 12 or not t[-1] > t[0] or not float(np.ptp(values)) > 1e-12 * float(np.abs(values).max()):
        return None
    bt, by = _binned(t, values)
    cuts = _cuts(bt, by)
    edges = _refined(t, values, bt, cuts)
    pieces = tuple(_piece(t[a:b], values[a:b]) for a, b in itertools.pairwise(edges) if b - a >= 3)
    noise = white_noise(values)
    moving = [p for p in pieces if abs(p.change) > 6 * noise]
    if not moving:
        return None
    # What counts runs longest with a change to speak of; a stop is steep and short.
    chosen = max(moving, key=lambda p: min(abs(p.change) / (6 * noise), 4.0) * (p.end - p.begin))
    margin = 0.02 * (chosen.end - chosen.begin)
    begin, end = chosen.begin + margin, chosen.end - margin
    inside = (t >= begin) & (t <= end)
    curve = _curvature(t[inside], values[inside])
    bent = _bent(pieces, chosen, noise)
    straight = curve[1] > 0.01 and not bent
    upward = bent > 0 if bent else curve[0] > 0
    return Proposal(
        begin=begin,
        end=end,
        before=_around([p for p in pieces if p.end <= chosen.begin + 1e-12], noise, "before the release"),
        after=_around([p for p in pieces if p.begin >= chosen.end - 1e-12], noise, "after the stop"),
        straight=straight,
        bends="" if straight else "up" if upward else "down",
        pieces=pieces,
    )


def _bent(pieces: tuple[Piece, ...], chosen: Piece, noise: float) -> int:
    """1 or -1 where the chosen piece is one of several of a curve that bends up or down: its neighbours go the same way, hardly steeper or
    flatter; else 0."""
    at = pieces.index(chosen)
    alike = [
        p
        for p in (*pieces[max(at - 1, 0) : at], *pieces[at + 1 : at + 2])
        if abs(p.change) > 6 * noise and 0.4 < p.slope / chosen.slope < 2.5
    ]
    if not alike:
        return 0
    first, last = min([chosen, *alike], key=lambda p: p.begin), max([chosen, *alike], key=lambda p: p.begin)
    return 1 if last.slope > first.slope else -1


def _binned(t: Array, values: Array) -> tuple[Array, Array]:
    if len(t) <= _BINS:
        return t, values
    edges = np.linspace(0, len(t), _BINS + 1).astype(int)
    sizes = np.diff(edges)
    return np.add.reduceat(t, edges[:-1]) / sizes, np.add.reduceat(values, edges[:-1]) / sizes


def _cuts(t: Array, y: Array) -> list[int]:
    """Where the straight pieces begin, as indices of bins, 0 and the number of bins included."""
    t = (t - t[0]) / (t[-1] - t[0])
    y = (y - y.mean()) / (float(y.std()) or 1.0)
    variance = max(white_noise(y) ** 2, 1e-9)
    cuts = _partition(t, y, variance)
    # A sensor's slow unrest is no motion: what is left about the pieces, with its correlation, says how large it is.
    left = np.concatenate([_left(t[a:b], y[a:b]) for a, b in itertools.pairwise(cuts)])
    tau, s = noise_of(left, 2 * (len(cuts) - 1))
    return _partition(t, y, tau * s * s) if tau * s * s > variance else cuts


def _left(t: Array, y: Array) -> Array:
    """Residuals about a line."""
    dt = t - t.mean()
    return np.asarray(y - y.mean() - dt * (float(dt @ y) / (float(dt @ dt) or 1.0)))


def _partition(t: Array, y: Array, variance: float) -> list[int]:
    n = len(t)
    price = _PRICE * variance * math.log(n)
    sums = [np.concatenate([[0.0], np.cumsum(v)]) for v in (t, y, t * t, t * y, y * y)]
    best = np.full(n + 1, np.inf)
    best[0] = -price
    last = np.zeros(n + 1, int)
    for end in range(3, n + 1):
        starts = np.arange(0, end - 2)
        m = end - starts
        st, sy, stt, sty, syy = (s[end] - s[starts] for s in sums)
        vt, vy, cov = stt - st * st / m, syy - sy * sy / m, sty - st * sy / m
        left = np.maximum(vy - np.where(vt > 1e-15, cov * cov / np.maximum(vt, 1e-15), 0.0), 0.0)
        costs = best[starts] + left + price
        last[end] = int(np.argmin(costs))
        best[end] = costs[last[end]]
    cuts = [n]
    while cuts[0] > 0:
        cuts.insert(0, int(last[cuts[0]]))
    return cuts


def _refined(t: Array, values: Array, bt: Array, cuts: list[int]) -> list[int]:
    """The same cuts as indices of samples."""
    if len(t) == len(bt):
        return cuts
    edges = np.linspace(0, len(t), len(bt) + 1).astype(int)
    return [int(edges[c]) for c in cuts]


def _piece(t: Array, y: Array) -> Piece:
    dt = t - t.mean()
    spread = float(dt @ dt)
    slope = float(dt @ y) / spread if spread else 0.0
    return Piece(
        begin=float(t[0]), end=float(t[-1]), slope=slope, change=slope * float(t[-1] - t[0]), bends=_curvature(t, y)[1]
    )


def _curvature(t: Array, y: Array) -> tuple[float, float]:
    """(curvature, probability of as much by chance) of a parabola against a line through the points."""
    n = len(t)
    if n < 8:
        return 0.0, 1.0
    x = (t - t.mean()) / (float(np.ptp(t)) or 1.0)
    line = np.polynomial.polynomial.polyfit(x, y, 1)
    bow = np.polynomial.polynomial.polyfit(x, y, 2)
    rest = float(((y - np.polynomial.polynomial.polyval(x, line)) ** 2).sum())
    least = float(((y - np.polynomial.polynomial.polyval(x, bow)) ** 2).sum())
    if least <= 0:
        return float(bow[2]), 1.0 if rest <= 0 else 0.0
    return float(bow[2]), float(special.fdtrc(1, n - 3, max(rest - least, 0.0) * (n - 3) / least))


def _around(pieces: list[Piece], noise: float, when: str) -> str:
    """What lies outside the stretch: rest, or something else that moves."""
    if not pieces:
        return ""
    still = all(abs(p.change) <= 6 * noise for p in pieces)
    return f"{when}: at rest" if still else f"{when}: not part of the same motion"
