"""Slips planted in a clean run by the rules of hands, of which the finder knows nothing; long because every kind has a function."""

import itertools
import math
import random
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition.steps import Derived, Input, Program
from cavrel.core.logbook.run import load
from cavrel.core.quantity import units

Document = dict[str, Any]
_PLAIN = re.compile(r"-?\d+(\.\d+)?")
_FIGURES = 4


@dataclass
class Bench:
    """One clean run and what can be done to it."""

    program: Program
    document: Document
    analysis: Analysis
    draw: random.Random
    truth: str = ""
    where: str = ""
    out: set[tuple[str, int, int]] = field(default_factory=set)

    def cells(self, wanted: Callable[[Input], bool] = lambda spec: True) -> list[tuple[Input, int, int, str]]:
        """(input, row, trial from 0, text) of every plain reading."""
        found = []
        for spec in self.program.inputs:
            if not wanted(spec):
                continue
            rows = self.rows(spec)
            for i, row in enumerate(rows):
                found += [(spec, i, j, text) for j, text in enumerate(row) if _PLAIN.fullmatch(text)]
        return found

    def rows(self, spec: Input) -> list[list[str]]:
        holder: Any = self.document["quantities"].get(spec.name) if spec.series is None else None
        cells = [holder] if spec.series is None else self.document["series"].get(spec.series, {}).get(spec.name, [])
        return [list(c) if isinstance(c, list) else [c or ""] for c in cells]

    def write(self, spec: Input, row: int, trial: int, text: str) -> None:
        if spec.series is None:
            holder, key = self.document["quantities"], spec.name
        else:
            holder, key = self.document["series"][spec.series][spec.name], row
        if isinstance(holder[key], list):
            holder[key][trial] = text
        else:
            holder[key] = text

    def scale(self, spec: Input, change: Callable[[float], float], rows: set[int] | None = None) -> None:
        """Every reading of an input changed, written to its own figures."""
        for i, row in enumerate(self.rows(spec)):
            for j, text in enumerate(row):
                if _PLAIN.fullmatch(text) and (rows is None or i in rows):
                    self.write(
                        spec,
                        i,
                        j,
                        figures(change(float(text)), max(_FIGURES - 1, len(re.sub(r"\D", "", text).lstrip("0")))),
                    )

    def place(self, spec: Input, row: int | None = None, trial: int | None = None) -> str:
        if spec.series is None:
            return f"quantities.{spec.name}" + (f".{trial + 1}" if trial else "")
        return spec.key + (f".{row + 1}" if row is not None else "") + (f".{trial + 1}" if trial is not None else "")


def figures(number: float, count: int) -> str:
    if number == 0 or not math.isfinite(number):
        return "0"
    decimals = count - 1 - math.floor(math.log10(abs(number)))
    return f"{number:.{max(0, min(decimals, 15))}f}"


class Nothing(Exception):
    """This kind of slip cannot happen here."""


def pick(bench: Bench, options: list[Any]) -> Any:
    if not options:
        raise Nothing
    return bench.draw.choice(options)


def _written(spec: Input) -> bool:
    return not spec.whole and not (spec.exact and not spec.unit.text)


def swapped(bench: Bench) -> None:
    spec, i, j, text = pick(bench, bench.cells(_written))
    places = [k for k, c in enumerate(text) if c.isdigit()]
    pairs = [(a, b) for a, b in itertools.pairwise(places) if text[a] != text[b]]
    a, b = pick(bench, pairs)
    changed_text = list(text)
    changed_text[a], changed_text[b] = changed_text[b], changed_text[a]
    bench.write(spec, i, j, "".join(changed_text))
    bench.where = bench.place(spec, i, j)


def misread(bench: Bench) -> None:
    spec, i, j, text = pick(bench, bench.cells(_written))
    pairs = {"3": "8", "8": "3", "1": "7", "7": "1", "5": "6", "6": "5"}
    k = pick(bench, [k for k, c in enumerate(text) if c in pairs])
    bench.write(spec, i, j, text[:k] + pairs[text[k]] + text[k + 1 :])
    bench.where = bench.place(spec, i, j)


