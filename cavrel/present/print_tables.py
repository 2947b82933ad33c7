"""Tables as they are printed: captions, units, ± on entries."""

import math
import re
from dataclasses import dataclass

from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.definition.headings import hidden, marks_label
from cavrel.core.formula import mathml
from cavrel.core.formula.nodes import Name
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset_name
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import Reading
from cavrel.core.quantity.rounding import fixed
from cavrel.core.quantity.units import Unit
from cavrel.core.quantity.value import exact_text
from cavrel.present import graphs, texts
from cavrel.service.run_view import RunView

UNITLESS = units.unit("")


@dataclass(frozen=True, slots=True, kw_only=True)
class Ruled:
    """A table as it is printed.

    ``head``: (what, unit) of each column.
    ``letters``: of each column, as MathML, by its number; ``what`` ends with it.
    ``rows``: texts.
    ``out``: rows left out, with the reason, by number.
    ``formulas``: (label, formula as MathML) of each computed column.
    """

    caption: str
    head: list[tuple[str, str]]
    letters: dict[int, tuple[str, str]]
    rows: list[list[str]]
    out: dict[int, str]
    formulas: list[tuple[str, str]]


def tables(opened: RunView, each: bool = False, trials: bool = True) -> list[Ruled]:
    """Every table that holds a reading, with captions and units: what was read, each column in one unit, and what is computed from it. ``each``: a
    reading that stands alone has its ± too, as examinations ask for it; ``trials``: repeated readings stand next to their mean."""
    found = []
    for number, (name, body) in enumerate(opened.definition.series.items(), 1):
        entries = {e.spec.key: e for e in opened.analysis.sheet.inputs}
        count = opened.analysis.sheet.rows[name]
        head: list[tuple[str, str]] = [("", "")]
        letters: dict[int, tuple[str, str]] = {}
        columns: list[list[str]] = []
        marked = marks_label(opened.definition, opened.state.run.headings, name)
        if marked:
            head.append((marked, ""))
            columns.append(list(opened.analysis.marks(name)))
        for column, described in body.columns.items():
            key = f"{name}.{column}"
            if hidden(described, opened.state.run.headings.get(key)):
                continue
            values = opened.analysis.values[key]
            entry = entries.get(key)
            label, unit = _headed(opened, key, described.label), values.unit.pretty
            letters[len(head)] = described.label, mathml.math(mathml.name(_letter(opened, key)))
            alone = entry is not None and entry.values.shape[1] < 2
            if entry is not None and not (alone and each):
                for trial in range(1, entry.values.shape[1] + 1 if alone or trials else 1):
                    head.append((label if trial == 1 else f"trial {trial}", unit))
                    columns.append(_column(opened, entry, trial, count))
                if alone:
                    continue
                label = "mean" if trials else f"{label}, mean"
            places = texts.decimals(values)
            head.append((label, unit))
            columns.append(
                [_with_u(texts.cell(values, r, places), texts.u_cell(values, r, places)) for r in range(count)]
            )
        for what, unit, plotted in _plotted(opened, name, count):
            head.append((what, unit))
            columns.append(plotted)
        rows = [[str(r + 1), *(column[r] for column in columns)] for r in range(count)]
        rows = [row for row in rows if any(row[1:])]
        if rows:
            found.append(
                Ruled(
                    caption=f"Table {number}. {body.label}",
                    head=head,
                    letters=letters,
                    rows=rows,
                    out=opened.analysis.run.left_out_rows(name),
                    formulas=[
                        (described.label, _formula(opened, f"{name}.{column}", described.formula))
                        for column, described in body.columns.items()
                        if described.formula
                    ],
                )
            )
    return found


