"""Set points as pegs on a scale, to be dragged."""

from collections.abc import Sequence
from dataclasses import dataclass

from cavrel.graph import svg
from cavrel.graph.scale import fit_scale

WIDTH, HEIGHT, AXIS = 720.0, 74.0, 46.0
MOST = 40
"""More pegs than this stand too close to be told apart; the typed list is for them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Peg:
    """``text``: as written. ``value``: in the scale's unit. ``outside``: beyond what is allowed."""

    text: str
    value: float
    outside: bool = False


def pegs(points: Sequence[Peg], low: float, high: float, step: float, unit: str, label: str) -> str:
    """Pegs over one axis from ``low`` to ``high``; ``step``: what the instrument can be set to, for dragging and for arrow keys."""
    x = fit_scale(low, high, 18.0, WIDTH - 64.0, 8, zero=False, tight=True)
    parts = [svg.line(x.start, AXIS, x.end, AXIS, "axis")]
    for tick in x.ticks():
        parts += [
            svg.line(x.at(tick), AXIS, x.at(tick), AXIS + 6, "axis"),
            svg.words(x.at(tick), AXIS + 21, x.text(tick), "tick"),
        ]
    parts.append(svg.words(x.end + 14, AXIS + 4, x.unit(unit), "tick", "start"))
    for i, peg in enumerate(points[:MOST]):
        at = x.at(min(max(peg.value, x.low), x.high))
        parts.append(
            svg.tag(
                "g",
                svg.tag("line", x1=0.0, y1=AXIS, x2=0.0, y2=24.0, class_="stem"),
                svg.tag("circle", cx=0.0, cy=18.0, r=7.0),
                class_="peg outside" if peg.outside else "peg",
                transform=f"translate({at:.2f} 0)",
                tabindex="0",
                role="slider",
                data_index=str(i),
                aria_label=f"{label}, set point {i + 1}",
                aria_valuemin=f"{low:.10g}",
                aria_valuemax=f"{high:.10g}",
                aria_valuenow=f"{peg.value:.10g}",
                aria_valuetext=f"{peg.text} {unit}".strip(),
            )
        )
    return svg.drawing(
        WIDTH,
        HEIGHT,
        f"{label}: {len(points)} set points",
        *parts,
        class_="graph pegs",
        data_low=f"{x.low:.12g}",
        data_high=f"{x.high:.12g}",
        data_start=f"{x.start:.2f}",
        data_end=f"{x.end:.2f}",
        data_step=f"{step:.12g}",
    )
