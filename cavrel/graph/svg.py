"""SVG as text, escaped."""

from html import escape


def tag(name: str, *children: str, text: str | None = None, **attributes: object) -> str:
    """An element. Underscores in attribute names stand for hyphens, ``class_`` for ``class``; numbers are written short."""
    shown = ""
    for key, value in attributes.items():
        if isinstance(value, float):
            shown += f' {_NAMES[key]}="{_short(value)}"'
        elif value is not None:
            shown += f' {_NAMES[key]}="{escape(str(value))}"'
    inside = "".join(children) + (escape(text) if text is not None else "")
    return f"<{name}{shown}>{inside}</{name}>" if inside else f"<{name}{shown}/>"


class _Names(dict[str, str]):
    """Attribute names as SVG writes them."""

    def __missing__(self, key: str) -> str:
        self[key] = made = key.rstrip("_").replace("_", "-")
        return made


_NAMES = _Names()


def _short(value: object) -> str:
    if isinstance(value, float):
        return f"{value:.2f}".rstrip("0").rstrip(".")
    return str(value)


def drawing(
    width: float,
    height: float,
    title: str,
    *parts: str,
    class_: str = "graph",
    role: str = "group",
    **attributes: object,
) -> str:
    """A whole drawing with its title for screen readers. Where points of it may take the focus it is a group, not one image."""
    return tag(
        "svg",
        *parts,
        text=None,
        class_=class_,
        viewBox=f"0 0 {_short(float(width))} {_short(float(height))}",
        role=role,
        aria_label=title,
        xmlns="http://www.w3.org/2000/svg",
        **attributes,
    )


def circle(x: float, y: float, radius: float, class_: str) -> str:
    """Written without the generality of `tag`, for a graph holds hundreds."""
    return f'<circle cx="{_short(x)}" cy="{_short(y)}" r="{_short(radius)}" class="{class_}"/>'


def line(x1: float, y1: float, x2: float, y2: float, class_: str) -> str:
    return tag("line", x1=float(x1), y1=float(y1), x2=float(x2), y2=float(y2), class_=class_)


def polyline(points: list[tuple[float, float]], class_: str) -> str:
    """A path through ``points``."""
    return tag("path", d="M" + "L".join(f"{x:.2f} {y:.2f}" for x, y in points), class_=class_) if points else ""


def area(points: list[tuple[float, float]], class_: str) -> str:
    """A closed outline."""
    return tag("path", d="M" + "L".join(f"{x:.2f} {y:.2f}" for x, y in points) + "Z", class_=class_) if points else ""


def words(x: float, y: float, text: str, class_: str, anchor: str = "middle") -> str:
    return tag("text", text=text, x=float(x), y=float(y), class_=class_, text_anchor=anchor)


def rich(x: float, y: float, pieces: list[tuple[str, str]], anchor: str = "middle", **attributes: object) -> str:
    """Text of ``(class, words)`` pieces, such as a label with its symbol in italics."""
    inside = "".join(tag("tspan", text=piece, class_=class_ or None) for class_, piece in pieces)
    return tag("text", inside, text=None, x=float(x), y=float(y), text_anchor=anchor, class_="label", **attributes)
