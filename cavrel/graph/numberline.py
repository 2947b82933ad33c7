"""One number line: a value with its bar, the accepted band, other methods, other benches."""

from collections.abc import Sequence
from dataclasses import dataclass

from cavrel.graph import svg
from cavrel.graph.scale import fit_scale


@dataclass(frozen=True, slots=True)
class Entry:
    """A value with its standard uncertainty in the shown unit; ``own`` for the one being judged."""

    label: str
    value: float
    u: float
    own: bool = False


def number_line(
    entries: Sequence[Entry], accepted: tuple[float, float, str] | None, unit: str, title: str, width: float = 770
) -> str:
    """Rows of values over one axis; the accepted value is a vertical hatched band ``(value, u, label)``. One value without a label needs little
    ``width``: for a margin."""
    row, top = 31.0, 50.0 if accepted else 22.0
    height = top + row * len(entries) + 34
    # Far-off benches must not flatten the picture: the range follows the judged value and the accepted one.
    kept = [e for e in entries if e.own] + [e for e in entries if not e.own]
    low = min([e.value - 2.2 * e.u for e in kept if e.own] + ([accepted[0] - accepted[1]] if accepted else []))
    high = max([e.value + 2.2 * e.u for e in kept if e.own] + ([accepted[0] + accepted[1]] if accepted else []))
    room = 2.5 * (high - low)
    for other in kept:
        if not other.own and low - room < other.value < high + room:
            low, high = min(low, other.value - 1.3 * other.u), max(high, other.value + 1.3 * other.u)
    pad = 0.06 * (high - low) or 0.01 * abs(high) or 1.0
    names = max((len(e.label) for e in entries), default=0)
    beyond = min(max(150.0, 7.0 * names + 28), 280.0) if names else 52.0
    x = fit_scale(low - pad, high + pad, 24.0, width - beyond, 6 if names else 4, zero=False, tight=True)
    axis = height - 28
    parts = [svg.line(x.start, axis, x.end, axis, "axis")]
    for tick in x.ticks():
        parts += [
            svg.line(x.at(tick), axis, x.at(tick), axis + 6, "axis"),
            svg.words(x.at(tick), axis + 21, x.text(tick), "tick"),
        ]
    parts.append(svg.words(x.end + 14, axis + 4, x.unit(unit), "tick", "start"))
    if accepted:
        value, u, label = accepted
        left, right = x.at(value - u), x.at(value + u)
        if right - left < 6:
            left, right = x.at(value) - 3, x.at(value) + 3
        parts.append(svg.tag("rect", x=left, y=24.0, width=right - left, height=axis - 24.0, class_="accepted-ground"))
        steps = int((axis - 24.0) // 9) + 1
        hatch = [svg.line(left, min(24.0 + 9 * i + 7, axis), right, 24.0 + 9 * i, "accepted") for i in range(steps)]
        parts.append(svg.tag("g", *hatch))
        near = 130 if names else 60
        anchor = "start" if x.at(value) < near else "end" if x.at(value) > width - beyond - near else "middle"
        parts.append(svg.words(x.at(value), 16, label, "accepted-label", anchor))
    for i, entry in enumerate(entries):
        y = top + row * i
        shown = min(max(entry.value, x.low), x.high)
        kind = "own" if entry.own else "other"
        if shown != entry.value:
            side = "left" if entry.value < x.low else "right"
            parts.append(
                svg.words(
                    x.at(shown),
                    y + 4,
                    "◂ off the line" if side == "left" else "off the line ▸",
                    "note",
                    "start" if side == "left" else "end",
                )
            )
            parts.append(svg.words(x.end + 14, y + 5, entry.label, f"name {kind}", "start"))
            continue
        left, right = x.at(max(entry.value - entry.u, x.low)), x.at(min(entry.value + entry.u, x.high))
        parts += [svg.line(left, y, right, y, f"reach {kind}")]
        parts += [svg.line(edge, y - 6, edge, y + 6, f"reach {kind}") for edge in (left, right)]
        parts.append(svg.circle(x.at(entry.value), y, 6.5 if entry.own else 4.5, f"value {kind}"))
        parts.append(svg.words(x.end + 14, y + 5, entry.label, f"name {kind}", "start"))
    return svg.drawing(width, height, title, *parts, class_="graph numberline")


def bar(share: float, width: float = 300, height: float = 16) -> str:
    """One bar of the budget: the filled part is the share of u²."""
    full = svg.tag("rect", x=0, y=0, width=width, height=height, rx=4, class_="bar-ground")
    part = svg.tag("rect", x=0, y=0, width=max(3.0, share * width), height=height, rx=4, class_="bar-share")
    return svg.tag(
        "svg",
        full,
        part,
        class_="graph budget-bar",
        viewBox=f"0 0 {width} {height}",
        aria_hidden="true",
        preserveAspectRatio="none",
        xmlns="http://www.w3.org/2000/svg",
    )