def neighbouring_mark(bench: Bench) -> None:
    spec, i, j, text = pick(bench, bench.cells(_written))
    k = pick(bench, [k for k, c in enumerate(text) if c in "12345678"])
    bench.write(spec, i, j, text[:k] + str(int(text[k]) + bench.draw.choice((-1, 1))) + text[k + 1 :])
    bench.where = bench.place(spec, i, j)


def decimal(bench: Bench) -> None:
    spec, i, j, text = pick(bench, bench.cells(_written))
    number, digits = float(text), len(re.sub(r"\D", "", text).lstrip("0"))
    bench.write(spec, i, j, figures(number * bench.draw.choice((10, 0.1)), max(digits, 1)))
    bench.where = bench.place(spec, i, j)


_OTHER = {
    "cm": ("m", "mm"),
    "mm": ("cm", "m"),
    "m": ("cm",),
    "g": ("kg",),
    "s": ("ms",),
    "ms": ("s",),
    "A": ("mA",),
    "V": ("mV",),
    "nm": ("µm",),
}


def unit(bench: Bench) -> None:
    """A cell, a row or a whole column."""
    spec = pick(
        bench, [s for s in bench.program.inputs if s.unit.text in _OTHER and bench.cells(lambda x, s=s: x is s)]
    )
    other = units.unit(bench.draw.choice(_OTHER[spec.unit.text]))
    how = bench.draw.choice(("row", "column")) if spec.series else "column"
    row = bench.draw.randrange(len(bench.rows(spec)))
    bench.scale(spec, lambda v: v * spec.unit.factor / other.factor, {row} if how == "row" else None)
    bench.where = bench.place(spec, row if how == "row" else None)


def count(bench: Bench) -> None:
    """All timings, or one, over another number than is written."""
    whole = [
        s
        for s in bench.program.inputs
        if s.whole and s.series is None and (s.default or bench.cells(lambda x, s=s: x is s))
    ]
    spec = pick(bench, whole)
    text = bench.document["quantities"].get(spec.name) or spec.default
    n = float(text)
    if bench.draw.random() < 0.5:
        off = bench.draw.choice((1, -1, 0.5, -0.5))
        bench.document["quantities"][spec.name] = f"{n + off:g}"
        bench.where = bench.place(spec)
        return
    second = units.unit("s").dimension
    used = set().union(
        *(
            _names(bench.program, step)
            for step in bench.program.steps
            if isinstance(step, Derived) and spec.name in _names(bench.program, step)
        )
    )
    timed = bench.cells(lambda s: s.unit.dimension == second and s.name in used)
    cell, i, j, typed = pick(bench, timed)
    off = bench.draw.choice((1, -1))
    bench.write(cell, i, j, figures(float(typed) * (n + off) / n, len(re.sub(r"\D", "", typed))))
    bench.where = bench.place(cell, i, j)


def _names(program: Program, step: Derived) -> set[str]:
    definition = program.definition
    body = definition.series[step.series].columns[step.name] if step.series else definition.quantities[step.name]
    return set(re.findall(r"[A-Za-z_]\w*", body.formula or ""))


def angle(bench: Bench) -> None:
    spec = pick(bench, [s for s in bench.program.inputs if s.unit.text == "°" and bench.cells(lambda x, s=s: x is s)])
    factor = bench.draw.choice((math.pi / 180, 10 / 9, 0.5, 2.0))
    bench.scale(spec, lambda v: v * factor)
    bench.where = bench.place(spec)


def diameter(bench: Bench) -> None:
    words = re.compile(r"diamet|radius", re.IGNORECASE)
    spec = pick(
        bench, [s for s in bench.program.inputs if words.search(s.label) and bench.cells(lambda x, s=s: x is s)]
    )
    bench.scale(spec, lambda v: v * (2.0 if "radius" in spec.label.lower() else 0.5))
    bench.where = bench.place(spec)


