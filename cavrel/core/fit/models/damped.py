"""The damped oscillation, sought by its rate of fading."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from cavrel.core.fit.models.base import offered, stack
from cavrel.core.fit.models.curved import Curved, best_of, project
from cavrel.core.quantity.dimension import PLAIN, Dimension

Array = NDArray[np.float64]


@offered
class Damped(Curved):
    """y = A·exp(-x/tau)·cos(2π·x/T + phi) + c.

    Sought with the rate of fading 1/tau in the place of tau, which is zero where nothing fades; tau is then infinite.
    """

    key, title = "damped", "damped oscillation"
    recipe = (  # p[1] is the rate of fading, zero where nothing fades
        "p[0] * np.exp(-(x - o) * p[1]) * np.cos(2 * np.pi * (x - o) / p[2] + p[3]) + p[4]",
        "[p[0] * um.exp(p[1] * o), 1 / p[1], p[2], turned(p[3] - 2 * np.pi * o / p[2]), p[4]]",
    )
    heights = ("c",)
    names: tuple[str, ...] = ("A", "tau", "T", "phi", "c")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "tau": x, "T": x, "phi": PLAIN, "c": y}

    def origin_for(self, x: Array) -> float:
        return float(x.min())

    def named(self, theta: Array) -> Array:
        amplitude, rate, period, phase, level = theta.T
        tau = np.where(rate > 0, 1 / np.where(rate > 0, rate, 1.0), np.inf)
        phase = phase - 2 * np.pi * self.origin / period
        return stack(amplitude * np.exp(rate * self.origin), tau, period, _turned(phase), level)

    def naming(self, theta: Array) -> Array:
        amplitude, rate, period, _, _ = theta.tolist()
        grown, o = np.exp(rate * self.origin), self.origin
        made = np.eye(5)
        made[0, :2] = grown, amplitude * grown * o
        made[1, 1] = -1 / rate**2 if rate > 0 else np.nan
        made[3, 2] = 2 * np.pi * o / period**2
        return made

    def predict(self, theta: Array, x: Array) -> Array:
        amplitude, rate, period, phase, level = (theta[:, i : i + 1] for i in range(5))
        x = self.local(x)
        return np.asarray(amplitude * np.exp(-x * rate) * np.cos(2 * np.pi * x / period + phase) + level)

    def jacobian(self, theta: Array, x: Array) -> Array:
        amplitude, rate, period, phase, _ = (theta[:, i : i + 1] for i in range(5))
        x = self.local(x)
        fading = np.exp(-x * rate)
        angle = 2 * np.pi * x / period + phase
        swing, turn = fading * np.cos(angle), fading * np.sin(angle)
        by_period = amplitude * turn * 2 * np.pi * x / period**2
        return stack(swing, -amplitude * swing * x, by_period, -amplitude * turn, 1.0)

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        x = self.local(x)
        span, begin = np.ptp(x) or 1.0, x.min()
        if len(x) > MOST_FOR_GRID:  # a long trace is thinned for the search; the fit itself takes every point
            kept = np.linspace(0, len(x) - 1, MOST_FOR_GRID).astype(int)
            return self._search(x[kept], y[kept], w[kept], span, begin)
        return self._search(x, y, w, span, begin)

    def _search(self, x: Array, y: Array, w: Array, span: float, begin: float) -> Array:
        gaps = np.diff(np.unique(x))
        shortest = 2.2 * float(np.median(gaps)) if len(gaps) else span / 4
        most = min(3.0 * span / shortest, 6 * len(x))
        # Equal steps in frequency, a quarter of what the span can tell apart, from a third of a swing up.
        frequencies = np.arange(0.3, max(most / 3.0, 0.6), 0.1) / span
        fadings = np.array([0.15, 0.35, 0.8, 2.0, 8.0, np.inf]) * span
        u = x - begin
        found: list[tuple[Array, Array, Array, Array]] = []
        for tau in fadings:
            fading = np.exp(-u / tau)
            for block in np.array_split(frequencies, max(1, len(frequencies) * len(x) // 200_000)):
                angle = 2 * np.pi * block[:, None] * u[None, :]
                basis = stack(fading * np.cos(angle), fading * np.sin(angle), 1.0)
                best, squares = project(basis, y, w)
                found.append((best, squares, block, np.full(len(block), tau)))
        best, squares, frequency, tau = (np.concatenate([f[i] for f in found]) for i in range(4))
        # Very slow swings can mimic any smooth curve with huge amplitudes; among equals the smaller amplitude is meant.
        size = np.hypot(best[:, 0], best[:, 1])
        squares = squares * (1 + 1e-3 * size / (np.ptp(y) or 1.0))
        chosen = best_of(squares, 5)
        cosine, sine = best[chosen, 0], best[chosen, 1]
        phase = np.arctan2(-sine, cosine) - 2 * np.pi * frequency[chosen] * begin
        amplitude = np.hypot(cosine, sine) * np.exp(begin / tau[chosen])
        return stack(amplitude, 1 / tau[chosen], 1 / frequency[chosen], phase, best[chosen, 2])

    def tidy(self, theta: Array) -> Array:
        amplitude, rate, period, phase, level = theta
        if period < 0:
            period, phase = -period, -phase
        if amplitude < 0:
            amplitude, phase = -amplitude, phase + np.pi
        return np.array([amplitude, rate, period, _turned(phase), level])


def _turned(phase: Array) -> Array:
    """A phase between -π and π."""
    return np.asarray((phase + np.pi) % (2 * np.pi) - np.pi)


MOST_FOR_GRID = 400
"""Points that the search for a damped oscillation's start looks at."""
