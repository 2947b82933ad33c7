"""Points on graph paper: readings with error bars, the fitted line with its band, residuals under it on the same x."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

import numpy as np
from numpy.typing import NDArray

from cavrel.core.quantity.rounding import MINUS
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
    """

    x: float
    y: float
    u_x: float
    u_y: float
    at: str
    label: str
    state: str = "read"


@dataclass(frozen=True, slots=True)
class Axis:
    """What stands beside an axis: a word, a symbol in italics, the unit."""

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


def magnification(marks: Sequence[Mark], y: Scale) -> int:
    """By how much to draw error bars longer, so that the typical one shows beside its dot; 1 where they show anyway."""
    bars = [abs(y.at(m.y + m.u_y) - y.at(m.y)) for m in marks if m.state != "out" and m.u_y > 0]
    if not bars:
        return 1
    typical = float(np.median(bars))
    if typical >= RADIUS + 1:
        return 1
    return next((m for m in MAGNIFICATIONS if typical * m >= _SHOWN_BAR), 1)


def point(mark: Mark, x: Scale, y: Scale, times: float = 1.0, linked: bool = True) -> str:
    """A filled dot with error bars; hollow with a stroke through where left out; in a dashed ring where suspected."""
    px, py = x.at(mark.x), y.at(mark.y)
    parts = []
    up, right = abs(y.at(mark.y + times * mark.u_y) - py), abs(x.at(mark.x + times * mark.u_x) - px)
    if mark.state != "out":
        if up > RADIUS * 0.6:
            parts.append(_bar(px, max(py - up, min(y.start, y.end)), px, min(py + up, max(y.start, y.end)), 4.0))
        if right > RADIUS * 0.6:
            parts.append(_bar(max(px - right, x.start), py, min(px + right, x.end), py, 4.0))
    if mark.state == "suspect":
        parts.append(svg.tag("circle", cx=px, cy=py, r=10.0, class_="ring"))
    parts.append(svg.tag("circle", cx=px, cy=py, r=RADIUS, class_="dot hollow" if mark.state == "out" else "dot"))
    if mark.state == "out":
        parts.append(svg.line(px - 7, py + 7, px + 7, py - 7, "strike"))
    if not linked:
        return svg.tag("g", *parts, class_="pt")
    return svg.tag(
        "g",
        svg.tag("circle", cx=px, cy=py, r=14.0, class_="hit"),
        *parts,
        class_=f"pt {mark.state}",
        tabindex=0,
        role="button",
        data_at=mark.at,
        data_state=mark.state,
        aria_label=mark.label,
    )


def _bar(x1: float, y1: float, x2: float, y2: float, cap: float) -> str:
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


def _with_bars(marks: Sequence[Mark], ys: Array) -> tuple[float, float]:
    """The span of values with their error bars; a suspected or left-out row may be uncertain a hundredfold and has no say by its bar."""
    ends = [m.y + side * m.u_y for m in marks if m.state == "read" and math.isfinite(m.u_y) for side in (-1, 1)]
    return span(np.array([*ys, *ends]))


def _left(y: Scale, least: float) -> float:
    """Where the graph begins, so that the numbers of ``y`` leave room for the axis's label."""
    return max(least, 31.0 + 7.3 * max((len(y.text(v)) for v in y.ticks()), default=0))


def _framed(x: Scale, y: Scale, *parts: str) -> str:
    """Curves as far as they lie within the axes: what leaves the frame ends at its edge."""
    left, top = min(x.start, x.end), min(y.start, y.end)
    width, height = abs(x.end - x.start), abs(y.end - y.start)
    box = f"{left:.1f} {top:.1f} {width:.1f} {height:.1f}"
    return svg.tag("svg", *parts, x=left, y=top, width=width, height=height, viewBox=box, class_="framed")


_FAR_OUT = 1e4


def _drawn(x: Scale, y: Scale, xs: Array, ys: Array) -> list[tuple[float, float]]:
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
    y = fit_scale(*_with_bars(marks, ys), height - 46, 12.0, 5)
    x = fit_scale(*span(xs), _left(y, 54.0), width - 12, 4)
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


@dataclass(frozen=True, slots=True)
class FittedLine:
    """The line over ``x`` ``(n,)``: ``y``, half-width of its 95 % band ``band``, and for each fitted mark its residual and the
    standard uncertainty of that, error bars along x included. ``extremes``: y over the same x of the steepest and shallowest lines;
    ``single``: half-width of the band in which single readings lie."""

    x: Array
    y: Array
    band: Array
    residuals: Sequence[tuple[Mark, float, float]]
    extremes: Sequence[Array] = ()
    triangle: "Triangle | None" = None
    single: Array | None = None


