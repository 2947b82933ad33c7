"""The decimal mark of pages and print: a point, or a comma where the house rules say so.

Numbers are made with a point everywhere. Where a text leaves for a person, one pass over it writes commas: nothing that makes a number has
to know the rule, and what machines read (addresses, drawings' coordinates, scripts, JSON) keeps its points.
"""

import re
from contextvars import ContextVar

_MARK: ContextVar[str] = ContextVar("decimal", default="point")
_NUMBER = re.compile(r"(?<![\w.])(\d+)\.(\d+)(?!\.?\d)")
"""A decimal number: no version, address or date, which have letters or more points about them."""
_PIECE = re.compile(r"<(script|style|code|pre|textarea)\b[^>]*>.*?</\1>|<[^>]*>|[^<]+", re.S | re.I)
_READ_ALOUD = re.compile(r'(\s(?:aria-label|aria-valuetext|alt|title|placeholder)=")([^"]*)"')
_CELL = re.compile(r'(\s(?:value|data-saved)=")([^"]*)"')
_KEPT = "\u2060"
"""Between figure and point of a number that shows what a point looks like."""


def write_with(rule: str) -> None:
    """From here on, in this context, decimals are written by this house rule: ``point`` or ``comma``."""
    _MARK.set(rule)


def rule() -> str:
    """The house rule by which decimals are written: ``point`` or ``comma``."""
    return _MARK.get()


def text(plain: str) -> str:
    """A text for people, its numbers written by the rule."""
    return plain if rule() == "point" else _NUMBER.sub(r"\1,\2", plain)


def example(plain: str, choice: str) -> str:
    """A text as one choice of the rule writes it, whichever is in force."""
    return _NUMBER.sub(rf"\1{_KEPT}.\2" if choice == "point" else r"\1,\2", plain)


def page(html: str) -> str:
    """HTML with its numbers written by the rule: in its text, in what is read aloud, and in the cells of the table."""
    return html if rule() == "point" else _PIECE.sub(lambda found: _piece(found[0], bool(found[1])), html)


def _piece(piece: str, for_machines: bool) -> str:
    if for_machines:
        return piece
    if not piece.startswith("<"):
        return text(piece)
    cells = piece.startswith("<input") and ' inputmode="decimal"' in piece
    read = _READ_ALOUD.sub(lambda found: f'{found[1]}{text(found[2])}"', piece)
    return _CELL.sub(lambda found: f'{found[1]}{text(found[2])}"', read) if cells else read