def _plotted(opened: RunView, series: str, count: int) -> list[tuple[str, str, list[str]]]:
    """(what, unit, texts) of what stands on the axes of the series' graphs and is no column of it: T² where T is one."""
    found: dict[str, tuple[str, str, list[str]]] = {}
    for fit in opened.analysis.fits.values():
        step = opened.program.fits[fit.name]
        if step.series != series or step.x is None or not fit.made:
            continue
        marks = {mark.at: mark for mark in graphs.fit_marks(opened, fit)}
        for node, axis, along in zip((step.x, step.y), graphs.fit_axes(opened, fit), ("x", "y"), strict=True):
            if isinstance(node, Name) or axis.symbol in found:
                continue
            cells = []
            for row in range(1, count + 1):
                mark = marks.get(f"{series}.{row}")
                value, u = (getattr(mark, along), getattr(mark, f"u_{along}")) if mark else (math.nan, math.nan)
                cells.append(opened.analysis.measured(value, u, UNITLESS).bare() if math.isfinite(value) else "")
            found[axis.symbol] = axis.symbol, axis.unit, cells
    return list(found.values())


def _letter(opened: RunView, key: str) -> str:
    heading = opened.state.run.headings.get(key)
    return heading.symbol if heading and heading.symbol else key.rpartition(".")[2]


def _headed(opened: RunView, key: str, label: str) -> str:
    """What stands over a column: its label and the letter that formulas know it by."""
    return f"{label}, {typeset_name(_letter(opened, key))}"


def _formula(opened: RunView, key: str, formula: str) -> str:
    return mathml.math(mathml.equation(Name(_letter(opened, key)), parse(formula)))


def _column(opened: RunView, entry: InputReadings, trial: int, count: int) -> list[str]:
    """One trial of a column, every row in the column's unit; what stands for itself, such as degrees and minutes throughout, as it was typed."""
    typed = {row: entry.readings[row, trial] for row in range(1, count + 1) if (row, trial) in entry.readings}
    alike = len({bool(_PLAIN.fullmatch(reading.text)) for reading in typed.values()}) < 2
    arcs = bool(typed) and alike and all("°" in reading.text for reading in typed.values())
    faults = {(fault.row, fault.trial): fault.text for fault in entry.faults}
    values = opened.analysis.values[entry.spec.key]
    places = texts.decimals(values)
    found = []
    for row in range(1, count + 1):
        if row in typed:
            found.append(typed[row].text if arcs else in_unit(typed[row], entry.spec.unit))
        elif (row, trial) in faults:
            found.append(faults[row, trial])
        elif trial <= entry.extracted.shape[1] and math.isfinite(float(entry.extracted[row - 1, trial - 1])):
            value = values.unit.from_si(float(entry.values[row - 1, trial - 1]))
            u = float(entry.extracted[row - 1, trial - 1]) / values.unit.factor
            found.append(_with_u(fixed(value, places), fixed(u, places) if u > 0 else ""))
        else:
            found.append("")
    return found


_PLAIN = re.compile(r"\s*[-+−]?\d+(?:[.,]\d*)?\s*")


def in_unit(reading: Reading, unit: Unit) -> str:
    """A reading as a number of ``unit``, with the decimals that it was typed with: what stands under ``/ mm`` is in millimetres. A plain number
    stays as it was typed; the logbook keeps every other text."""
    if _PLAIN.fullmatch(reading.text):
        return reading.text.strip().replace(",", ".")
    places = max(0, -math.floor(math.log10(reading.last_digit / unit.factor) + 1e-9))
    value = fixed(unit.from_si(reading.value), places)
    if reading.stated is None:
        return value
    u = reading.stated / unit.factor
    digits = max(places, -math.floor(math.log10(u) + 1e-9) if u > 0 else 0)
    return f"{fixed(unit.from_si(reading.value), digits)} ± {fixed(u, digits)}"


def _with_u(value: str, u: str) -> str:
    return f"{value} ± {u}" if value and u else value


def quantities(opened: RunView) -> list[tuple[str, str]]:
    found = []
    for name, body in opened.definition.quantities.items():
        values = opened.analysis.values[name]
        value, u = float(values.value[0]), float(values.u[0])
        if math.isfinite(value):
            # What is counted or set has no digits beyond its own.
            said = opened.analysis.measured(value, u, values.unit).text() if u > 0 else exact_text(value, values.unit)
            found.append((body.label, said))
    return found
