"""The damped oscillation about a level that drifts evenly, as of a balance whose case warms."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from cavrel.core.fit.models.base import offered, stack
from cavrel.core.fit.models.damped import Damped
from cavrel.core.quantity.dimension import Dimension

Array = NDArray[np.float64]


@offered
class Drifting(Damped):
    """y = A·exp(-x/tau)·cos(2π·x/T + phi) + c + r·x."""

    key, title = "drifting", "damped oscillation that drifts"
    recipe = (
        "p[0] * np.exp(-(x - o) * p[1]) * np.cos(2 * np.pi * (x - o) / p[2] + p[3]) + p[4] + p[5] * (x - o)",
        "[p[0] * um.exp(p[1] * o), 1 / p[1], p[2], turned(p[3] - 2 * np.pi * o / p[2]), p[4] - p[5] * o, p[5]]",
    )
    names = ("A", "tau", "T", "phi", "c", "r")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {**super().units(x, y), "r": y / x}

    def named(self, theta: Array) -> Array:
        steady, rate = super().named(theta[:, :5]), theta[:, 5]
        return stack(*steady.T[:4], steady[:, 4] - rate * self.origin, rate)

    def naming(self, theta: Array) -> Array:
        made = np.eye(6)
        made[:5, :5] = super().naming(theta[:5])
        made[4, 5] = -self.origin
        return made

    def predict(self, theta: Array, x: Array) -> Array:
        return super().predict(theta[:, :5], x) + theta[:, 5:6] * self.local(x)

    def jacobian(self, theta: Array, x: Array) -> Array:
        steady = super().jacobian(theta[:, :5], x)
        return stack(*np.moveaxis(steady, -1, 0), np.broadcast_to(self.local(x), steady.shape[:-1]))

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        """Those of the steady one, about the straight line through all points and about none."""
        along = self.local(x)
        centre = float(w @ along / w.sum())
        spread = float(w @ (along - centre) ** 2)
        rate = float((w * (along - centre)) @ y / spread) if spread > 0 else 0.0
        found = [
            stack(*super(Drifting, self).starts(x, y - slope * along, w).T, slope)
            for slope in dict.fromkeys((rate, 0.0))
        ]
        return np.concatenate(found)

    def tidy(self, theta: Array) -> Array:
        return np.append(super().tidy(theta[:5]), theta[5])
