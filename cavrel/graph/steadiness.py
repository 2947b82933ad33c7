"""Readings over time while they are watched, and the band they have to stay in."""

from collections.abc import Sequence

from cavrel.graph import svg
from cavrel.graph.scale import fit_scale

WIDTH, HEIGHT = 420.0, 130.0


def drawing(
    lines: Sequence[tuple[str, Sequence[tuple[float, float]]]],
    band: tuple[float, float, float] | None,
    unit: str,
    title: str,
) -> str:
    """``lines``: (name, (minutes, value) in ``unit``); ``band``: (since, low, high), None while nothing is steady."""
    points = [p for _, line in lines for p in line]
    values = [v for _, v in points] + ([band[1], band[2]] if band else [])
    x = fit_scale(0.0, max((t for t, _ in points), default=1.0) or 1.0, 52.0, WIDTH - 14, 6, zero=False)
    y = fit_scale(min(values, default=0.0), max(values, default=1.0), HEIGHT - 30, 10.0, 4, zero=False)
    parts = [svg.line(x.start, y.start, x.end, y.start, "axis"), svg.line(x.start, y.start, x.start, y.end, "axis")]
    for tick in x.ticks():
        parts.append(svg.words(x.at(tick), y.start + 15, x.text(tick), "tick"))
    for tick in y.ticks():
        parts += [
            svg.line(x.start, y.at(tick), x.end, y.at(tick), "rule"),
            svg.words(x.start - 6, y.at(tick) + 4, y.text(tick), "tick", "end"),
        ]
    if band is not None:
        top, bottom = y.at(band[2]), y.at(band[1])
        parts.append(
            svg.tag(
                "rect", x=x.at(band[0]), y=top, width=max(x.end - x.at(band[0]), 1.0), height=max(bottom - top, 1.0), class_="stretch"
            )
        )  # fmt: skip
    for name, line in lines:
        drawn = [(x.at(t), y.at(v)) for t, v in line]
        parts.append(svg.polyline(drawn, "trace"))
        parts += [svg.circle(px, py, 3.2, "pt") for px, py in drawn]
        if drawn:
            parts.append(svg.words(drawn[0][0] + 6, drawn[0][1] + 4, name, "tick", "start"))
    parts.append(svg.words(WIDTH - 4, HEIGHT - 2, f"min, {unit}", "tick", "end"))
    return svg.drawing(WIDTH, HEIGHT, title, *parts, role="img")
