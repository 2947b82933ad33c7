"""A trace of samples on graph paper: tens of thousands of points drawn as what the eye would see of them."""

import numpy as np
from numpy.typing import NDArray

from cavrel.graph import svg
from cavrel.graph.points import Axis, grid, span
from cavrel.graph.scale import Scale, fit_scale

Array = NDArray[np.float64]


def envelope(t: Array, values: Array, x: Scale) -> tuple[Array, Array]:
    """At most four samples for each pixel column: the first, lowest, highest and last in it, in their order."""
    good = np.isfinite(values) & np.isfinite(t)
    t, values = t[good], values[good]
    pixels = int(abs(x.end - x.start)) + 1
    if len(t) <= 4 * pixels:
        return t, values
    column = np.floor((t - x.low) / (x.high - x.low) * pixels).astype(np.intp)
    edges = np.flatnonzero(np.diff(column, prepend=column[0] - 1))
    ends = np.append(edges[1:], len(t)) - 1
    low = np.minimum.reduceat(values, edges)
    high = np.maximum.reduceat(values, edges)
    times = np.stack([t[edges], t[edges], t[edges], t[ends]], axis=1).ravel()
    levels = np.stack([values[edges], low, high, values[ends]], axis=1).ravel()
    return times, levels


def drawing(
    t: Array,
    values: Array,
    stretch: tuple[float, float] | None,
    fitted: tuple[Array, Array] | None,
    x_axis: Axis,
    y_axis: Axis,
    title: str,
    width: float = 770,
    height: float = 260,
) -> str:
    """The samples ``values`` over ``t`` ``(n,)``, the chosen ``stretch``, and the fitted line over it."""
    x = fit_scale(*span(t), 58.0, width - 12, 8, zero=False)
    y = fit_scale(*span(values), height - 44, 12.0, 4)
    parts = [grid(x, y)]
    if stretch is not None:
        left, right = x.at(max(stretch[0], x.low)), x.at(min(stretch[1], x.high))
        parts.append(
            svg.tag("rect", x=left, y=12.0, width=max(right - left, 0.0), height=y.start - 12.0, class_="stretch")
        )
    times, levels = envelope(t, values, x)
    px = x.start + (times - x.low) / (x.high - x.low) * (x.end - x.start)
    py = y.start + (levels - y.low) / (y.high - y.low) * (y.end - y.start)
    parts.append(svg.polyline(list(zip(px.tolist(), py.tolist(), strict=True)), "trace"))
    if fitted is not None:
        parts.append(svg.polyline([(x.at(a), y.at(b)) for a, b in zip(*fitted, strict=True)], "fit"))
    parts.append(svg.rich((x.start + x.end) / 2, height - 6, x_axis.pieces(x)))
    parts.append(svg.rich(0, 0, y_axis.pieces(y), transform=f"translate(13 {(y.start + y.end) / 2:.1f}) rotate(-90)"))
    return svg.drawing(
        width,
        height,
        title,
        *parts,
        data_start=x.start,
        data_end=x.end,
        data_low=repr(x.low),
        data_high=repr(x.high),
    )
