"""A result's distribution from its draws: mean, u, the shortest interval, and whether both are stable.

Source: JCGM 101:2008, 5.3.4, 7.9 and 8.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.records import Analysis
from cavrel.core.quantity.rounding import last_decade

Array = NDArray[np.float64]
_SEQUENCE = 10_000


@dataclass(frozen=True, slots=True, kw_only=True)
class MonteCarlo:
    """A result's distribution, SI.

    ``draws``: how many.
    ``mean``: of them.
    ``u``: their standard deviation.
    ``low95``: lower end of the shortest 95 % interval.
    ``high95``: its upper end.
    ``tolerance``: half a unit of the last figure kept of the linear u (JCGM 101:2008, 7.9.2, 8.1).
    ``stable``: twice the standard deviation of mean, u and both ends over sequences of 10 000 draws is under it (7.9.4).
    ``agrees``: both ends of the linear interval lie within it of these (8.1).
    ``lost``: draws for which the result has no value.
    """

    draws: int
    mean: float
    u: float
    low95: float
    high95: float
    tolerance: float
    stable: bool
    agrees: bool
    lost: int


def shortest(ordered: Array, share: float = 0.95) -> tuple[float, float]:
    """The shortest interval that holds ``share`` of sorted values (JCGM 101:2008, 5.3.4)."""
    held = round(share * len(ordered))
    widths = ordered[held:] - ordered[: len(ordered) - held]
    at = int(np.argmin(widths))
    return float(ordered[at]), float(ordered[at + held])


def summarise(analysis: Analysis, name: str, drawn: Array) -> MonteCarlo:
    """Mean, u, interval and the checks of one result's draws."""
    result = analysis.results[name]
    good = drawn[np.isfinite(drawn)]
    if len(good) < 1000:
        nothing = math.nan
        return MonteCarlo(
            draws=len(drawn),
            mean=nothing,
            u=nothing,
            low95=nothing,
            high95=nothing,
            tolerance=nothing,
            stable=False,
            agrees=False,
            lost=len(drawn) - len(good),
        )
    ordered = np.sort(good)
    low, high = shortest(ordered)
    # Squares of values of 1e200 are no numbers; of their shares of the largest they are.
    largest = max(abs(float(ordered[0])), abs(float(ordered[-1]))) or 1.0
    mean, u = largest * float((good / largest).mean()), largest * float((good / largest).std(ddof=1))
    of = result.u if result.u > 0 else u
    tolerance = 0.5 * 10.0 ** last_decade(of, analysis.rules.rounding) if 0 < of < math.inf else 0.0
    ends = np.abs(
        [low - (result.value - result.expanded_uncertainty), high - (result.value + result.expanded_uncertainty)]
    )
    stable = u == 0 or _stable(good / largest, tolerance / largest)
    return MonteCarlo(
        draws=len(drawn),
        mean=mean,
        u=u,
        low95=low,
        high95=high,
        tolerance=tolerance,
        stable=stable,
        agrees=bool((ends <= tolerance).all()),
        lost=len(drawn) - len(good),
    )


def _stable(good: Array, tolerance: float) -> bool:
    sequences = len(good) // _SEQUENCE
    if sequences < 2:
        return False
    parts = good[: sequences * _SEQUENCE].reshape(sequences, _SEQUENCE)
    ends = np.array([shortest(np.sort(part)) for part in parts])
    marks = [parts.mean(axis=1), parts.std(axis=1, ddof=1), ends[:, 0], ends[:, 1]]
    return all(2 * mark.std(ddof=1) / math.sqrt(sequences) < tolerance for mark in marks)
