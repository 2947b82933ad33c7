"""Forces on a rule over its pivot, to scale: an arrow for each force, its arm, and the way it turns."""

from collections.abc import Sequence

from cavrel.core.quantity.rounding import significant
from cavrel.graph import svg

WIDTH, HEIGHT = 560.0, 190.0
_LEFT, _RIGHT, _TOP = 24.0, 536.0, 66.0
_LONGEST = 78.0
"""Length of the longest arrow; the others stand to it as their forces do."""


def force_picture(
    pivot: float, forces: Sequence[tuple[str, float, float]], title: str, low: float = 0.0, high: float = 1.0
) -> str:
    """A rule from ``low`` to ``high`` metres on its ``pivot``; ``forces``: (label, mark in metres, newtons downwards)."""

    def at(mark: float) -> float:
        return _LEFT + (mark - low) / (high - low) * (_RIGHT - _LEFT)

    largest = max((abs(force) for _, _, force in forces), default=0.0) or 1.0
    parts = [
        svg.tag("rect", x=_LEFT, y=_TOP, width=_RIGHT - _LEFT, height=12.0, class_="rule-body"),
        *(
            svg.line(
                at(low + i * (high - low) / 20),
                _TOP,
                at(low + i * (high - low) / 20),
                _TOP + (7 if i % 2 else 12),
                "rule",
            )
            for i in range(21)
        ),
        svg.tag("path", d=f"M{at(pivot):.1f} {_TOP + 12:.1f}l-11 24h22z", class_="pivot"),
        svg.words(at(pivot), _TOP + 52, f"{significant(100 * pivot, 4)} cm", "tick"),
    ]
    net = 0.0
    for i, (label, mark, force) in enumerate(forces):
        torque = force * (pivot - mark)
        net += torque
        length = _LONGEST * force / largest
        x, y = at(mark), _TOP + 12
        parts += [
            svg.line(x, y, x, y + length, "force"),
            svg.tag(
                "path",
                d=f"M{x - 5:.1f} {y + length - 8:.1f}L{x:.1f} {y + length:.1f}L{x + 5:.1f} {y + length - 8:.1f}",
                class_="force",
            ),
            svg.words(x, y + length + 15, label, "note"),
            svg.words(x, y + length + 29, f"{significant(force, 3)} N", "tick"),
        ]
        # Arms above the rule, a line of their own for each, with the sense in which each turns.
        height = _TOP - 12 - 15 * i
        parts += [
            svg.line(x, height, at(pivot), height, "arm"),
            svg.line(x, height - 4, x, height + 4, "arm"),
            svg.words(
                (x + at(pivot)) / 2,
                height - 3,
                f"{'↺' if torque > 0 else '↻'} {significant(abs(100 * (pivot - mark)), 3)} cm",
                "tick",
            ),
        ]
    parts.append(svg.line(at(pivot), _TOP - 8 - 15 * len(forces), at(pivot), _TOP, "arm"))
    said = f"sum of torques {significant(1000 * net, 2)} mN m"
    parts.append(svg.words(_RIGHT, HEIGHT - 6, said, "note", "end"))
    told = "; ".join(
        f"{label} {significant(force, 3)} N at {significant(100 * mark, 4)} cm" for label, mark, force in forces
    )
    return svg.drawing(
        WIDTH,
        HEIGHT,
        f"{title}: pivot at {significant(100 * pivot, 4)} cm; {told}; {said}",
        *parts,
        class_="graph forces",
    )
