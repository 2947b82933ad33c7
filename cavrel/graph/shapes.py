"""Six small curves, to say beforehand what a graph will look like."""

from collections.abc import Callable

from cavrel.graph import svg

SIZE = 46.0


def shape(name: str) -> str:
    """The little picture of a shape, by its name: ``proportional``, ``linear``, ``square``, ``square root``, ``inverse``, ``no relation``."""
    steps = [i / 24 for i in range(25)]
    ways: dict[str, Callable[[float], float]] = {
        "proportional": lambda t: t,
        "linear": lambda t: 0.3 + 0.6 * t,
        "square": lambda t: t * t,
        "square root": lambda t: t**0.5,
        "inverse": lambda t: min(0.13 / max(t, 0.13), 1.0),
        "no relation": lambda _: 0.5,
    }
    way = ways[name]
    begin = 0.13 if name == "inverse" else 0.0
    points = [(7 + 34 * t, 40 - 32 * way(t)) for t in steps if t >= begin]
    axes = [svg.line(6, 5, 6, 41, "axis"), svg.line(6, 41, 43, 41, "axis")]
    return svg.tag(
        "svg",
        *axes,
        svg.polyline(points, "curve"),
        viewBox=f"0 0 {SIZE:.0f} {SIZE:.0f}",
        class_="shape",
        aria_hidden="true",
    )
