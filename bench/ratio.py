"""Two things timed in turns, so that a machine that slows down slows both."""

import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True, slots=True)
class Row:
    """``ours`` and ``theirs`` in SI units: medians in seconds, bytes, or numbers; ``limit``: the ratio that the goal allows; ``unit``: how it is
    shown."""

    what: str
    ours: float
    theirs: float
    goal: str
    limit: float
    unit: Literal["ms", "MB", "samples"] = "ms"

    @property
    def sizes(self) -> str:
        """Both sides as the table shows them."""
        factor = {"ms": 1e3, "MB": 1e-6, "samples": 1.0}[self.unit]
        return f"{factor * self.ours:8.2f} {self.unit}  {factor * self.theirs:8.2f} {self.unit}"

    @property
    def ratio(self) -> float:
        return self.ours / self.theirs

    @property
    def shown(self) -> str:
        """The ratio, or how many times faster where it is far below one."""
        return f"{self.ratio:.2f}" if self.ratio > 0.05 else f"1/{1 / self.ratio:.0f}"

    @property
    def met(self) -> bool:
        return self.ratio <= self.limit


def compare(
    what: str, ours: Callable[[], object], theirs: Callable[[], object], goal: str, limit: float, rounds: int = 150
) -> Row:
    """Time both alternately, after one unmeasured call of each."""
    ours(), theirs()
    mine: list[float] = []
    other: list[float] = []
    for _ in range(rounds):
        for call, times in ((ours, mine), (theirs, other)):
            began = time.perf_counter()
            call()
            times.append(time.perf_counter() - began)
    return Row(what, statistics.median(mine), statistics.median(other), goal, limit)
