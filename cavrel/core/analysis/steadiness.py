"""Whether readings taken again and again have become steady."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

FEWEST = 3
"""Readings of each, within the stretch that counts as steady."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Steadiness:
    """``since``: s, when the stretch within the band began, None where the last readings are not within it. ``held``: s, how long it lasts by the
    last reading. ``lasting``: s, how long it is to last. ``steady``: it did, with enough readings. ``means``: of the stretch, by name, SI.
    """

    since: float | None
    held: float
    lasting: float
    steady: bool
    means: Mapping[str, float]


def steadiness(readings: Mapping[str, Sequence[tuple[float, float]]], band: float, lasting: float) -> Steadiness:
    """``readings``: name -> (time s, value SI) in time; steady is what stays within ``band`` SI, largest less smallest, for ``lasting`` s, each
    of them by itself and all over the same stretch."""
    begins, ends = [], []
    for line in readings.values():
        begin = _begin([v for _, v in line], band)
        if begin is None:
            return Steadiness(since=None, held=0.0, lasting=lasting, steady=False, means={})
        begins.append(line[begin][0])
        ends.append(line[-1][0])
    if not begins:
        return Steadiness(since=None, held=0.0, lasting=lasting, steady=False, means={})
    since, held = max(begins), max(min(ends) - max(begins), 0.0)
    inside = {name: [v for t, v in line if t >= since] for name, line in readings.items()}
    enough = all(len(values) >= FEWEST for values in inside.values())
    return Steadiness(
        since=since,
        held=held,
        lasting=lasting,
        steady=enough and held >= lasting,
        means={name: sum(values) / len(values) for name, values in inside.items() if values},
    )


def _begin(values: Sequence[float], band: float) -> int | None:
    """The first of the last readings that lie within the band together; None for fewer than two."""
    low = high = None
    begin = None
    for i in range(len(values) - 1, -1, -1):
        low = values[i] if low is None else min(low, values[i])
        high = values[i] if high is None else max(high, values[i])
        if high - low > band * (1 + 1e-9):
            break
        begin = i
    return begin if begin is not None and begin < len(values) - 1 else None
