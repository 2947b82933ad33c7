"""Signs by which a reading is found, and what swings while laps are counted: drawings with one part that a script moves."""

import math

from cavrel.graph import svg

WIDTH, HEIGHT = 560.0, 150.0
_X = WIDTH / 2
FIELD = 3.0
"""Degrees that a telescope shows across its drawing."""


def sign(kind: str, title: str) -> str:
    """The drawing of a sign, by its name in a definition; its part is of the class ``sign-moves``."""
    return svg.drawing(WIDTH, HEIGHT, title, *_SIGNS[kind](), class_="graph sign-of", role="img", data_sign=kind)


def _needle() -> list[str]:
    turned = [
        svg.tag("path", d="M0 -112v10" if i % 5 == 0 else "M0 -112v6", class_="face-mark", transform=f"translate({_X:.0f} 140) rotate({4 * i})")
        for i in range(-10, 11)
    ]  # fmt: skip
    return [
        svg.tag("rect", x=_X - 130, y=8.0, width=260.0, height=134.0, rx=10.0, class_="face-body"),
        *turned,
        svg.words(_X, 24.0, "0", "face-number"),
        svg.tag("g", svg.line(0.0, 0.0, 0.0, -104.0, "face-hair"), class_="sign-moves", transform=f"translate({_X:.0f} 140)"),
    ]  # fmt: skip


def _tilt() -> list[str]:
    return [
        svg.tag("path", d=f"M{_X - 22:.0f} 140L{_X:.0f} 78L{_X + 22:.0f} 140Z", class_="face-body second"),
        svg.line(40.0, 140.0, WIDTH - 40, 140.0, "face-mark"),
        svg.tag("g", svg.tag("rect", x=-225.0, y=-9.0, width=450.0, height=9.0, class_="face-body"), class_="sign-moves",
                transform=f"translate({_X:.0f} 78)"),
    ]  # fmt: skip


def _tone() -> list[str]:
    bars = [
        svg.tag("rect", x=_X - 150 + 15 * i, y=120.0 - 4.5 * i, width=10.0, height=10 + 4.5 * i, class_="sign-bar")
        for i in range(20)
    ]
    return [svg.tag("g", *bars, class_="sign-moves")]


def _string() -> list[str]:
    return [
        svg.tag("path", d="M60 36v78M500 36v78", class_="face-mark"),
        svg.tag("path", d="M60 75H500", class_="face-hair sign-moves"),
    ]


def _light() -> list[str]:
    return [
        svg.circle(_X, 70.0, 52.0, "face-body"),
        svg.circle(_X, 70.0, 34.0, "sign-light sign-moves"),
    ]


def _spectrum() -> list[str]:
    """The field of a telescope: cross hairs, and a mark every ten minutes of arc, a longer one every half degree."""
    sixths = math.ceil(3 * FIELD) - 1
    marks = "".join(
        f"M{_X + i * WIDTH / (6 * FIELD):.2f} {HEIGHT:.0f}v{-12 if i % 3 == 0 else -6}"
        for i in range(-sixths, sixths + 1)
    )
    return [
        svg.tag("rect", x=0.0, y=0.0, width=WIDTH, height=HEIGHT, rx=75.0, class_="field"),
        svg.tag("g", class_="sign-moves"),
        svg.tag("path", d=f"M{_X:.0f} 0V{HEIGHT:.0f}M0 {HEIGHT / 2:.0f}H{WIDTH:.0f}", class_="cross-hairs"),
        svg.tag("path", d=marks, class_="cross-hairs"),
    ]


def afloat_says(share: float) -> str:
    """What an eye sees of a block ``share`` times as dense as its liquid: to a twentieth of its height."""
    if share > 1:
        return "It sinks to the bottom."
    out = round(20 * (1 - share))
    if not out:
        return "It floats, and hardly anything of it stands out."
    return f"It floats; about {'half' if out == 10 else f'{5 * out} %'} of its height stands out."


def afloat(share: float, title: str) -> str:
    """A block of ``share`` times the liquid's density in a bowl of it: at rest where it floats, or on the bottom."""
    surface, bottom, wide, high = 56.0, 140.0, 120.0, 58.0
    top = surface - (1 - share) * high if share <= 1 else bottom - high
    return svg.drawing(
        WIDTH,
        HEIGHT,
        title,
        svg.tag("rect", x=_X - wide / 2, y=top, width=wide, height=high, class_="face-bob block-afloat"),
        svg.tag("rect", x=_X - 170, y=surface, width=340.0, height=bottom - surface, class_="liquid"),
        svg.tag("path", d=f"M{_X - 170:.0f} 30V{bottom:.0f}H{_X + 170:.0f}V30", class_="face-mark"),
        svg.tag("path", d=f"M{_X - 170:.0f} {surface:.0f}H{_X + 170:.0f}", class_="face-hair"),
        class_="graph sign-of",
        role="img",
        data_sign="afloat",
    )


_SIGNS = {
    "needle": _needle,
    "current": _needle,
    "tilt": _tilt,
    "tone": _tone,
    "string": _string,
    "light": _light,
    "spectrum": _spectrum,
}


def motion(kind: str, title: str) -> str:
    """What swings, bounces or circles; its part is of the class ``sign-moves``."""
    return svg.drawing(WIDTH, 168.0, title, *_MOTIONS[kind](), class_="graph sign-of", role="img", data_motion=kind)


def _swing() -> list[str]:
    bob = [svg.line(0.0, 0.0, 0.0, 122.0, "face-mark"), svg.circle(0.0, 132.0, 12.0, "face-bob")]
    return [
        svg.tag("path", d=f"M{_X - 40:.0f} 12h80", class_="face-mark"),
        svg.tag("path", d=f"M{_X:.0f} 154v12", class_="face-mark"),
        svg.tag("g", *bob, class_="sign-moves", transform=f"translate({_X:.0f} 12)"),
    ]


def _bounce() -> list[str]:
    return [
        svg.tag("path", d=f"M{_X - 60:.0f} 8h120", class_="face-mark"),
        svg.tag("path", d=f"M{_X - 60:.0f} 100h30M{_X + 30:.0f} 100h30", class_="face-mark"),
        svg.tag("path", class_="face-hair sign-spring", d=""),
        svg.tag("g", svg.tag("rect", x=-18.0, y=-14.0, width=36.0, height=28.0, class_="face-bob"), class_="sign-moves",
                transform=f"translate({_X:.0f} 100)"),
    ]  # fmt: skip


def _circle() -> list[str]:
    return [
        svg.tag("ellipse", cx=_X, cy=126.0, rx=150.0, ry=22.0, class_="sign-path"),
        svg.tag("path", d=f"M{_X:.0f} 148v14", class_="face-mark"),
        svg.line(_X, 6.0, _X, 126.0, "face-mark sign-string"),
        svg.tag("g", svg.circle(0.0, 0.0, 9.0, "face-bob"), class_="sign-moves", transform=f"translate({_X:.0f} 148)"),
    ]  # fmt: skip


def _turn() -> list[str]:
    return [
        svg.circle(_X, 84.0, 70.0, "face-body"),
        svg.circle(_X, 84.0, 30.0, "face-body"),
        svg.tag("path", d=f"M{_X:.0f} 4v14", class_="face-mark"),
        svg.tag("g", svg.tag("path", d="M0 -70v26", class_="face-hair"), svg.circle(0.0, -62.0, 5.0, "face-bob"),
                class_="sign-moves", transform=f"translate({_X:.0f} 84)"),
    ]  # fmt: skip


_MOTIONS = {"swing": _swing, "bounce": _bounce, "circle": _circle, "turn": _turn}
