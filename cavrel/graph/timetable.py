"""A timetable as a drawing: benches over a time axis, what they have in hand and what settles by itself."""

from collections.abc import Sequence
from dataclasses import dataclass

from cavrel.graph import svg

WIDTH, LEFT, TOP, ROW, HIGH = 900.0, 92.0, 40.0, 52.0, 38.0
RIGHT = 26.0
_STEPS = (5, 10, 15, 30, 60, 120)


@dataclass(frozen=True, slots=True, kw_only=True)
class Bar:
    """A block of the timetable.

    ``key``: what it is known by.
    ``row``: which bench, from 0.
    ``start``: minutes after the beginning.
    ``stretches``: (kind, minutes) in their order.
    ``title``: what is done.
    ``says``: the whole of it in words, for who hears it.
    ``amiss``: it collides with something.
    ``run``: the run that was started for it, None while there is none.
    """

    key: str
    row: int
    start: int
    stretches: tuple[tuple[str, int], ...]
    title: str
    says: str
    amiss: bool = False
    run: int | None = None


def timetable(rows: Sequence[str], bars: Sequence[Bar], minutes: int, begins: int, now: float | None = None) -> str:
    """``rows``: names of benches. ``minutes``: length of the lesson. ``begins``: its beginning, minutes after midnight. ``now``: minutes after
    the beginning, where it has begun."""
    last = max([minutes, *(bar.start + sum(m for _, m in bar.stretches) for bar in bars)])
    scale = (WIDTH - LEFT - RIGHT) / last
    height = TOP + ROW * len(rows) + 6
    step = next((s for s in _STEPS if s * scale >= 46), _STEPS[-1])

    def x(minute: float) -> float:
        return LEFT + minute * scale

    parts = []
    for minute in range(0, last + 1, step):
        moment = (begins + minute) % (24 * 60)
        parts.append(svg.line(x(minute), TOP - 8, x(minute), height - 6, "grid"))
        parts.append(svg.words(x(minute), TOP - 14, f"{moment // 60:02d}:{moment % 60:02d}", "tick"))
    for i, name in enumerate(rows):
        parts.append(svg.words(LEFT - 10, TOP + ROW * i + 26, name, "bench-name", "end"))
        parts.append(svg.line(LEFT, TOP + ROW * (i + 1) - 4, WIDTH - RIGHT, TOP + ROW * (i + 1) - 4, "grid"))
    parts.append(svg.line(x(minutes), TOP - 8, x(minutes), height - 6, "lesson-end"))
    # Those with waits first, below what is done in them meanwhile; else in the order of time, which is the order of the Tab key.
    parts += [
        _bar(bar, x(bar.start), scale) for bar in sorted(bars, key=lambda bar: (not _waits(bar), bar.row, bar.start))
    ]
    if now is not None and 0 <= now <= last:
        parts.append(svg.line(x(now), TOP - 8, x(now), height - 6, "now"))
    title = f"Timetable of {len(rows)} benches, {len(bars)} experiments in all"
    return svg.drawing(
        WIDTH, height, title, *parts, class_="graph timetable", data_scale=f"{scale:.6f}", data_row=f"{ROW:g}"
    )


def _waits(bar: Bar) -> bool:
    return any(kind == "wait" for kind, _ in bar.stretches)


def _bar(bar: Bar, left: float, scale: float) -> str:
    top, at, parts = TOP + ROW * bar.row + 4, 0.0, list[str]()
    words, room, waits = 0.0, 0.0, _waits(bar)
    for kind, lasting in bar.stretches:
        parts.append(
            svg.tag(
                "rect",
                x=at,
                y=0.0,
                width=max(lasting * scale - 1, 1.0),
                height=HIGH,
                class_=f"stretch-{kind.replace(' ', '-')}",
            )
        )
        wide = lasting * scale
        # The title stands where the hands are; across a wait something else may lie.
        if not waits:
            room += wide
        elif kind != "wait" and wide > room:
            words, room = at, wide
        at += wide
    letters = int((room - (0 if bar.run is None else 24)) / 7.2)
    shown = bar.title if len(bar.title) <= letters else f"{bar.title[: letters - 1].rstrip()}…" if letters > 3 else ""
    parts.append(svg.words(words + 7, 23, shown, "turn-title", "start"))
    if bar.amiss:
        parts.append(svg.tag("rect", x=-2.0, y=-2.0, width=at + 3, height=HIGH + 4, class_="amiss"))
        parts.append(svg.words(at - 10, 23, "!", "amiss-mark"))
    opens = ""
    if bar.run is not None:  # next to the block, not within it: a link within a button is none
        opens = svg.tag(
            "a",
            svg.tag("title", text=f"Open its run: {bar.title} at this bench"),
            svg.tag("rect", x=left + at - 26, y=top, width=25.0, height=HIGH, class_="hit"),
            svg.words(left + at - 14, top + 23, "→", "open-run"),
            href=f"/runs/{bar.run}/measure",
            aria_label=f"Open run {bar.run}: {bar.title}",
        )
    return (
        svg.tag(
            "g",
            svg.tag("title", text=bar.says),
            *parts,
            class_="turn" if bar.run is None else "turn begun",
            transform=f"translate({left:.2f} {top:.2f})",
            tabindex="0",
            role="button",
            aria_label=bar.says,
            data_key=bar.key,
            data_start=str(bar.start),
            data_row=str(bar.row),
        )
        + opens
    )
