"""Points on graph paper: readings with error bars, the fitted line with its band, residuals under it on the same x."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

import numpy as np
from numpy.typing import NDArray

from cavrel.core.words import counted
from cavrel.graph import svg
from cavrel.graph.scale import Scale, fit_scale

Array = NDArray[np.float64]

RADIUS = 4.4
MAGNIFICATIONS = (2, 5, 10, 20)
_SHOWN_BAR = 9.0
"""Pixels. Error bars shorter than a dot is wide are drawn magnified, and the page says by how much; where twenty times would
not do, magnifying would mislead, and the residuals alone show them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Mark:
    """One reading in a graph.

    ``x``: in the unit of its axis.
    ``y``: in the unit of its axis.
    ``u_x``: standard uncertainty of x.
    ``u_y``: standard uncertainty of y.
    ``at``: links it to the margin.
    ``label``: what a screen reader says.
    ``state``: ``read``, ``out`` or ``suspect``.
    ``sign``: which of `SIGNS` it is drawn as, 0 for a dot.
    """

    x: float
    y: float
    u_x: float
    u_y: float
    at: str
    label: str
    state: str = "read"
    sign: int = 0


@dataclass(frozen=True, slots=True)
class Axis:
    """What stands next to an axis: a word, a symbol in italics, the unit."""

    word: str
    symbol: str
    unit: str

    def pieces(self, scale: Scale) -> list[tuple[str, str]]:
        unit = scale.unit(self.unit)
        return [
            ("", f"{self.word}\u00a0" if self.word else ""),
            ("sym", self.symbol),
            ("", f"\u00a0/ {unit}" if unit else ""),
        ]


def magnification(sizes: Sequence[float]) -> int:
    """By how much to draw error bars of these lengths, in pixels, longer, so that the typical one shows next to its dot; 1 where they show
    anyway."""
    bars = [size for size in sizes if size > 0]
    if not bars:
        return 1
    typical = float(np.median(bars))
    if typical >= RADIUS + 1:
        return 1
    return next((m for m in MAGNIFICATIONS if typical * m >= _SHOWN_BAR), 1)


def magnified(marks: Sequence[Mark], x: Scale, y: Scale) -> tuple[int, int]:
    """The factors for bars along x and along y: each axis has its own."""
    seen = [m for m in marks if m.state != "out"]
    return (
        magnification([abs(x.at(m.x + m.u_x) - x.at(m.x)) for m in seen]),
        magnification([abs(y.at(m.y + m.u_y) - y.at(m.y)) for m in seen]),
    )


def enlarged(times: tuple[int, int]) -> str:
    """What a picture says of bars that are drawn longer than they are, empty where none are."""
    said = [f"{n} times along {axis}" for n, axis in zip(times, ("x", "y"), strict=True) if n > 1]
    return f"error bars enlarged: {', '.join(said)}" if said else ""


def point(mark: Mark, x: Scale, y: Scale, times: tuple[int, int] = (1, 1), linked: bool = True) -> str:
    """A filled dot with error bars; hollow with a stroke through where left out; in a dashed ring where suspected."""
    px, py = x.at(mark.x), y.at(mark.y)
    parts = []
    up, right = abs(y.at(mark.y + times[1] * mark.u_y) - py), abs(x.at(mark.x + times[0] * mark.u_x) - px)
    if mark.state != "out":
        if up > RADIUS * 0.6:
            parts.append(bar(px, max(py - up, min(y.start, y.end)), px, min(py + up, max(y.start, y.end)), 4.0))
        if right > RADIUS * 0.6:
            parts.append(bar(max(px - right, x.start), py, min(px + right, x.end), py, 4.0))
    if mark.state == "suspect":
        parts.append(svg.circle(px, py, 10.0, "ring"))
    look = "dot hollow" if mark.state == "out" else "dot"
    parts.append(outline(mark.sign - 1, px, py, look) if mark.sign else svg.circle(px, py, RADIUS, look))
    if mark.state == "out":
        parts.append(svg.line(px - 7, py + 7, px + 7, py - 7, "strike"))
    if not linked:
        return svg.tag("g", *parts, class_="pt")
    return svg.tag(
        "g",
        svg.circle(px, py, 14.0, "hit"),
        *parts,
        class_=f"pt {mark.state}",
        tabindex=0,
        role="button",
        data_at=mark.at,
        data_state=mark.state,
        aria_label=mark.label,
    )


