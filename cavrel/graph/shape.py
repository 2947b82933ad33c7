"""The distribution of a result from draws of its readings, with the normal distribution of the law of propagation."""

import numpy as np
from numpy.typing import NDArray

from cavrel.graph import svg
from cavrel.graph.scale import fit_scale

Array = NDArray[np.float64]

WIDTH, HEIGHT, _BINS = 470.0, 150.0, 48


def shape(draws: Array, value: float, u: float, interval: tuple[float, float], unit: str, title: str) -> str:
    """A histogram of ``draws`` ``(n,)`` in the result's unit, the bell of ``value`` and ``u`` (none where u is not finite), and the shortest
    interval that holds 95 % of the draws as a bar under it."""
    low, high = np.quantile(draws, [0.0015, 0.9985])
    low, high = min(float(low), interval[0]), max(float(high), interval[1])
    counts, edges = np.histogram(draws, bins=_BINS, range=(low, high), density=True)
    top = float(counts.max())
    x = fit_scale(low, high, 12.0, WIDTH - 12, 6, zero=False)
    floor, ceiling = HEIGHT - 40, 8.0

    def up(height: float) -> float:
        return floor - (floor - ceiling) * height / top

    parts = []
    for count, a, b in zip(counts.tolist(), edges[:-1].tolist(), edges[1:].tolist(), strict=True):
        if count > 0:
            parts.append(
                svg.tag(
                    "rect",
                    x=x.at(a),
                    y=up(count),
                    width=max(x.at(b) - x.at(a) - 0.8, 0.5),
                    height=floor - up(count),
                    class_="draws",
                )
            )
    if np.isfinite(u) and u > 0:
        grid = np.linspace(low, high, 120)
        bell = np.exp(-0.5 * ((grid - value) / u) ** 2) / (u * np.sqrt(2 * np.pi))
        parts.append(
            svg.polyline([(x.at(float(a)), max(up(float(b)), 1.0)) for a, b in zip(grid, bell, strict=True)], "theory")
        )
    parts.append(svg.line(x.start, floor, x.end, floor, "axis"))
    parts.append(svg.line(x.at(interval[0]), floor + 5, x.at(interval[1]), floor + 5, "held"))
    parts += [svg.words(x.at(v), floor + 22, x.text(v), "tick") for v in x.ticks()]
    parts.append(svg.words(x.end, HEIGHT - 4, x.unit(unit), "note", "end"))
    return svg.drawing(WIDTH, HEIGHT, title, *parts, class_="graph distribution", role="img")