def offset(bench: Bench) -> None:
    """A zero of the scale in a whole column."""
    spec = pick(
        bench,
        [
            s
            for s in bench.program.inputs
            if s.series
            and not s.exact
            and not s.count
            and len(bench.rows(s)) > 3
            and bench.cells(lambda x, s=s: x is s)
        ],
    )
    values = np.array([float(c[3]) for c in bench.cells(lambda x: x is spec)])
    amount = bench.draw.uniform(0.03, 0.2) * float(np.median(np.abs(values))) * bench.draw.choice((-1, 1))
    step = 10 ** -max(len(c[3].partition(".")[2]) for c in bench.cells(lambda x: x is spec))
    amount = round(amount / step) * step
    for _, i, j, text in bench.cells(lambda x: x is spec):
        bench.write(spec, i, j, f"{float(text) + amount:.{len(text.partition('.')[2])}f}")
    bench.where = bench.place(spec)


def rows_exchanged(bench: Bench) -> None:
    spec = pick(
        bench,
        [s for s in bench.program.inputs if s.series and len(bench.rows(s)) > 3 and bench.cells(lambda x, s=s: x is s)],
    )
    rows = bench.rows(spec)
    i = bench.draw.randrange(len(rows) - 1)
    for k, row in ((i, rows[i + 1]), (i + 1, rows[i])):
        for j, text in enumerate(row):
            bench.write(spec, k, j, text)
    bench.where = bench.place(spec, i)


def columns_exchanged(bench: Bench) -> None:
    """Two columns, or two quantities, of one kind."""
    pairs = [
        (a, b)
        for a in bench.program.inputs
        for b in bench.program.inputs
        if a.key < b.key
        and a.series == b.series
        and a.unit.text == b.unit.text
        and a.unit.text
        and a.repeats == b.repeats
        and bench.cells(lambda x, a=a: x is a)
        and bench.cells(lambda x, b=b: x is b)
    ]
    a, b = pick(bench, pairs)
    row = bench.draw.randrange(len(bench.rows(a))) if a.series and bench.draw.random() < 0.5 else None
    _exchange(bench, a, b, row)


def _exchange(bench: Bench, a: Input, b: Input, row: int | None = None) -> None:
    """What stands in two columns, or in one row of them, in each other's place."""
    first, second = bench.rows(a), bench.rows(b)
    for spec, rows in ((a, second), (b, first)):
        for i, cells in enumerate(rows):
            for j, text in enumerate(cells):
                if row is None or i == row:
                    bench.write(spec, i, j, text)
    bench.where = bench.place(a, row)


def heads(bench: Bench) -> None:
    """Two columns of different kinds, each written under the other's head."""
    pairs = [
        (a, b)
        for a in bench.program.inputs
        for b in bench.program.inputs
        if a.key < b.key
        and a.series
        and a.series == b.series
        and a.unit.dimension != b.unit.dimension
        and a.repeats == b.repeats
        and not (a.whole or b.whole or a.unit.offset or b.unit.offset)
        and bench.cells(lambda x, a=a: x is a)
        and bench.cells(lambda x, b=b: x is b)
    ]
    _exchange(bench, *pick(bench, pairs))


def neighbour(bench: Bench) -> None:
    """The row next to it was read once more instead."""
    spec, i, j, _ = pick(bench, bench.cells(lambda s: s.role == "measured" and len(bench.rows(s)) > 3))
    rows = bench.rows(spec)
    other = pick(bench, [k for k in (i - 1, i + 1) if 0 <= k < len(rows)])
    bench.write(spec, i, j, rows[other][j])
    bench.where, bench.out = bench.place(spec, i, j), {(spec.key, i + 1, j + 1)}


