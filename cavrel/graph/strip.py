"""A graph the size of a stamp: points and their straight line, to be told apart at a glance."""

import numpy as np
from numpy.typing import NDArray

from cavrel.graph import svg

Array = NDArray[np.float64]

WIDTH, HEIGHT, _EDGE = 112.0, 74.0, 7.0


def stamp(x: Array, y: Array, slope: float, intercept: float, title: str) -> str:
    """Points ``(n,)`` and the line through them, without numbers."""
    ends = np.array([x.min(), x.max()])
    line = intercept + slope * ends
    low, high = float(min(y.min(), line.min())), float(max(y.max(), line.max()))
    wide, tall = float(np.ptp(x)) or 1.0, (high - low) or 1.0

    def at(a: float, b: float) -> tuple[float, float]:
        return (
            _EDGE + (a - float(x.min())) / wide * (WIDTH - 2 * _EDGE),
            HEIGHT - _EDGE - (b - low) / tall * (HEIGHT - 2 * _EDGE),
        )

    parts = [svg.polyline([at(float(a), float(b)) for a, b in zip(ends, line, strict=True)], "fit")]
    shown = range(len(x)) if len(x) <= 60 else np.linspace(0, len(x) - 1, 60).astype(int).tolist()
    for i in shown:
        px, py = at(float(x[i]), float(y[i]))
        parts.append(svg.circle(px, py, 2.4, "dot"))
    return svg.drawing(WIDTH, HEIGHT, title, *parts, class_="graph stamp", role="img")
