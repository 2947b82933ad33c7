"""The readings to expect: true values without errors, whose trials scatter exactly as much as their instruments declare."""

import math
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.definition.steps import Input, Program
from cavrel.core.simulate.apparatus import Apparatus, Planned

Array = NDArray[np.float64]


def expected(program: Program, planned: Planned) -> dict[str, object]:
    """The run document of the readings to expect. Raises DefinitionError where the experiment has no simulation."""
    with np.errstate(all="ignore"):
        return _Expected(program, planned).document()


class _Still:
    """Draws the middle of every distribution."""

    def normal(self, mean: float, _: float, size: int | None = None) -> Any:
        return mean if size is None else np.full(size, mean)

    def uniform(self, low: float, high: float, size: int | None = None) -> Any:
        return (low + high) / 2 if size is None else np.full(size, (low + high) / 2)


class _Expected(Apparatus):
    def __init__(self, program: Program, planned: Planned) -> None:
        super().__init__(program, _Still(), planned=planned)  # type: ignore[arg-type]

    def counted(self, mean: float, many: int) -> list[float]:
        return [mean] * many

    def placing(self, spec: Input, many: int) -> Array:
        return np.zeros(many)

    def own(self, spec: Input, many: int) -> Array:
        size = self.own_size(spec)
        if many < 2 or size == 0:
            return np.zeros(many)
        # What is written is rounded, and trials scatter by that as well.
        step = spec.gauge.least_count if spec.gauge is not None and not spec.gauge.dial else None
        return _scores(many) * math.hypot(size, (step or 0.0) / math.sqrt(12))

    def written(self, spec: Input, value: float) -> str:
        """A value in full where its instrument says how far it is read: rounding would be an error of its own."""
        if spec.gauge is None or spec.gauge.least_count is None or spec.exact:
            return super().written(spec, value)
        return f"{spec.unit.from_si(value):.15g}"


@lru_cache(maxsize=64)
def _scores(many: int) -> Array:
    """Normal scores ``(many,)`` of mean 0 and standard deviation 1."""
    scores = special.ndtri((np.arange(1, many + 1) - 0.375) / (many + 0.25))
    return np.asarray((scores - scores.mean()) / scores.std(ddof=1))
