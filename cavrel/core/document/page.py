"""Sheets of a workbook: rows of cells."""

import math
from dataclasses import dataclass

from cavrel.core.document.live import Live

Cell = str | float | Live | None


@dataclass(frozen=True, slots=True)
class Page:
    """One sheet of the book. ``name``: of up to 31 letters; ``rows``: cells; ``heads``: how many rows at the top are headings."""

    name: str
    rows: list[list[Cell]]
    heads: int


def finite(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None
