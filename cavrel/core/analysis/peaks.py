"""Peaks of a trace: where they are, and when exactly a stretch has its largest value.

The time of a peak is that of the top of a cubic through the upper part of it: a parabola leans with a peak that is steeper on one side.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.noise import noise_of, white_noise
from cavrel.core.errors import RunError

Array = NDArray[np.float64]

_UPPER = 0.4
"""Share of a peak's height, from its top down, through which the cubic is laid."""
_FEWEST = 7
_CLEAR = 6.0
"""Standard deviations of the noise by which a peak stands out."""
_SHARE = 0.04
"""Of the whole range, by which it does so too."""
MOST = 60


@dataclass(frozen=True, slots=True)
class Vertex:
    """``time`` of the largest value and its standard uncertainty ``u``, s; ``samples`` of the upper part, ``correlation_time`` of their noise in
    samples."""

    time: float
    u: float
    samples: int
    correlation_time: float


@dataclass(frozen=True, slots=True)
class Found:
    """A peak: its stretch from ``begin`` to ``end``, and its ``top``, s."""

    begin: float
    end: float
    top: float


def vertex(t: Array, y: Array, least: float = 0.0) -> Vertex:
    """The largest value of ``y`` ``(n,)`` at rising ``t`` ``(n,)``; ``least``: noise that there is at any rate, in the unit of ``y``.

    Raises RunError where the samples do not rise to a peak and fall from it again.
    """
    smooth = _smoothed(y)
    at = int(np.argmax(smooth))
    foot = max(float(smooth[: at + 1].min()), float(smooth[at:].min()))
    height = float(smooth[at]) - foot
    if not (np.all(np.diff(t) > 0) and height > _CLEAR * white_noise(y) / math.sqrt(_width(len(y)))):
        raise RunError("", "the chosen stretch shows no peak: it has to rise to one and fall from it again")
    low, high = _upper(smooth, at, float(smooth[at]) - _UPPER * height)
    low, high = _at_least(low, high, len(y))
    middle, half = (t[low] + t[high - 1]) / 2, (t[high - 1] - t[low]) / 2
    x, top = (t[low:high] - middle) / half, y[low:high]
    matrix = np.vander(x, 4, increasing=True)
    theta: Array = np.asarray(np.linalg.lstsq(matrix, top, rcond=None)[0], float)
    place = _top_of(theta)
    if place is None:
        raise RunError("", "the top of the chosen stretch is not round enough to say where its peak is")
    left = top - matrix @ theta
    tau, s = noise_of(left, 4)
    if s < least:
        tau, s = 1.0, least
    bend = 2 * theta[2] + 6 * theta[3] * place
    turn = np.array([0.0, 1.0, 2 * place, 3 * place**2]) / bend
    spread = np.linalg.pinv(matrix.T @ matrix)
    u = s * math.sqrt(float(turn @ spread @ turn) * tau)
    return Vertex(float(middle + half * place), float(half * u), high - low, tau)


def find(t: Array, y: Array) -> list[Found]:
    """The peaks of ``y`` ``(n,)`` at ``t`` ``(n,)`` that stand out from noise and from each other, in their order, each with the stretch from the
    dip before it to the one after; the ``MOST`` highest of more."""
    good = np.isfinite(t) & np.isfinite(y)
    t, y = t[good], y[good]
    if len(t) < _FEWEST or not np.all(np.diff(t) > 0) or not float(np.ptp(y)) > 1e-12 * float(np.abs(y).max()):
        return []
    from scipy import signal  # a tenth of a second, which a start need not wait for

    smooth = _smoothed(y)
    noise = white_noise(y) / math.sqrt(_width(len(y)))
    tops, seen = signal.find_peaks(smooth, prominence=max(_CLEAR * noise, _SHARE * float(np.ptp(smooth))))
    if len(tops) > MOST:
        tops = np.sort(tops[np.argsort(seen["prominences"])[-MOST:]])
    found = []
    for i, top in enumerate(tops):
        before = int(tops[i - 1]) if i else 0
        after = int(tops[i + 1]) if i + 1 < len(tops) else len(t) - 1
        low = before + int(np.argmin(smooth[before : top + 1]))
        high = top + int(np.argmin(smooth[top : after + 1]))
        found.append(Found(float(t[low]), float(t[high]), float(t[top])))
    return found


def _width(many: int) -> int:
    """Samples that are averaged to see a peak's outline; odd."""
    return max(1, many // 120) | 1


def _smoothed(y: Array) -> Array:
    width = _width(len(y))
    padded = np.pad(y, width // 2, mode="edge")
    return np.convolve(padded, np.full(width, 1.0 / width), mode="valid")


def _upper(smooth: Array, at: int, level: float) -> tuple[int, int]:
    """The samples about ``at`` that lie above ``level``, as a slice."""
    below = np.flatnonzero(smooth < level)
    before, after = below[below < at], below[below > at]
    return (int(before[-1]) + 1 if len(before) else 0), (int(after[0]) if len(after) else len(smooth))


def _at_least(low: int, high: int, many: int) -> tuple[int, int]:
    """A slice of as many samples as a cubic needs, and a few to hold it against."""
    more = max(_FEWEST - (high - low), 0)
    low = max(low - (more + 1) // 2, 0)
    high = min(max(high + more // 2, low + _FEWEST), many)
    return max(min(low, high - _FEWEST), 0), high


def _top_of(theta: Array) -> float | None:
    """Where a cubic of coefficients ``theta`` ``(4,)`` has its largest value between -1 and 1; None where it has none inside."""
    _, b, c, d = (float(v) for v in theta)
    root = c * c - 3 * b * d
    if root < 0 or not (abs(c) > 0 or abs(d) > 0):
        return None
    # The top is the root of b + 2 c x + 3 d x² at which c + 3 d x is negative; written so that a vanishing d does no harm.
    place = b / (math.sqrt(root) - c) if math.sqrt(root) - c != 0 else math.inf
    return place if abs(place) <= 1 and c + 3 * d * place < 0 else None
