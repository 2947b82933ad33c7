"""The line through points: with its band, a gradient triangle, other parts next to it, and the residuals under it on the same x."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.quantity.rounding import MINUS
from cavrel.graph import svg
from cavrel.graph.points import (
    RADIUS,
    Axis,
    Mark,
    bar,
    drawn,
    enlarged,
    framed,
    grid,
    key_to,
    left_of,
    magnified,
    outline,
    point,
    span,
    with_bars,
)
from cavrel.graph.scale import Scale, fit_scale

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class FittedLine:
    """The line over ``x`` ``(n,)``: ``y``, half-width of its 95 % band ``band``, and for each fitted mark its residual and the
    standard uncertainty of that, error bars along x included. ``extremes``: y over the same x of the steepest and shallowest lines;
    ``single``: half-width of the band in which single readings lie; ``touch``: where a tangent touches, which can be dragged along x."""

    x: Array
    y: Array
    band: Array
    residuals: Sequence[tuple[Mark, float, float]]
    extremes: Sequence[Array] = ()
    triangle: "Triangle | None" = None
    single: Array | None = None
    touch: tuple[float, float] | None = None


@dataclass(frozen=True, slots=True)
class Triangle:
    """A gradient triangle: two places on the line, read off, in the axes' units."""

    x: tuple[float, float]
    y: tuple[float, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class OtherPoints:
    """Another part in the same picture, in its axes' units: its ``name``, its ``marks``, and its line ``y`` ``(n,)`` over ``x`` ``(n,)``, empty
    where it has none."""

    name: str
    marks: Sequence[Mark]
    x: Array
    y: Array


LETTER = 7.0
"""Pixels that a letter of an axis takes, as a rule."""


def _other_points(
    others: Sequence[OtherPoints], fitted: "FittedLine | None", x: Scale, y: Scale
) -> tuple[str, str, str]:
    """Lines, marks and names of other parts, told apart by shape; a name stands at the last mark, away from the ``fitted`` line."""
    lines, marks, names = [], [], []
    for index, other in enumerate(others):
        sound = np.isfinite(other.x) & np.isfinite(other.y)
        if sound.any():
            lines.append(svg.polyline(drawn(x, y, other.x[sound], other.y[sound]), "other-line"))
        for mark in other.marks:
            px, py = x.at(mark.x), y.at(mark.y)
            up = abs(y.at(mark.y + mark.u_y) - py) if math.isfinite(mark.u_y) and mark.state != "out" else 0.0
            reach = bar(px, py - up, px, py + up, 3.0) if up > RADIUS * 1.4 else ""
            strike = svg.line(px - 7, py + 7, px + 7, py - 7, "strike") if mark.state == "out" else ""
            marks.append(reach + outline(index, px, py, "other-mark") + strike)
        if not other.marks and not sound.any():
            continue
        ends = [(mark.x, mark.y) for mark in other.marks] or list(zip(other.x[sound], other.y[sound], strict=True))
        last_x, last_y = max(ends)
        px, py = x.at(last_x), y.at(last_y)
        right = px > (x.start + x.end) / 2
        below = fitted is not None and float(np.interp(last_x, fitted.x, fitted.y)) > last_y
        at = py + (20 if below else -10)
        names.append(svg.words(px + (4 if right else -4), at, other.name, "other-name", "end" if right else "start"))
    shapes, said = (svg.tag("g", *found, aria_hidden="true") for found in (marks, names))
    return "".join(lines), shapes, said


def straight_line(
    marks: Sequence[Mark],
    x_axis: Axis,
    y_axis: Axis,
    fitted: FittedLine | None,
    title: str,
    others: Sequence[OtherPoints] = (),
    signs: Sequence[str] = (),
    width: float = 470,
    height: float = 540,
) -> tuple[str, tuple[int, int], bool]:
    """The readings on chosen axes, the fitted line with its band, residuals underneath.

    ``others``: parts that stand next to it; ``signs``: what each sign of a mark stands for. Returns the SVG, how many times the error bars
    along x and y are drawn larger than they are, which it says, and whether they still hide behind dots.
    """
    every = [*marks, *(m for other in others for m in other.marks)]
    xs, ys = np.array([m.x for m in every]), np.array([m.y for m in every])
    strip = 92.0 if fitted is not None else 0.0
    y = fit_scale(*with_bars(every, ys), height - 46 - strip, 10.0, 6)
    low, high = span(xs)
    # Rows are counted, and the last of them stands inside the frame.
    x = fit_scale(low, high + 0.5 if x_axis.symbol == "row" else high, left_of(y, 58.0), width - 12, 6)
    times = magnified(marks, x, y)
    parts = [grid(x, y, x_labels=fitted is None)]
    lines, shapes, names = _other_points(others, fitted, x, y) if others else ("", "", "")
    if lines:
        parts.append(framed(x, y, lines))
    if fitted is not None:
        sound = np.isfinite(fitted.y) & np.isfinite(fitted.band)
        along, up, band = fitted.x[sound], fitted.y[sound], fitted.band[sound]
        upper, lower = drawn(x, y, along, up + band), drawn(x, y, along, up - band)
        line = svg.polyline(drawn(x, y, along, up), "fit")
        steep = [svg.polyline(drawn(x, y, along, other[sound]), "extreme") for other in fitted.extremes]
        if fitted.single is not None:
            wide = fitted.single[sound]
            steep += [svg.polyline(drawn(x, y, along, up + side * wide), "single") for side in (1, -1)]
        parts.append(framed(x, y, svg.area(upper + lower[::-1], "band"), *steep, line))
        if fitted.triangle is not None:
            parts.append(_triangle(fitted.triangle, x, y))
    parts.append(shapes)
    parts += [point(m, x, y, times) for m in marks]
    parts.append(names)
    if fitted is not None and fitted.touch is not None:
        parts.append(_touch(fitted.touch, x, y, x_axis))
    if LETTER * len(f"{y_axis.word} {y_axis.symbol} / {y_axis.unit}") > y.start - y.end:
        y_axis = replace(y_axis, word="")  # the letter says it where there is no room for words
    parts.append(svg.rich(0, 0, y_axis.pieces(y), transform=f"translate(13 {(y.start + y.end) / 2:.1f}) rotate(-90)"))
    if fitted is not None:
        parts.append(_residuals(fitted, x, y_axis, height, strip))
    parts.append(svg.rich((x.start + x.end) / 2, height - 6, x_axis.pieces(x)))
    rising = len(xs) > 1 and np.ptp(xs) > 0 and float(np.polyfit(xs - xs.mean(), ys - ys.mean(), 1)[0]) > 0
    if len(signs) > 1:
        parts.append(key_to(signs, x.start + 16, y.end + 14 if rising else y.start - 18 * len(signs)))
    if said := enlarged(times):
        # In the corner that the points leave free.
        at = (x.end - 4, y.start - 8, "end") if rising else (x.end - 4, y.end + 14, "end")
        parts.append(svg.words(at[0], at[1], said, "note", at[2]))
    typical = float(np.median([abs(y.at(m.y + m.u_y) - y.at(m.y)) for m in marks])) if marks else math.inf
    return svg.drawing(width, height, title, *parts), times, times[1] * typical < RADIUS


def _touch(at: tuple[float, float], x: Scale, y: Scale, x_axis: Axis) -> str:
    """Where a tangent touches, as a handle that moves along x: by hand, or by the arrow keys."""
    px, py = x.at(at[0]), y.at(at[1])
    return svg.tag(
        "g",
        svg.circle(px, py, 14.0, "hit"),
        svg.circle(px, py, 6.5, "handle"),
        class_="touch",
        tabindex=0,
        role="slider",
        aria_label=f"The tangent touches at {x_axis.word or x_axis.symbol}",
        aria_valuenow=f"{at[0]:.6g}",
        aria_valuemin=f"{x.low:.6g}",
        aria_valuemax=f"{x.high:.6g}",
        aria_valuetext=f"{at[0]:.4g} {x_axis.unit}".strip(),
        data_start=f"{x.start:.2f}",
        data_end=f"{x.end:.2f}",
    )


def _triangle(found: Triangle, x: Scale, y: Scale) -> str:
    """The triangle with its corners' values next to them."""
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
        ring = svg.circle(px, py, 8.0, "ring") if mark.state == "suspect" else ""
        parts.append(ring + svg.circle(px, py, 3.4, "dot"))
    return svg.tag("g", *parts, aria_hidden="true")
