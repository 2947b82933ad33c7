"""A run as a workbook: what was typed, and next to it everything that follows from it, computed by the sheet itself wherever it can."""

import contextlib
import math
from collections.abc import Mapping, Sequence

import numpy as np

from cavrel.core.analysis import Analysis, Values
from cavrel.core.document import lines
from cavrel.core.document.live import Live, NotLive, Part, Ref, checked, in_si, literal, shown, translate
from cavrel.core.document.page import Cell, Page, finite
from cavrel.core.errors import CavrelError
from cavrel.core.formula.nodes import Member, Name, Node
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import unparse


def workbook(analysis: Analysis, title: str = "", made: str = "") -> list[Page]:
    """About, quantities, every table, every line, results; the same formulas that Cavrel uses, over the sheet's own cells."""
    return Book(analysis).pages(title, made)


class Book:
    """Lays one analysis out; ``place`` keeps where each value stands, with the number it shows."""

    def __init__(self, analysis: Analysis) -> None:
        self.analysis = analysis
        self.definition = analysis.program.definition
        self.inputs = {e.spec.key: e for e in analysis.sheet.inputs}
        self.place: dict[tuple[str, int], Ref] = {}
        self.lines: dict[tuple[str, str], Ref] = {}

    def pages(self, title: str, made: str) -> list[Page]:
        names = _names(["Quantities", *self.definition.series, *(f"fit {n}" for n in self.analysis.fits), "Results"])
        found = []
        if self.definition.quantities:
            found.append(self.quantities("Quantities"))
        found += [self.series(name, names[name]) for name in self.definition.series]
        for name, fit in self.analysis.fits.items():
            step = self.analysis.program.fits.get(name)
            if fit.made and step is not None and step.x is not None:
                found.append(lines.page(self, step, fit, names[f"fit {name}"]))
        if self.analysis.results:
            found.append(self.results("Results"))
        return [self.about(title, made), *found]

    def about(self, title: str, made: str) -> Page:
        rows: list[list[Cell]] = [
            [title or self.definition.title],
            [self.definition.title],
            ["simulated readings" if self.analysis.run.on_screen else "measured", made or None],
            [None],
            ["Texts are what was typed. Numbers next to them are in the unit at the head of their column."],
            [
                "Cells with a formula compute what Cavrel computes, from the cells they name; the others hold its values."
            ],
            [
                "u is a standard uncertainty. A sheet named 'fit' has the straight line twice: by LINEST, and as Cavrel has it."
            ],
        ]
        return Page("About", rows, 1)

    # --- what was read -------------------------------------------------------------------------------------------

    def quantities(self, sheet: str) -> Page:
        most = max((self.inputs[n].values.shape[1] for n in self.definition.quantities if n in self.inputs), default=1)
        head: list[Cell] = ["quantity", "what it is", *(f"typed {i + 1}" for i in range(most))]
        head += [*(f"read {i + 1}" for i in range(most)), "value", "u", "unit", "formula"]
        rows: list[list[Cell]] = [head]
        column = 3 + 2 * most
        for number, name in enumerate(self.definition.quantities, 2):
            self.place[name, 0] = Ref(sheet=sheet, row=number, column=column)
        for name, body in self.definition.quantities.items():
            values, entry = self.analysis.values[name], self.inputs.get(name)
            texts, read = self.typed(name, 1, most), self.read(name, 1, most)
            here = Ref(sheet=sheet, row=len(rows) + 1, column=3 + most, to_row=len(rows) + 1, to_column=2 + 2 * most)
            value = (
                self.mean_of(read, here, values, 0)
                if entry is not None
                else self.computed(body.formula, None, values, 0)
            )
            rows.append(
                [
                    name,
                    body.label,
                    *texts,
                    *read,
                    value,
                    self.u(values, 0),
                    values.unit.text or None,
                    _formula(body.formula),
                ]
            )
        return Page(sheet, rows, 1)

    def series(self, name: str, sheet: str) -> Page:
        body = self.definition.series[name]
        count = self.analysis.sheet.rows[name]
        names: list[Cell] = ["row"]
        units: list[Cell] = [None]
        rows: list[list[Cell]] = [[float(i + 1)] for i in range(count)]
        # Places first: a formula may name a column that stands to its right.
        at = 2
        for column in body.columns:
            entry = self.inputs.get(f"{name}.{column}")
            trials = entry.values.shape[1] if entry is not None else 0
            at += trials + (trials if trials > 1 else 0)
            for row in range(count):
                self.place[f"{name}.{column}", row] = Ref(sheet=sheet, row=row + 3, column=at)
            at += 2
        for column, described in body.columns.items():
            key = f"{name}.{column}"
            values, entry = self.analysis.values[key], self.inputs.get(key)
            trials = entry.values.shape[1] if entry is not None else 0
            names += [f"{column} typed {t + 1}" if trials > 1 else f"{column} typed" for t in range(trials)]
            units += [None] * trials
            if trials > 1:
                names += [f"{column} {t + 1}" for t in range(trials)]
                units += [values.unit.text or None] * trials
            names += [column, f"u({column})"]
            units += [values.unit.text or None] * 2
            for row in range(count):
                texts, read = self.typed(key, row + 1, trials), self.read(key, row + 1, trials)
                rows[row] += texts
                first = len(rows[row]) + 1
                if trials > 1:
                    rows[row] += read
                here = Ref(sheet=sheet, row=row + 3, column=first, to_row=row + 3, to_column=first + trials - 1)
                if entry is None:
                    value = self.computed(described.formula, name, values, row)
                elif trials > 1:
                    value = self.mean_of(read, here, values, row)
                else:
                    value = self.number(values, row)
                rows[row] += [value, self.u(values, row)]
        names.append("left out")
        units.append(None)
        reasons = self.analysis.run.left_out_rows(name)
        for row in range(count):
            rows[row].append(reasons.get(row + 1))
        return Page(sheet, [names, units, *rows], 2)

    def typed(self, key: str, row: int, trials: int) -> list[Cell]:
        entry = self.inputs.get(key)
        if entry is None:
            return [None] * trials
        return [entry.readings[row, t].text if (row, t) in entry.readings else None for t in range(1, trials + 1)]

    def read(self, key: str, row: int, trials: int) -> list[Cell]:
        entry = self.inputs.get(key)
        if entry is None:
            return [None] * trials
        own = entry.values[row - 1]
        return [finite(entry.spec.unit.from_si(float(own[t]))) if t < len(own) else None for t in range(trials)]

    def mean_of(self, read: Sequence[Cell], cells: Ref, values: Values, row: int) -> Cell:
        """The mean of the trials as the sheet has them, where that is what Cavrel takes: a zero reading is subtracted besides."""
        there = [cell for cell in read if isinstance(cell, float)]
        value = self.number(values, row)
        if not there or value is None:
            return value
        return checked(Live(("AVERAGE(", cells, ")"), float(np.mean(there))), value)

    def number(self, values: Values, row: int) -> float | None:
        return finite(values.unit.from_si(float(values.value[row]))) if row < len(values.value) else None

    def u(self, values: Values, row: int) -> float | None:
        return finite(float(values.u[row]) / values.unit.factor) if row < len(values.u) else None

    # --- what follows --------------------------------------------------------------------------------------------

    def computed(self, formula: str | None, series: str | None, values: Values, row: int) -> Cell:
        value = self.number(values, row)
        if formula is None or value is None:
            return value
        try:
            return checked(shown(self.formula(parse(formula), series, row), values.unit), value)
        except (NotLive, CavrelError):
            return value

    def formula(self, node: Node, series: str | None, row: int) -> Live:
        """A formula at a row of ``series``, or of the run, in SI. Raises NotLive."""
        return translate(node, lambda name: self.named(name, series, row), lambda f, a: self.fold(f, a, series))

    def named(self, node: Name | Member, series: str | None, row: int) -> Live:
        if isinstance(node, Member):
            fit = self.analysis.fits.get(node.owner)
            if fit is not None and node.name in fit.parameters:
                parameter = fit.parameters[node.name]
                ref = self.lines.get((node.owner, node.name))
                if ref is None:
                    return literal(parameter.value)
                return in_si(ref, parameter.unit.from_si(parameter.value), parameter.unit)
            constant = self.analysis.program.constants.get(f"{node.owner}.{node.name}")
            if constant is None:
                raise NotLive
            return literal(constant)
        for key, at in ((f"{series}.{node.name}", row), (node.name, 0)):
            if key in self.analysis.values and (key, at) in self.place:
                values = self.analysis.values[key]
                number = self.number(values, at)
                if number is None:
                    raise NotLive
                return in_si(self.place[key, at], number, values.unit)
        if node.name in self.analysis.results and not self.analysis.results[node.name].reason:
            result = self.analysis.results[node.name]
            if (node.name, 0) not in self.place:
                raise NotLive
            return in_si(self.place[node.name, 0], result.unit.from_si(result.value), result.unit)
        if node.name == "pi":
            return Live(("PI()",), math.pi)
        if node.name in self.analysis.program.accepted:
            return literal(self.analysis.program.accepted[node.name].value)
        raise NotLive

    def fold(self, function: str, node: Node, series: str | None) -> Live:
        """A fold of a whole column, none of its rows left out. Raises NotLive."""
        if isinstance(node, Member):
            key = f"{node.owner}.{node.name}"
        elif isinstance(node, Name) and series is not None:
            key = f"{series}.{node.name}"
        else:
            raise NotLive
        values = self.analysis.values.get(key)
        if values is None or self.analysis.run.left_out_rows(key.partition(".")[0]):
            raise NotLive
        numbers = [self.number(values, row) for row in range(len(values.value))]
        there = [n for n in numbers if n is not None]
        if len(there) < len(numbers) or not there or (function == "sum" and values.unit.offset):
            raise NotLive
        first, last = self.place[key, 0], self.place[key, len(numbers) - 1]
        block = Ref(sheet=first.sheet, row=first.row, column=first.column, to_row=last.row, to_column=last.column)
        folded: Mapping[str, tuple[tuple[Part, ...], float]] = {
            "mean": (("AVERAGE(", block, ")"), float(np.mean(there))),
            "sum": (("SUM(", block, ")"), float(np.sum(there))),
            "first": ((first,), there[0]),
            "last": ((last,), there[-1]),
            "min": (("MIN(", block, ")"), min(there)),
            "max": (("MAX(", block, ")"), max(there)),
            "count": (("COUNT(", block, ")"), float(len(there))),
        }
        parts, value = folded[function]
        if function == "count":
            return Live(parts, value)
        unit = values.unit
        scaled: tuple[Part, ...] = (
            (*parts,) if unit.factor == 1 else ("(", *parts, "*", *literal(unit.factor).parts, ")")
        )
        if unit.offset:
            scaled = ("(", *scaled, "+", *literal(unit.offset).parts, ")")
        return Live(scaled, unit.to_si(value))

    # --- results -------------------------------------------------------------------------------------------------

    def results(self, sheet: str) -> Page:
        rows: list[list[Cell]] = [
            ["result", "what it is", "value", "u", "unit", "k for 95 %", "compared with", "formula", "waits for"]
        ]
        for number, name in enumerate(self.analysis.results, 2):
            self.place[name, 0] = Ref(sheet=sheet, row=number, column=3)
        for name, result in self.analysis.results.items():
            body, unit = self.definition.results[name], result.unit
            value: Cell = finite(unit.from_si(result.value))
            if isinstance(value, float) and body.formula:
                with contextlib.suppress(NotLive, CavrelError):
                    value = checked(shown(self.formula(parse(body.formula), None, 0), unit), value)
            other = result.accepted
            rows.append(
                [
                    name,
                    body.label,
                    value,
                    finite(result.u / unit.factor),
                    unit.text or None,
                    finite(result.coverage_factor),
                    finite(unit.from_si(other.value)) if other is not None else None,
                    _formula(body.formula),
                    result.reason or None,
                ]
            )
        return Page(sheet, rows, 1)


def _formula(text: str | None) -> str | None:
    return text if text is None else unparse(parse(text))


def _names(wanted: Sequence[str]) -> dict[str, str]:
    """Names that a spreadsheet takes, each once whatever their case."""
    found: dict[str, str] = {}
    taken = {"about"}
    for name in wanted:
        made, number = name[:28], 2
        while made.lower() in taken:
            made, number = f"{name[:25]} {number}", number + 1
        taken.add(made.lower())
        found[name] = made
    return found
