"""What a sensor's program exports, as it comes: columns with names and units, blanks, several runs one under the other.

A decimal comma is understood where columns are not set apart by commas; a run ends at an empty or wordy line between numbers, or where time
starts again.
"""

import itertools
import math
import re
from dataclasses import dataclass

from cavrel.core.errors import CavrelError, ReadingError
from cavrel.core.logbook.run import LARGEST_SAMPLE, MOST_SAMPLES
from cavrel.core.quantity import units

MOST_COLUMNS = 40

_NUMBER = re.compile(r"[-+−]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][-+]?\d{1,3})?")
_UNIT = re.compile(r"\s*[\[(]\s*([^\])]+?)\s*[\])]\s*$")
_TIME = re.compile(r"\b(?:time|zeit|temps|tiempo|t)\b", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Samples:
    """``times`` in seconds, None where the text has one column; ``values`` in ``unit``, which is empty where no heading names it."""

    times: list[float] | None
    values: list[float]
    unit: str


@dataclass(frozen=True, slots=True)
class ExportColumn:
    """``name``: as the heading has it, without its unit. ``unit``: that the heading names, empty where none or none that is known. ``filled``:
    numbers in it."""

    name: str
    unit: str
    filled: int


@dataclass(frozen=True, slots=True)
class Export:
    """``columns``; ``runs``: (first, end) of the rows of each; ``rows``: ``(n, columns)`` numbers, NaN where a cell is blank;
    ``strange``: (line, text) of lines with numbers among them that are none of these."""

    columns: tuple[ExportColumn, ...]
    runs: tuple[tuple[int, int], ...]
    rows: tuple[tuple[float, ...], ...]
    strange: tuple[tuple[int, str], ...] = ()

    @property
    def time(self) -> int | None:
        """The column that is time: by its name or its unit, else the first that only grows."""
        second = units.unit("s").dimension
        named = [i for i, c in enumerate(self.columns) if c.unit and units.unit(c.unit).dimension == second]
        named += [i for i, c in enumerate(self.columns) if _TIME.search(c.name)]
        if named:
            return named[0]
        first, end = self.runs[0]
        for i in range(len(self.columns) if len(self.columns) > 1 else 0):
            values = [row[i] for row in self.rows[first:end]]
            if all(b > a for a, b in itertools.pairwise(values)):
                return i
        return None

    def best(self, unit: str) -> int | None:
        """The column most likely meant where samples are wanted in ``unit``: of its dimension, or with no unit; None where there is none."""
        wanted = units.unit(unit).dimension
        others = [i for i in range(len(self.columns)) if i != self.time and self.columns[i].filled]
        fitting = [i for i in others if self.columns[i].unit and units.unit(self.columns[i].unit).dimension == wanted]
        return (fitting or [i for i in others if not self.columns[i].unit] or others or [None])[0]  # type: ignore[list-item]

    def samples(self, time: int, value: int, run: int = 1, sign: int = 1) -> Samples:
        """The samples of one column over another in the ``run``-th run, blanks left out; ``sign`` -1 turns them over. Raises ReadingError."""
        for name, at in (("time", time), ("value", value)):
            if not 0 <= at < len(self.columns):
                raise ReadingError(name, f"there is no column {at + 1}")
        if not 1 <= run <= len(self.runs):
            raise ReadingError("run", f"there is no run {run} in this text")
        first, end = self.runs[run - 1]
        scale = units.unit(self.columns[time].unit).factor if self.columns[time].unit else 1.0
        kept = [
            (row[time] * scale, sign * row[value])
            for row in self.rows[first:end]
            if math.isfinite(row[time]) and math.isfinite(row[value])
        ]
        if len(kept) < 2:
            raise ReadingError("value", "there are fewer than two samples in this column")
        late = next((i for i in range(1, len(kept)) if not kept[i][0] > kept[i - 1][0]), None)
        if late is not None:
            raise ReadingError("time", f"sample {late + 1} is not later than the one before it: {kept[late][0]:g} s")
        return Samples([t for t, _ in kept], [v for _, v in kept], self.columns[value].unit)

    def alone(self, value: int, run: int = 1, sign: int = 1) -> Samples:
        """One column without times: samples at a steady rate. Raises ReadingError."""
        if not 0 <= value < len(self.columns) or not 1 <= run <= len(self.runs):
            raise ReadingError("value", f"there is no column {value + 1} or no run {run}")
        first, end = self.runs[run - 1]
        kept = [sign * row[value] for row in self.rows[first:end] if math.isfinite(row[value])]
        if len(kept) < 2:
            raise ReadingError("value", "there are fewer than two samples in this column")
        return Samples(None, kept, self.columns[value].unit)


def read_export(text: str) -> Export:
    """Read a text of columns. Raises ReadingError where it holds no numbers, or too many."""
    lines = [line.rstrip() for line in text.lstrip("\ufeff").splitlines()]
    separator = _separator([line for line in lines if line.strip()])
    rows: list[tuple[float, ...]] = []
    heads: list[list[str]] = []
    begins: list[int] = []
    strange: list[tuple[int, str]] = []
    broken = True
    for number, line in enumerate(lines, 1):
        cells = [
            c.strip().strip('"')
            for c in (re.split(r"\s+", line.strip()) if separator == " " else line.split(separator))
        ]
        numbers = [_number(cell) for cell in cells]
        if any(n is not None for n in numbers) and all(
            n is not None or not cell for n, cell in zip(numbers, cells, strict=True)
        ):
            if broken:
                begins.append(len(rows))
                broken = False
            rows.append(tuple(math.nan if n is None else n for n in numbers))
            if len(rows) > MOST_SAMPLES:
                raise ReadingError("", f"a trace has at most {MOST_SAMPLES} samples")
        else:
            broken = True
            if rows and any(n is not None for n in numbers):
                strange.append((number, line.strip()[:60]))
            if not rows and line.strip():
                heads.append(
                    [c.strip().strip('"') for c in line.split(separator)] if separator != " " else _words(line)
                )
    width = max((len(row) for row in rows), default=0)
    if len(rows) < 2 or width > MOST_COLUMNS:
        raise ReadingError("", "there are no samples in this text: paste a line for each, time and value")
    full = tuple(row + (math.nan,) * (width - len(row)) for row in rows)
    columns = _columns(heads, full, width)
    made = Export(columns, tuple(zip(begins, [*begins[1:], len(full)], strict=True)), full)
    return Export(columns, _split(made), full, tuple(strange[:20]))


def _split(export: Export) -> tuple[tuple[int, int], ...]:
    """Runs cut again where time starts anew; stretches of one row are none."""
    found: list[tuple[int, int]] = []
    time = export.time
    for first, end in export.runs:
        start = first
        for i in range(first + 1, end):
            if time is not None and export.rows[i][time] < export.rows[i - 1][time]:
                found.append((start, i))
                start = i
        found.append((start, end))
    long = tuple(run for run in found if run[1] - run[0] > 1)
    return long or tuple(found)


def _number(cell: str) -> float | None:
    if not _NUMBER.fullmatch(cell):
        return None
    value = float(cell.replace(",", ".").replace("−", "-"))
    return value if abs(value) < LARGEST_SAMPLE else math.nan


def _words(line: str) -> list[str]:
    """The headings of a line set apart by spaces: two of them, or one with a unit in brackets."""
    return [part for part in re.split(r"\s{2,}|(?<=[\])])\s+", line.strip()) if part]


def _columns(heads: list[list[str]], rows: tuple[tuple[float, ...], ...], width: int) -> tuple[ExportColumn, ...]:
    """Names and units: the last heading of as many cells as there are columns, and a line of units alone under it."""
    fitting = [head for head in heads if len([c for c in head if c]) > 1 or width == 1]
    fitting = [head for head in fitting if len(head) >= width - 1]
    names = fitting[-1] if fitting else []
    under: list[str] = []
    if len(fitting) > 1 and all(_known(c) or not c for c in names) and any(c for c in names):
        under, names = names, fitting[-2]
    found = []
    for i in range(width):
        name = names[i] if i < len(names) else ""
        match = _UNIT.search(name)
        unit = _known(match[1]) if match else _known(under[i]) if i < len(under) else ""
        filled = sum(1 for row in rows if math.isfinite(row[i]))
        found.append(ExportColumn(_UNIT.sub("", name).strip()[:60] or f"column {i + 1}", unit, filled))
    return tuple(found)


def _known(text: str) -> str:
    """A unit as Cavrel writes it, empty where it is none."""
    bare = text.strip().strip("[]()").replace("²", "^2").replace("³", "^3").replace("·", " ")
    for spelled in (bare, bare.replace("s2", "s^2"), bare.replace("sec", "s")):
        try:
            if spelled:
                return units.unit(spelled).text
        except CavrelError:
            continue
    return ""


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