SIGNS = {
    "square": ((-4.2, -4.2), (4.2, -4.2), (4.2, 4.2), (-4.2, 4.2), (-4.2, -4.2)),
    "triangle": ((0, -5.4), (5, 3.8), (-5, 3.8), (0, -5.4)),
    "diamond": ((0, -5.6), (5.6, 0), (0, 5.6), (-5.6, 0), (0, -5.6)),
    "cross": ((-4.2, -4.2), (4.2, 4.2), (0, 0), (4.2, -4.2), (-4.2, 4.2)),
}
"""Outlines of what is no dot, about its place; after the last the first comes again."""


def outline(index: int, px: float, py: float, class_: str) -> str:
    """One of the `SIGNS` at a place."""
    signs = list(SIGNS.values())
    return svg.polyline([(px + dx, py + dy) for dx, dy in signs[index % len(signs)]], class_)


def key_to(signs: Sequence[str], x: float, y: float) -> str:
    """What each sign stands for, the dot first, one under the other."""
    parts = []
    for i, word in enumerate(signs):
        py = y + 18 * i
        parts.append(outline(i - 1, x, py, "dot") if i else svg.circle(x, py, RADIUS, "dot"))
        parts.append(svg.words(x + 12, py + 4, word, "note", "start"))
    return svg.tag("g", *parts, aria_hidden="true")


def bar(x1: float, y1: float, x2: float, y2: float, cap: float) -> str:
    if x1 == x2:
        return svg.line(x1, y1, x2, y2, "bar") + "".join(svg.line(x1 - cap, y, x1 + cap, y, "bar") for y in (y1, y2))
    return svg.line(x1, y1, x2, y2, "bar") + "".join(svg.line(x, y1 - cap, x, y1 + cap, "bar") for x in (x1, x2))


def grid(x: Scale, y: Scale, x_labels: bool = True) -> str:
    """Ruled paper, ticks and their numbers."""
    parts = [svg.line(x.at(v), y.start, x.at(v), y.end, "rule") for v in x.ticks()]
    parts += [svg.line(x.start, y.at(v), x.end, y.at(v), "rule") for v in y.ticks()]
    parts += [svg.words(x.start - 8, y.at(v) + 4, y.text(v), "tick", "end") for v in y.ticks()]
    if x_labels:
        parts += [svg.words(x.at(v), y.start + 17, x.text(v), "tick") for v in x.ticks()]
    parts += [svg.line(x.start, y.start, x.end, y.start, "axis"), svg.line(x.start, y.start, x.start, y.end, "axis")]
    return svg.tag("g", *parts, aria_hidden="true")


def span(values: Array) -> tuple[float, float]:
    finite = values[np.isfinite(values)]
    return (float(finite.min()), float(finite.max())) if len(finite) else (0.0, 1.0)


def with_bars(marks: Sequence[Mark], ys: Array) -> tuple[float, float]:
    """The span of values with their error bars; a suspected or left-out row may be uncertain a hundredfold and has no say by its bar."""
    ends = [m.y + side * m.u_y for m in marks if m.state == "read" and math.isfinite(m.u_y) for side in (-1, 1)]
    return span(np.array([*ys, *ends]))


def left_of(y: Scale, least: float) -> float:
    """Where the graph begins, so that the numbers of ``y`` leave room for the axis's label."""
    return max(least, 31.0 + 7.3 * max((len(y.text(v)) for v in y.ticks()), default=0))


def framed(x: Scale, y: Scale, *parts: str) -> str:
    """Curves as far as they lie within the axes: what leaves the frame ends at its edge."""
    left, top = min(x.start, x.end), min(y.start, y.end)
    width, height = abs(x.end - x.start), abs(y.end - y.start)
    box = f"{left:.1f} {top:.1f} {width:.1f} {height:.1f}"
    return svg.tag("svg", *parts, x=left, y=top, width=width, height=height, viewBox=box, class_="framed")


