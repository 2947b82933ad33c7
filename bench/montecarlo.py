"""Monte Carlo of the pendulum run, against a script written by hand for it alone and against a loop of curve fits."""

import math
import time

import numpy as np
from scipy.optimize import curve_fit

from bench.pendulum import LENGTHS, N, document, line_alone, readings
from bench.ratio import Row, compare
from cavrel.core.analysis import analyse
from cavrel.core.analysis.montecarlo import monte_carlo

DRAWS = 100_000


def _readings() -> tuple[np.ndarray, np.ndarray, float, int]:
    """Lengths in m, mean timings in s, pooled scatter of one timing, its degrees of freedom."""
    times = np.array([[float(t) for t in row] for row in readings()])
    means = times.mean(axis=1)
    dof = times.size - len(times)
    return np.array(LENGTHS) / 100, means, math.sqrt(((times - means[:, None]) ** 2).sum() / dof), dof


def by_hand() -> tuple[float, float, float, float]:
    """One experiment, vectorised by hand: the same distributions, line by effective variances, mean, u, shortest interval."""
    lengths, means, s, dof = _readings()
    draw = np.random.default_rng(1)
    n = len(lengths)
    x = lengths + draw.normal(0, 1e-3, (DRAWS, n)) + draw.uniform(-5e-4, 5e-4, (DRAWS, n))
    x = x * (1 + draw.normal(0, 2e-4, (DRAWS, 1))) + draw.normal(0, 3e-4, (DRAWS, 1))
    scale = np.sqrt(dof / draw.chisquare(dof, (DRAWS, 1)))
    t = (means + draw.normal(0, s / math.sqrt(5), (DRAWS, n)) * scale) * (1 + draw.normal(0, 2e-5, (DRAWS, 1)))
    y = (t / N) ** 2
    u_y = 2 * means / N**2 * s / math.sqrt(5)
    w = 1 / (u_y**2 + (4 * math.pi**2 / 9.81) ** 2 * (1e-6 + 1e-6 / 12))
    x_mean, y_mean = (w * x).sum(axis=1) / w.sum(), (w * y).sum(axis=1) / w.sum()
    dx = x - x_mean[:, None]
    g = 4 * math.pi**2 * (w * dx * dx).sum(axis=1) / (w * dx * (y - y_mean[:, None])).sum(axis=1)
    ordered = np.sort(g)
    held = round(0.95 * DRAWS)
    at = int(np.argmin(ordered[held:] - ordered[: DRAWS - held]))
    return float(g.mean()), float(g.std(ddof=1)), float(ordered[at]), float(ordered[at + held])


def against_hand() -> Row:
    """Monte Carlo through the engine against the hand-written script."""
    analysis = analyse(line_alone(), document())
    what = "Monte Carlo, 100 000 draws, against NumPy by hand"
    return compare(what, lambda: monte_carlo(analysis, DRAWS), by_hand, "within 1.5×", 1.5, rounds=9)


def against_loop(draws: int = 1000) -> Row:
    """The same against a loop of curve fits over draws, extrapolated."""
    analysis = analyse(line_alone(), document())
    lengths, means, s, _ = _readings()
    u_y = 2 * means / N**2 * s / math.sqrt(5)
    draw = np.random.default_rng(1)
    began = time.perf_counter()
    for _ in range(draws):
        x = lengths + draw.normal(0, 1e-3, len(lengths))
        y = ((means + draw.normal(0, s / math.sqrt(5), len(lengths))) / N) ** 2
        curve_fit(lambda v, a, b: a * v + b, x, y, sigma=u_y)
    loop = (time.perf_counter() - began) * DRAWS / draws
    began = time.perf_counter()
    monte_carlo(analysis, DRAWS)
    return Row(
        "the same, against a loop of curve_fit (extrapolated)",
        time.perf_counter() - began,
        loop,
        "200× faster",
        1 / 200,
    )
