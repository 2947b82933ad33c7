"""A circuit that answers readings: numbers next to its letters, and what slides where it was read.

In the drawing's file a text with ``data-of="K"`` stands for what is called K; more names, parted by spaces, are tried in turn. A path with
``data-slide="l 0 1 0 288"`` follows l, which at 0 and 1 (SI) is at x = 0 and x = 288; its ``data-d`` is its course, with ``{x}`` for that place.
"""

import re
from collections.abc import Callable
from html import escape

_TEXT = re.compile(r'(<text\b[^>]*\bdata-of="([^"]+)"[^>]*>)(.*?)(\s*</text>)', re.S)
_SLIDE = re.compile(r'<path\b[^>]*\bdata-slide="([^"]+)"[^>]*\bdata-d="([^"]+)"[^>]*/>')
_CLASS = re.compile(r'\bclass="[^"]*"')
_TAGS, _SPACES = re.compile("<[^>]*>"), re.compile(r"\s+")
_VIEW = re.compile(r'viewBox="\S+ \S+ (\S+) \S+"')
_LABEL = re.compile(r'aria-label="([^"]*)"')


def answered(drawing: str, text_of: Callable[[str], str], value_of: Callable[[str], float | None]) -> str:
    """The circuit with what was read.

    ``drawing``: SVG.
    ``text_of``: the number with its unit that stands for a name, empty where there is none.
    ``value_of``: the same as a number, SI.
    Returns the drawing as it is where nothing that it names was read.
    """
    told: list[str] = []

    def number(found: re.Match[str]) -> str:
        opening, names, words, closing = found.groups()
        text = next(filter(None, map(text_of, names.split())), "")
        if not text:
            return found[0]
        told.append(f"{_SPACES.sub(' ', _TAGS.sub(' ', words)).strip() or names.split()[0]} {text}")
        return f'{opening}{words.rstrip()}<tspan class="read" dx="5">{escape(text)}</tspan>{closing}'

    def slide(found: re.Match[str]) -> str:
        name, low, high, first, last = found[1].split()
        value = value_of(name)
        if value is None or not float(low) <= value <= float(high):
            return found[0]
        x = float(first) + (value - float(low)) / (float(high) - float(low)) * (float(last) - float(first))
        kind = _CLASS.search(found[0])
        return f'<path d="{found[2].replace("{x}", f"{x:.1f}")}"{f" {kind[0]}" if kind else ""} />'

    filled = _SLIDE.sub(slide, _TEXT.sub(number, drawing))
    if not told:
        return drawing
    wide = _VIEW.sub(lambda view: f'{view[0]} width="{1.15 * float(view[1]):.0f}"', filled, count=1)
    return _LABEL.sub(lambda label: f'aria-label="{label[1]}: {escape("; ".join(told))}"', wide, count=1)