_FAR_OUT = 1e4


def drawn(x: Scale, y: Scale, xs: Array, ys: Array) -> list[tuple[float, float]]:
    """Points of a curve in the drawing's units, those far outside the frame no farther than a drawing can hold."""
    at = ((x.at(a), y.at(b)) for a, b in zip(xs, ys, strict=True))
    return [(min(max(px, -_FAR_OUT), _FAR_OUT), min(max(py, -_FAR_OUT), _FAR_OUT)) for px, py in at]


def raw_curve(
    marks: Sequence[Mark],
    x_axis: Axis,
    y_axis: Axis,
    theory: tuple[Array, Array] | None,
    title: str,
    width: float = 300,
    height: float = 400,
) -> str:
    """The readings as they were taken, with the law's curve as a thin dashed line."""
    xs, ys = np.array([m.x for m in marks]), np.array([m.y for m in marks])
    y = fit_scale(*with_bars(marks, ys), height - 46, 12.0, 5)
    x = fit_scale(*span(xs), left_of(y, 54.0), width - 12, 4)
    parts = [grid(x, y)]
    if theory is not None:
        inside = (theory[1] >= y.low) & (theory[1] <= y.high) & (theory[0] <= x.high)
        parts.append(
            svg.polyline(
                [(x.at(a), y.at(b)) for a, b in zip(theory[0][inside], theory[1][inside], strict=True)], "theory"
            )
        )
    parts += [point(m, x, y) for m in marks]
    parts.append(svg.rich((x.start + x.end) / 2, height - 6, x_axis.pieces(x)))
    parts.append(svg.rich(0, 0, y_axis.pieces(y), transform=f"translate(13 {(y.start + y.end) / 2:.1f}) rotate(-90)"))
    return svg.drawing(width, height, title, *parts)


MOST_TARGETS = 120
"""With more points than this the small graph has no room to aim at one: only those that are left out or suspected can be pressed there."""


def small(
    marks: Sequence[Mark], x_axis: Axis, y_axis: Axis, title: str, width: float = 236, height: float = 172
) -> str:
    """The small live graph next to the table."""
    if not marks:
        empty = svg.words(width / 2, height / 2, "The first full row draws a point here.", "note")
        x, y = fit_scale(0, 1, 36.0, width - 8, 2), fit_scale(0, 1, height - 24, 26.0, 2)
        frame = svg.line(x.start, y.start, x.end, y.start, "axis") + svg.line(x.start, y.start, x.start, y.end, "axis")
        return svg.drawing(width, height, title, frame, empty)
    xs, ys = np.array([m.x for m in marks]), np.array([m.y for m in marks])
    x = fit_scale(*span(xs), 36.0, width - 8, 3)
    y = fit_scale(*span(ys), height - 24, 26.0, 2)
    many = len(marks) > MOST_TARGETS
    parts = [grid(x, y)] + [point(m, x, y, linked=not many or m.state != "read") for m in marks]
    unit_y, unit_x = y.unit(y_axis.unit), x.unit(x_axis.unit)
    parts.append(svg.rich(6, 12, [("sym", y_axis.symbol), ("", f"\u00a0in {unit_y}" if unit_y else "")], "start"))
    parts.append(
        svg.rich(
            width - 6,
            12,
            [("", "against\u00a0"), ("sym", x_axis.symbol), ("", f"\u00a0in {unit_x}" if unit_x else "")],
            "end",
        )
    )
    return svg.drawing(width, height, title, *parts)


def described(title: str, marks: Sequence[Mark], line: str = "") -> str:
    """What a screen reader says of a graph: its axes, its points, the fitted ``line`` in words, and which points are left out or suspected."""
    said = [f"{title}, {counted(len(marks), 'point')}", *([line] if line else [])]
    for state, words in (("out", "left out"), ("suspect", "to check")):
        found = [mark.label.partition(":")[0].lower() for mark in marks if mark.state == state]
        said += [f"{words}: {', '.join(found)}"] if found else []
    return escape("; ".join(said))
