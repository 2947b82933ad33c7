"""Samples as a sensor's program writes them: one or two columns of numbers in a text, understood."""

import math
import re
from dataclasses import dataclass
from itertools import pairwise

from cavrel.core.errors import CavrelError, ReadingError
from cavrel.core.logbook.run import MOST_SAMPLES
from cavrel.core.quantity import units

_NUMBER = re.compile(r"[-+]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][-+]?\d{1,3})?")
_UNIT = re.compile(r"[\[(]([^\])]+)[\])]\s*$")


@dataclass(frozen=True, slots=True)
class Samples:
    """``times`` in seconds, None where the text has one column; ``values`` in ``unit``, which is empty where no heading names it."""

    times: list[float] | None
    values: list[float]
    unit: str


def read_samples(text: str) -> Samples:
    """Read a pasted or saved table: a line for each sample, time and value apart by a tab, semicolon, comma or spaces, or values alone.

    Headings are passed over; a unit in brackets at the end of the last one is taken. Numbers may have a decimal comma where the columns
    are not set apart by commas. Raises ReadingError naming the line at fault.
    """
    lines = [(i, line.strip()) for i, line in enumerate(text.splitlines(), 1) if line.strip()]
    apart = _separator([line for _, line in lines])
    rows: list[list[float]] = []
    unit, width = "", 0
    for number, line in lines:
        cells = [cell.strip() for cell in (re.split(r"\s+", line) if apart == " " else line.split(apart))]
        cells = cells[:-1] if cells and not cells[-1] else cells
        if not all(_NUMBER.fullmatch(cell) for cell in cells):
            if rows:
                bad = next(cell for cell in cells if not _NUMBER.fullmatch(cell))
                raise ReadingError(f"line {number}", f"'{bad[:30]}' is no number")
            unit = _heading_unit(line, unit)
            continue
        width = width or len(cells)
        if len(cells) != width or width > 2:
            raise ReadingError(
                f"line {number}", f"{len(cells)} numbers, where a sample is a time and a value, or a value alone"
            )
        rows.append([float(cell.replace(",", ".")) for cell in cells])
        if len(rows) > MOST_SAMPLES:
            raise ReadingError(f"line {number}", f"a trace has at most {MOST_SAMPLES} samples")
    if len(rows) < 2:
        raise ReadingError("", "there are no samples in this text: paste a line for each, time and value")
    if width == 1:
        return Samples(None, [row[0] for row in rows], unit)
    times = [row[0] for row in rows]
    if any(not b > a for a, b in pairwise(times)):
        at = next(i for i in range(1, len(times)) if not times[i] > times[i - 1])
        raise ReadingError("", f"sample {at + 1} is not later than the one before it: {times[at]:g} s")
    if not all(math.isfinite(v) for row in rows for v in row):
        raise ReadingError("", "a number is too large")
    return Samples(times, [row[1] for row in rows], unit)


def _separator(lines: list[str]) -> str:
    """What sets the columns apart, from the second half of the lines, where no heading stands."""
    body = lines[len(lines) // 2 :] or [""]
    for mark in ("\t", ";"):
        if all(mark in line for line in body):
            return mark
    if any(re.search(r"\d\s+[-+.,\d]", line) for line in body):
        return " "
    # One comma a line: it sets columns apart where numbers have points, or where every line has one.
    return "," if all("," in line for line in body) else " "


def _heading_unit(line: str, before: str) -> str:
    match = _UNIT.search(line)
    if not match:
        return before
    try:
        units.unit(match[1])
    except CavrelError:
        return before
    return match[1]
