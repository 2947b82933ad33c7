"""A trace of 100 000 samples: drawn, a stretch chosen, a line fitted."""

import numpy as np

from bench.ratio import Row, compare
from cavrel.core.analysis.trace import extract, sample_times
from cavrel.graph.points import Axis
from cavrel.graph.trace import drawing

SAMPLES = 100_000


def draw_choose_fit() -> Row:
    """All three against NumPy's polyfit on the stretch alone."""
    draw = np.random.default_rng(3)
    t = sample_times("50 Hz", 0.0, None, SAMPLES)
    values = 0.4 * t + draw.normal(0, 2.0, SAMPLES)
    begin, end = 200.0, 1800.0
    inside = (t >= begin) & (t <= end)
    x, y = t[inside], values[inside]

    def ours() -> str:
        found = extract("slope", t, values, begin, end)
        ends = np.array([begin, end])
        line = y.mean() + found.value * (ends - x.mean())
        return drawing(
            t, values, (begin, end), (ends, line), Axis("time", "t", "s"), Axis("speed", "v", "m/s"), "trace"
        )

    return compare(
        "trace of 100 000 samples: draw, choose, fit, against polyfit",
        ours,
        lambda: np.polyfit(x, y, 1),
        "within 5×",
        5.0,
        rounds=25,
    )
