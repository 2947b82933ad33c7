"""Faces of instruments, drawn so that they have to be read; long because each kind of instrument is one.

Every face says its state as a person reads it, to the nearest mark or the line that meets, and never closer.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from cavrel.graph import svg

WIDTH = 560.0
_MIDDLE = WIDTH / 2
_MOST_MARKS = 4000


@dataclass(frozen=True, slots=True, kw_only=True)
class Face:
    """``drawing``: SVG. ``said``: its state in words. ``moves``: by what its moving part follows a value, for a script that moves it: ``way``
    (``along``, ``up``, ``turn``, ``text``, ``vernier``), and ``at`` and ``per``: where the part stands at zero, and how far it goes for one unit."""

    drawing: str
    said: str
    moves: dict[str, object]


def _number(value: float) -> str:
    """A number at a mark, with as many decimals as it needs."""
    return f"{round(value, 6):g}"


def _marks(low: int, high: int, gap: float, across: float, down: bool = False) -> str:
    """Marks ``low`` to ``high`` of a scale, every fifth and tenth longer, as one path; ``across``: length of the longest."""
    pieces = []
    for i in range(low, high + 1):
        length = across if i % 10 == 0 else 0.75 * across if i % 5 == 0 else 0.5 * across
        pieces.append(f"M0 {-i * gap:.1f}h{length:.1f}" if down else f"M{i * gap:.1f} 0v{length:.1f}")
    return "".join(pieces)


def said_of_scale(value: float, step: float, unit: str, decimals: int) -> str:
    """What a scale shows at ``value``, with marks every ``step``, in its unit."""
    nearest = round(value / step)
    off = value / step - nearest
    side = "on it" if abs(off) < 0.1 else "just past it" if off > 0 else "just short of it"
    shown = f"{nearest * step:.{decimals}f} {unit}".strip()
    return f"nearest mark {shown}, {side}"


def scale(
    value: float,
    step: float,
    unit: str,
    decimals: int,
    title: str,
    reach: tuple[float, float] | None = None,
    look: str = "rule",
    starts: bool = True,
) -> Face:
    """A straight scale under a hairline, both enlarged; ``value`` and ``step`` in ``unit``. ``reach``: how far it can be moved; ``starts``: it
    begins at zero, with a margin before it; ``look``: ``rule``, ``spot`` (of light) or ``dial`` (a knob's)."""
    gap, height = 15.0, 118.0
    low, high = reach or (value, value)
    first = math.floor(low / step) - 24
    last = math.ceil(high / step) + 24
    if starts:
        first = max(first, 0)
    if last - first > _MOST_MARKS:
        first, last = round(value / step) - 60, round(value / step) + 60
    labels = [svg.words(i * gap, 50.0, _number(i * step), "face-number") for i in range(first, last + 1) if i % 10 == 0]
    margin = first * gap - (9.0 if starts and first == 0 else 0.0)
    at = _MIDDLE - value / step * gap
    body = svg.tag("rect", x=margin, y=0.0, width=(last - first) * gap + 9, height=58.0, class_="face-body")
    parts = [
        svg.tag(
            "g", body, svg.tag("path", d=_marks(first, last, gap, 24.0), class_="face-mark"), *labels,
            transform=f"translate({at:.2f} 40)", class_="moves",
        )
    ]  # fmt: skip
    if look == "spot":
        parts.append(svg.circle(_MIDDLE, 40.0, 17.0, "face-spot"))
    parts.append(svg.line(_MIDDLE, 10.0, _MIDDLE, 74.0, "face-hair"))
    parts.append(svg.words(WIDTH - 8, 112.0, unit, "face-unit", "end"))
    said = said_of_scale(value, step, unit, decimals)
    moves = {
        "way": "along",
        "at": _MIDDLE,
        "per": -gap / step,
        "y": 40,
        "step": step,
        "decimals": decimals,
        "unit": unit,
    }
    return Face(drawing=_whole(height, f"{title}: {said}", parts), said=said, moves=moves)


def thermometer(value: float, step: float, unit: str, decimals: int, title: str) -> Face:
    """The stem of a thermometer about the end of its thread."""
    gap, height, x = 11.0, 190.0, _MIDDLE
    first, last = math.floor(value / step) - 60, math.ceil(value / step) + 60
    middle = height / 2
    often = 5 if abs(step * 5 - round(step * 5)) < 1e-9 else 10
    labels = [
        svg.words(40.0, -i * gap + 4.5, _number(i * step), "face-number")
        for i in range(first, last + 1)
        if i % often == 0
    ]
    at = middle + value / step * gap
    marks = svg.tag("path", d=_marks(first, last, gap, 24.0, down=True), class_="face-mark")
    parts = [
        svg.tag("rect", x=x - 40, y=0.0, width=104.0, height=height, class_="face-body"),
        svg.tag("rect", x=x - 23, y=0.0, width=10.0, height=height, class_="face-glass"),
        svg.tag("rect", x=x - 21, y=middle, width=6.0, height=height - middle, class_="face-thread"),
        svg.tag("g", svg.tag("g", marks, *labels, transform=f"translate(0 {at:.2f})", class_="moves"), transform=f"translate({x - 11:.1f} 0)"),
        svg.words(x + 52, height - 8, unit, "face-unit", "end"),
    ]  # fmt: skip
    said = said_of_scale(value, step, unit, decimals)
    moves = {"way": "up", "at": middle, "per": gap / step, "step": step, "decimals": decimals, "unit": unit}
    return Face(drawing=_whole(height, f"{title}: {said}", parts), said=said, moves=moves)


def vernier(
    value: float, division: float, lines: int, named: Sequence[str], title: str, every: int = 10, unit: str = "mm"
) -> Face:
    """A main scale with marks every ``division`` and a vernier of ``lines`` that divides one of them, both enlarged. ``named``: what the words
    call the main scale and its vernier; a number stands at each ``every``-th mark."""
    least = division / lines
    total = round(value / least)
    main, meets = total // lines, total % lines
    gap = max(10.0, min(16.0, 520.0 / (lines + 4)))
    width = max(WIDTH, (lines + 8) * gap)
    # The vernier stands in the middle of what is seen, and the main scale passes it; its marks repeat, so that a script has to change numbers only.
    zero, base = 12 + 5 * gap, every * (main // every)
    marks, passing, numbers = [], [], []
    for i in range(-2 * every - 6, int(width / gap) + every + 2):
        length = 30.0 if i % every == 0 else 24.0 if every % 2 == 0 and i % (every // 2) == 0 else 16.0
        marks.append(f"M{i * gap:.2f} 62v{-length:.0f}")
        if i % every == 0:
            text = _number((base + i) * division)
            passing.append(
                svg.tag(
                    "text", text=text, x=i * gap, y=26.0, class_="face-number", text_anchor="middle", data_at=str(i)
                )
            )
    own = []
    step = gap * (lines - 1) / lines
    often = 5 if lines % 5 == 0 and lines > 10 else 2 if lines <= 10 else 10
    for i in range(lines + 1):
        x = zero + i * step
        own.append(f"M{x:.2f} 62v{22 if i % often == 0 else 14}")
        if i % often == 0:
            numbers.append(svg.words(x, 100.0, f"{i}", "face-number own"))
    parts = [
        svg.tag("rect", x=0.0, y=8.0, width=width, height=54.0, class_="face-body"),
        svg.tag("rect", x=zero - 9, y=62.0, width=lines * step + 18, height=48.0, class_="face-body second"),
        svg.tag(
            "g",
            svg.tag("path", d="".join(marks), class_="face-mark"),
            *passing,
            transform=f"translate({zero - (value / division - base) * gap:.2f} 0)",
            class_="moves",
        ),
        svg.tag("path", d="".join(own), class_="face-mark"),
        *numbers,
        svg.words(width - 8, 128.0, unit, "face-unit", "end"),
    ]
    passed = f"{main * division:.{0 if division >= 1 else 1}f}{'°' if unit == '°' else f' {unit}'}"
    said = f"{named[0]} has passed {passed}, line {meets} of the {named[1]}'s {lines} meets a mark"
    moves: dict[str, object] = {
        "way": "vernier",
        "at": zero,
        "per": -gap / division,
        "every": every * division,
        "step": least,
        "lines": lines,
        "named": list(named),
        "unit": unit,
    }
    return Face(drawing=_whole(134.0, f"{title}: {said}", parts, width), said=said, moves=moves)


def micrometer(value: float, title: str) -> Face:
    """A screw of half a millimetre a turn, fifty lines around; ``value`` in mm."""
    total = round(value / 0.01)
    turns, meets = total // 50, total % 50
    gap, edge, middle = 36.0, 300.0, 80.0
    start = edge - value * gap
    marks, numbers = [], []
    for half in range(max(0, turns - 14), turns + 1):
        x = start + half * gap / 2
        if x < 24 or x > edge + 0.5:
            continue
        marks.append(f"M{x:.2f} {middle:.0f}v{-16 if half % 2 == 0 else 14}")
        if half % 10 == 0:
            numbers.append(svg.words(x, middle - 22, f"{half // 2}", "face-number"))
    around = (value % 0.5) / 0.01
    for line in range(math.floor(around) - 5, math.ceil(around) + 6):
        y = middle + (around - line) * 12
        long = line % 5 == 0
        marks.append(f"M{edge:.0f} {y:.2f}h{26 if long else 16}")
        if long:
            numbers.append(svg.words(edge + 40, y + 5, f"{line % 50}", "face-number"))
    parts = [
        svg.tag("rect", x=20.0, y=middle - 40, width=edge - 20, height=80.0, class_="face-body"),
        svg.tag("rect", x=edge, y=8.0, width=150.0, height=2 * middle - 16, class_="face-body second"),
        svg.line(20.0, middle, edge, middle, "face-hair"),
        svg.tag("path", d="".join(marks), class_="face-mark"),
        *numbers,
        svg.words(WIDTH - 8, 2 * middle - 10, "mm", "face-unit", "end"),
    ]
    said = f"the sleeve shows {turns * 0.5:.1f} mm, line {meets} of the thimble's 50 meets its line"
    return Face(drawing=_whole(2 * middle, f"{title}: {said}", parts), said=said, moves={})


def dial(value: float, step: float, full: float, unit: str, decimals: int, title: str, both: bool = False) -> Face:
    """A pointer over a mirrored scale of ``full``; ``both``: zero in the middle."""
    radius, cx, cy, height = 150.0, _MIDDLE, 178.0, 190.0
    low = -full if both else 0.0
    number = max(1, round((full - low) / step))
    marks, numbers = [], []
    every = next((n for n in (5, 10, 20, 50) if number / n <= 12), 50)

    def turned(at: float) -> float:
        return -52 + 104 * (at - low) / (full - low)

    for i in range(number + 1):
        angle = math.radians(turned(low + i * step))
        long = 18 if i % every == 0 else 12 if every % 2 == 0 and i % (every // 2) == 0 else 8
        outer = (cx + radius * math.sin(angle), cy - radius * math.cos(angle))
        inner = (cx + (radius - long) * math.sin(angle), cy - (radius - long) * math.cos(angle))
        marks.append(f"M{outer[0]:.1f} {outer[1]:.1f}L{inner[0]:.1f} {inner[1]:.1f}")
        if i % every == 0:
            numbers.append(
                svg.words(
                    cx + (radius + 13) * math.sin(angle),
                    cy - (radius + 13) * math.cos(angle) + 5,
                    _number(low + i * step),
                    "face-number",
                )
            )
    needle = svg.line(cx, cy - 20, cx, cy - radius + 4, "face-hair")
    shadow = svg.tag(
        "g",
        svg.line(cx, cy - 20, cx, cy - radius + 4, "face-shadow"),
        transform=_turn(turned(value), cx, cy),
        class_="moves image",
    )
    parts = [
        svg.tag("path", d=f"M{cx - 134:.0f} {cy - 86:.0f}A158 158 0 0 1 {cx + 134:.0f} {cy - 86:.0f}", class_="face-mirror"),
        svg.tag("path", d="".join(marks), class_="face-mark"),
        *numbers,
        shadow,
        svg.tag("g", needle, transform=_turn(turned(value), cx, cy), class_="moves"),
        svg.words(cx, cy - 44, unit, "face-unit"),
    ]  # fmt: skip
    said = said_of_scale(value, step, unit, decimals)
    moves = {
        "way": "turn", "at": turned(0.0), "per": 104 / (full - low), "x": cx, "y": cy, "step": step, "decimals": decimals, "unit": unit,
    }  # fmt: skip
    return Face(drawing=_whole(height, f"{title}: {said}", parts), said=said, moves=moves)


def _turn(angle: float, x: float, y: float) -> str:
    return f"rotate({angle:.2f} {x:.1f} {y:.1f})"


def protractor(value: float, step: float, title: str) -> Face:
    """An angle from the vertical, a thread over the marks; degrees."""
    radius, cx, cy = 230.0, _MIDDLE, 6.0
    marks, numbers = [], []
    for i in range(-60, 61):
        angle = math.radians(i * step)
        long = 20 if i % 10 == 0 else 14 if i % 5 == 0 else 8
        x, y = math.sin(angle), math.cos(angle)
        marks.append(
            f"M{cx + radius * x:.1f} {cy + radius * y:.1f}L{cx + (radius - long) * x:.1f} {cy + (radius - long) * y:.1f}"
        )
        if i % 10 == 0:
            numbers.append(
                svg.words(cx + (radius - 32) * x, cy + (radius - 32) * y, f"{abs(i * step):.0f}", "face-number")
            )
    turned = math.radians(value)
    parts = [
        svg.tag("path", d=f"M{cx:.0f} {cy:.0f}L{cx - radius * math.sin(1.05):.1f} {cy + radius * math.cos(1.05):.1f}A{radius:.0f} {radius:.0f} 0 0 0 "
                f"{cx + radius * math.sin(1.05):.1f} {cy + radius * math.cos(1.05):.1f}Z", class_="face-body"),
        svg.tag("path", d="".join(marks), class_="face-mark"),
        *numbers,
        svg.line(cx, cy, cx + (radius + 14) * math.sin(turned), cy + (radius + 14) * math.cos(turned), "face-hair"),
    ]  # fmt: skip
    said = said_of_scale(value, step, "°", 0 if step >= 1 else 1).replace(" °", "°")
    return Face(drawing=_whole(256.0, f"{title}: {said}", parts), said=said, moves={})


def display(text: str, unit: str, title: str, decimals: int = 0, step: float = 1.0) -> Face:
    """Digits."""
    parts = [
        svg.tag("rect", x=_MIDDLE - 150, y=8.0, width=300.0, height=84.0, rx=10.0, class_="face-body"),
        svg.tag("text", text=text, x=_MIDDLE + 66, y=66.0, class_="face-digits moves", text_anchor="end"),
        svg.words(_MIDDLE + 80, 66.0, unit, "face-unit", "start"),
    ]
    said = f"shows {text} {unit}".strip()
    moves = {"way": "text", "step": step, "decimals": decimals, "unit": unit}
    return Face(drawing=_whole(100.0, f"{title}: {said}", parts), said=said, moves=moves)


def card(text: str, unit: str, title: str) -> Face:
    """What a maker or an earlier test wrote down."""
    parts = [
        svg.tag("path", d=f"M{_MIDDLE - 150:.0f} 12h270l30 30v64h-300z", class_="face-paper"),
        svg.words(_MIDDLE - 130, 44.0, title, "face-note", "start"),
        svg.tag(
            "text", text=f"{text} {unit}".strip(), x=_MIDDLE - 130, y=84.0, class_="face-written", text_anchor="start"
        ),
    ]
    said = f"says {text} {unit}".strip()
    return Face(drawing=_whole(116.0, f"{title}: {said}", parts), said=said, moves={})


def beams(value: float, step: float, unit: str, decimals: int, title: str) -> Face:
    """A balance with three beams, hundreds, tens, and what is less than ten, each with its rider."""
    total = round(value / step) * step
    hundreds, tens = int(total // 100), int(total % 100 // 10)
    rest = max(value - 100 * hundreds - 10 * tens, 0.0)
    parts, left, right = [], 70.0, 530.0
    rows = [(100, 5, hundreds * 100.0, 500.0), (10, 10, tens * 10.0, 100.0), (1, 10, rest, 10.0)]
    for line, (size, many, at, full) in enumerate(rows):
        y = 38.0 + 46 * line
        marks = [f"M{left + (right - left) * i / many:.1f} {y:.0f}v12" for i in range(many + 1)]
        if size == 1:
            fine = round(10 / step)
            marks += [
                f"M{left + (right - left) * i / fine:.1f} {y:.0f}v{9 if i % 5 == 0 else 6}" for i in range(fine + 1)
            ]
        x = left + (right - left) * min(at / full, 1.0)
        parts += [
            svg.tag("rect", x=left - 14, y=y - 4, width=right - left + 28, height=30.0, class_="face-body"),
            svg.tag("path", d="".join(marks), class_="face-mark"),
            *(
                svg.words(left + (right - left) * i / many, y + 23, f"{i * size}", "face-number small")
                for i in range(many + 1)
            ),
            svg.tag("path", d=f"M{x:.2f} {y:.0f}l-8 -14h16z", class_="face-rider"),
        ]
    said = f"riders at {hundreds * 100}, {tens * 10} and {rest:.{decimals}f} {unit}"
    return Face(drawing=_whole(170.0, f"{title}: {said}", parts), said=said, moves={})


def _whole(height: float, title: str, parts: Sequence[str], width: float = WIDTH) -> str:
    return svg.drawing(width, height, title, *parts, class_="graph face", role="img")
