"""The time of one lap from a timing in which every lap was marked: the line through the moments, and what is odd about them."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

FEWEST = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class LapLine:
    """``laps``: how many were marked. ``whole``: the last moment over their number, s. ``lap``: slope of the line through the moments and the
    start, s, with its standard uncertainty ``u`` from their scatter about it. ``thumb``: that scatter, s, a measure of the thumb. ``missed``: numbers
    of laps that took about twice as long as the others, so that a press is missing. ``doubled``: those that took hardly any time.
    """

    laps: int
    whole: float
    lap: float
    u: float
    thumb: float
    missed: tuple[int, ...]
    doubled: tuple[int, ...]


def lap_line(moments: Sequence[float]) -> LapLine | None:
    """From the ``moments``, s after the start, at which each lap ended; None for fewer than four, or moments that do not grow.

    The line through all of them counts every press; the last over their number counts two. A press that is missing, or one too many, bends it,
    so such a timing is not read by its line.
    """
    n = len(moments)
    if n < FEWEST or any(not b > a for a, b in zip((0.0, *moments), moments, strict=False)):
        return None
    t = np.concatenate([[0.0], np.asarray(moments, float)])
    k = np.arange(n + 1) - n / 2
    spread = float(k @ k)
    slope = float(k @ t) / spread
    left = t - t.mean() - slope * k
    scatter = math.sqrt(float(left @ left) / (n - 1))
    each = np.diff(t)
    usual = float(np.median(each))
    return LapLine(
        laps=n,
        whole=float(t[-1]) / n,
        lap=slope,
        u=scatter / math.sqrt(spread),
        thumb=scatter,
        missed=tuple(int(i) + 1 for i in np.flatnonzero(each > 1.6 * usual)),
        doubled=tuple(int(i) + 1 for i in np.flatnonzero(each < 0.4 * usual)),
    )