@dataclass(frozen=True, slots=True)
class Triangle:
    """A gradient triangle: two places on the line, read off, in the axes' units."""

    x: tuple[float, float]
    y: tuple[float, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class Beside:
    """Another part in the same picture, in its axes' units: its ``name``, its ``marks``, and its line ``y`` ``(n,)`` over ``x`` ``(n,)``, empty
    where it has none."""

    name: str
    marks: Sequence[Mark]
    x: Array
    y: Array


_SHAPES = ("square", "triangle", "diamond", "cross")
_OUTLINES = {
    "square": ((-4.2, -4.2), (4.2, -4.2), (4.2, 4.2), (-4.2, 4.2), (-4.2, -4.2)),
    "triangle": ((0, -5.4), (5, 3.8), (-5, 3.8), (0, -5.4)),
    "diamond": ((0, -5.6), (5.6, 0), (0, 5.6), (-5.6, 0), (0, -5.6)),
    "cross": ((-4.2, -4.2), (4.2, 4.2), (0, 0), (4.2, -4.2), (-4.2, 4.2)),
}


def _shape(index: int, px: float, py: float) -> str:
    outline = _OUTLINES[_SHAPES[index % len(_SHAPES)]]
    return svg.polyline([(px + dx, py + dy) for dx, dy in outline], "beside-mark")


def _beside(others: Sequence[Beside], fitted: "FittedLine | None", x: Scale, y: Scale) -> tuple[str, str, str]:
    """Lines, marks and names of other parts, told apart by shape; a name stands at the last mark, away from the ``fitted`` line."""
    lines, marks, names = [], [], []
    for index, other in enumerate(others):
        sound = np.isfinite(other.x) & np.isfinite(other.y)
        if sound.any():
            lines.append(svg.polyline(_drawn(x, y, other.x[sound], other.y[sound]), "beside-line"))
        for mark in other.marks:
            px, py = x.at(mark.x), y.at(mark.y)
            up = abs(y.at(mark.y + mark.u_y) - py) if math.isfinite(mark.u_y) and mark.state != "out" else 0.0
            bar = _bar(px, py - up, px, py + up, 3.0) if up > RADIUS * 1.4 else ""
            strike = svg.line(px - 7, py + 7, px + 7, py - 7, "strike") if mark.state == "out" else ""
            marks.append(bar + _shape(index, px, py) + strike)
        last = max(other.marks, key=lambda mark: mark.x)
        px, py = x.at(last.x), y.at(last.y)
        right = px > (x.start + x.end) / 2
        below = fitted is not None and float(np.interp(last.x, fitted.x, fitted.y)) > last.y
        at = py + (20 if below else -10)
        names.append(svg.words(px + (4 if right else -4), at, other.name, "beside-name", "end" if right else "start"))
    shapes, said = (svg.tag("g", *found, aria_hidden="true") for found in (marks, names))
    return "".join(lines), shapes, said


def straight_line(
    marks: Sequence[Mark],
    x_axis: Axis,
    y_axis: Axis,
    fitted: FittedLine | None,
    title: str,
    others: Sequence[Beside] = (),
    width: float = 470,
    height: float = 540,
) -> tuple[str, int, bool]:
    """The readings on chosen axes, the fitted line with its band, residuals underneath; ``others``: parts that stand beside. Returns the SVG,
    how many times the error bars are drawn larger than they are, and whether they still hide behind the dots."""
    every = [*marks, *(m for other in others for m in other.marks)]
    xs, ys = np.array([m.x for m in every]), np.array([m.y for m in every])
    strip = 92.0 if fitted is not None else 0.0
    y = fit_scale(*_with_bars(every, ys), height - 46 - strip, 10.0, 6)
    low, high = span(xs)
    # Rows are counted, and the last of them stands inside the frame.
    x = fit_scale(low, high + 0.5 if x_axis.symbol == "row" else high, _left(y, 58.0), width - 12, 6)
    times = magnification(marks, y)
    parts = [grid(x, y, x_labels=fitted is None)]
    lines, shapes, names = _beside(others, fitted, x, y) if others else ("", "", "")
    if lines:
        parts.append(_framed(x, y, lines))
    if fitted is not None:
        sound = np.isfinite(fitted.y) & np.isfinite(fitted.band)
        along, up, band = fitted.x[sound], fitted.y[sound], fitted.band[sound]
        upper, lower = _drawn(x, y, along, up + band), _drawn(x, y, along, up - band)
        line = svg.polyline(_drawn(x, y, along, up), "fit")
        steep = [svg.polyline(_drawn(x, y, along, other[sound]), "extreme") for other in fitted.extremes]
        if fitted.single is not None:
            wide = fitted.single[sound]
            steep += [svg.polyline(_drawn(x, y, along, up + side * wide), "single") for side in (1, -1)]
        parts.append(_framed(x, y, svg.area(upper + lower[::-1], "band"), *steep, line))
        if fitted.triangle is not None:
            parts.append(_triangle(fitted.triangle, x, y))
    parts.append(shapes)
    parts += [point(m, x, y, times) for m in marks]
    parts.append(names)
    parts.append(svg.rich(0, 0, y_axis.pieces(y), transform=f"translate(13 {(y.start + y.end) / 2:.1f}) rotate(-90)"))
    if fitted is not None:
        parts.append(_residuals(fitted, x, y_axis, height, strip))
    parts.append(svg.rich((x.start + x.end) / 2, height - 6, x_axis.pieces(x)))
    typical = float(np.median([abs(y.at(m.y + m.u_y) - y.at(m.y)) for m in marks])) if marks else math.inf
    return svg.drawing(width, height, title, *parts), times, times * typical < RADIUS


def _triangle(found: Triangle, x: Scale, y: Scale) -> str:
    """The triangle with its corners' values beside them."""
    (x1, x2), (y1, y2) = found.x, found.y
    sides = svg.polyline([(x.at(x1), y.at(y1)), (x.at(x2), y.at(y1)), (x.at(x2), y.at(y2))], "triangle")
    rising = y2 > y1
    texts = [
        svg.words(
            (x.at(x1) + x.at(x2)) / 2,
            y.at(y1) + (16 if rising else -8),
            f"{(x2 - x1) / 10.0**x.exponent:.4g}",
            "corner",
        ),
        svg.words(
            x.at(x2) + 6,
            (y.at(y1) + y.at(y2)) / 2,
            f"{(y2 - y1) / 10.0**y.exponent:.3g}".replace("-", MINUS),
            "corner",
            "start",
        ),
    ]
    return svg.tag("g", sides, *texts, aria_hidden="true")


def _residuals(fitted: FittedLine, x: Scale, y_axis: Axis, height: float, strip: float) -> str:
    """Residuals with their true error bars on the same x."""
    # A suspected row may be uncertain a hundredfold; its bar is cut off so that the others can be seen.
    sound = [abs(r) + u for m, r, u in fitted.residuals if m.state != "suspect"]
    largest = max([1e-300, *sound, *(1.1 * abs(r) for _, r, _ in fitted.residuals)])
    y = fit_scale(-largest, largest, height - 46, height - 46 - strip + 22, 2, zero=False)
    limit = max(abs(y.low), abs(y.high))
    y = Scale(low=-limit, high=limit, step=limit, exponent=y.exponent, start=y.start, end=y.end)
    parts = [svg.line(x.at(v), y.start, x.at(v), y.end, "rule") for v in x.ticks()]
    parts += [
        svg.line(x.start, y.at(0.0), x.end, y.at(0.0), "zero"),
        svg.line(x.start, y.start, x.start, y.end, "axis"),
    ]
    parts += [
        svg.words(x.start - 8, y.at(v) + 4, ("+" if v > 0 else "") + y.text(v), "tick", "end")
        for v in (-limit, 0.0, limit)
    ]
    parts += [svg.words(x.at(v), y.start + 17, x.text(v), "tick") for v in x.ticks()]
    unit = y.unit(y_axis.unit)
    parts.append(svg.words(x.end, y.end - 6, f"residuals{f' in {unit}' if unit else ''}", "note", "end"))
    for mark, residual, u in fitted.residuals:
        px, py = x.at(mark.x), y.at(residual)
        up = abs(y.at(residual + u) - py)
        parts.append(svg.line(px, max(py - up, y.end), px, min(py + up, y.start), "bar"))
        ring = svg.tag("circle", cx=px, cy=py, r=8.0, class_="ring") if mark.state == "suspect" else ""
        parts.append(ring + svg.tag("circle", cx=px, cy=py, r=3.4, class_="dot"))
    return svg.tag("g", *parts, aria_hidden="true")


def small(
    marks: Sequence[Mark], x_axis: Axis, y_axis: Axis, title: str, width: float = 236, height: float = 172
) -> str:
    """The small live graph beside the table."""
    if not marks:
        empty = svg.words(width / 2, height / 2, "The first full row draws a point here.", "note")
        x, y = fit_scale(0, 1, 36.0, width - 8, 2), fit_scale(0, 1, height - 24, 26.0, 2)
        frame = svg.line(x.start, y.start, x.end, y.start, "axis") + svg.line(x.start, y.start, x.start, y.end, "axis")
        return svg.drawing(width, height, title, frame, empty)
    xs, ys = np.array([m.x for m in marks]), np.array([m.y for m in marks])
    x = fit_scale(*span(xs), 36.0, width - 8, 3)
    y = fit_scale(*span(ys), height - 24, 26.0, 2)
    parts = [grid(x, y)] + [point(m, x, y) for m in marks]
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


def described(title: str, marks: Sequence[Mark]) -> str:
    """What a screen reader says of a graph."""
    return escape(f"{title}, {counted(len(marks), 'point')}")