def derived(bench: Bench) -> None:
    """The computed value in the place of the reading."""
    options = []
    for step in bench.program.steps:
        if isinstance(step, Derived) and step.series:
            typed = [
                s
                for s in bench.program.inputs
                if s.series == step.series and s.role == "measured" and s.name in _names(bench.program, step)
            ]
            if len(typed) == 1 and typed[0].repeats >= 1:
                options.append((step, typed[0]))
    step, spec = pick(bench, options)
    table = bench.document["series"][spec.series]
    rows = bench.rows(spec)
    written = [list(row) for row in rows]
    for j in range(max(len(row) for row in rows)):  # what the formula makes of each trial by itself
        alone = {
            **bench.document,
            "series": {**bench.document["series"], spec.series: {**table, spec.name: [r[j] for r in rows]}},
        }
        values = step.unit.from_si(analyse(bench.program, load(alone)).values[step.key].value)
        for i, value in enumerate(values.tolist()):
            written[i][j] = figures(value, max(4, len(re.sub(r"\D", "", rows[i][j]))))
    for i, row in enumerate(written):
        for j, text in enumerate(row):
            bench.write(spec, i, j, text)
    bench.where = bench.place(spec)


def sign(bench: Bench) -> None:
    spec, i, j, text = pick(
        bench, bench.cells(lambda s: s.role != "set" and s.unit.text in ("V", "mV", "A", "N", "m/s^2", "mm", "cm"))
    )
    bench.write(spec, i, j, text[1:] if text.startswith("-") else f"-{text}")
    bench.where = bench.place(spec, i, j)


def index(bench: Bench) -> None:
    """Numbered one off throughout, or one skipped."""
    specs = [
        s
        for s in bench.program.inputs
        if s.series
        and s.role == "set"
        and not s.unit.text
        and all(t.lstrip("-").isdigit() for r in bench.rows(s) for t in r)
    ]
    spec = pick(bench, [s for s in specs if bench.rows(s)])
    rows = bench.rows(spec)
    off = bench.draw.choice((1, -1))
    start = bench.draw.randrange(1, len(rows) - 1) if bench.draw.random() < 0.5 and len(rows) > 3 else 0
    for i in range(start, len(rows)):
        bench.write(spec, i, 0, str(int(rows[i][0]) + off))
    bench.where = bench.place(spec, start if start else None)


def temperature(bench: Bench) -> None:
    spec = pick(bench, [s for s in bench.program.inputs if s.unit.text == "°C" and bench.cells(lambda x, s=s: x is s)])
    kelvin = bench.draw.random() < 0.5
    bench.scale(spec, (lambda v: v + 273.15) if kelvin else (lambda v: v * 9 / 5 + 32))
    bench.where = bench.place(spec)


def side(bench: Bench) -> None:
    """The left side read again where the right one belongs."""
    pairs = [
        (a, b)
        for a in bench.program.inputs
        for b in bench.program.inputs
        if a.key < b.key
        and a.series
        and a.series == b.series
        and {"left", "right"} <= set(f"{a.label} {b.label}".lower().split())
    ]
    a, b = pick(bench, pairs)
    rows = bench.rows(a)
    row = bench.draw.randrange(len(rows))
    for j, text in enumerate(rows[row]):
        bench.write(b, row, j, text)
    bench.where = bench.place(b, row)
    bench.out = {(b.key, row + 1, j + 1) for j in range(len(rows[row]))}


def frequency(bench: Bench) -> None:
    """Light by its frequency in THz where its wavelength in nm belongs."""
    spec = pick(
        bench,
        [s for s in bench.program.inputs if s.unit.text == "nm" and s.series and bench.cells(lambda x, s=s: x is s)],
    )
    bench.scale(spec, lambda v: 299792.458 / v)
    bench.where = bench.place(spec)


PLANTS: dict[str, Callable[[Bench], None]] = {
    f.__name__: f
    for f in (
        swapped, misread, neighbouring_mark, decimal, unit, count, angle, diameter, offset, rows_exchanged, columns_exchanged, heads, neighbour,
        derived, sign, index, temperature, side, frequency,
    )
}  # fmt: skip
