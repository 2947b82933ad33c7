"""A run's tables as plain cells: what was typed next to what follows from it, each column with its unit; for CSV and whatever reads rows."""

import csv
import io
import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from cavrel.core.analysis import Analysis, Values
from cavrel.core.analysis.trace import sample_times
from cavrel.core.definition.headings import marks_label
from cavrel.core.errors import CavrelError
from cavrel.core.logbook.run import traces as traces_of
from cavrel.core.quantity.units import Unit

Cell = str | float | None

_FORMULA = re.compile(r"^[\s]*[=+\-@\t\r]")
_NUMBER = re.compile(r"^\s*[-+]?(\d+([.,]\d*)?|[.,]\d+)([eE][-+]?\d+)?\s*$")


@dataclass(frozen=True, slots=True, kw_only=True)
class Column:
    """A column. ``name``: short; ``unit``: empty for plain numbers and texts; ``title``: what it is; ``text``: it holds what was typed."""

    name: str
    unit: str
    title: str
    text: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Table:
    """A table. ``name``: for a file; ``title``: for people; ``rows``: numbers in the columns' units, texts as typed, None for nothing;
    ``simulated``: its readings are those of simulated apparatus."""

    name: str
    title: str
    columns: tuple[Column, ...]
    rows: tuple[tuple[Cell, ...], ...]
    simulated: bool = False


def tables(analysis: Analysis) -> list[Table]:
    """Quantities, every series, the results, and the samples behind readings that come from a trace."""
    found = [_quantities(analysis)] if analysis.program.definition.quantities else []
    found += [_series(analysis, name) for name in analysis.program.definition.series]
    if analysis.results:
        found.append(_results(analysis))
    return [replace(table, simulated=analysis.run.on_screen) for table in (*found, *_traces(analysis))]


def _traces(analysis: Analysis) -> Iterator[Table]:
    for series, columns in analysis.run.traces.items():
        for column, cells in columns.items():
            body = analysis.program.definition.series[series].columns[column]
            label, as_it_came = body.label, ", with the sensor's own sign, which the column changes" * body.reversed
            for row, cell in enumerate(cells, 1):
                for trial, trace in enumerate(traces_of(cell), 1):
                    if trace is None or not trace.values:
                        continue
                    try:
                        times = sample_times(trace.rate, trace.start, trace.times, len(trace.values))
                    except CavrelError:
                        continue  # a rate that cannot be read; the run document has it as it was typed
                    yield Table(
                        name=f"trace_{series}_{column}_{row}" + (f"_{trial}" if trial > 1 else ""),
                        title=f"Samples of {label}, row {row}" + (f", trial {trial}" if trial > 1 else ""),
                        columns=(
                            Column(name="time", unit="s", title="Time", text=False),
                            Column(name="value", unit=trace.unit, title=f"Sample for {label}{as_it_came}", text=False),
                        ),
                        rows=tuple(zip((float(t) for t in times), trace.values)),
                    )


def _number(value: float, unit: Unit) -> float | None:
    shown = unit.from_si(value)
    return float(shown) if math.isfinite(shown) else None


def _u(value: float, unit: Unit) -> float | None:
    return float(value / unit.factor) if math.isfinite(value) else None


def _texts(analysis: Analysis, key: str, row: int, trials: int) -> list[Cell]:
    entry = next(e for e in analysis.sheet.inputs if e.spec.key == key)
    return [entry.readings[row, t].text if (row, t) in entry.readings else None for t in range(1, trials + 1)]


def _quantities(analysis: Analysis) -> Table:
    columns = (
        Column(name="quantity", unit="", title="Quantity", text=True),
        Column(name="label", unit="", title="What it is called", text=True),
        Column(name="typed", unit="", title="As typed, trials apart", text=True),
        Column(name="value", unit="", title="Value, in its unit", text=False),
        Column(name="u", unit="", title="Standard uncertainty, in its unit", text=False),
        Column(name="unit", unit="", title="Unit", text=True),
    )
    rows = []
    inputs = {e.spec.key: e for e in analysis.sheet.inputs}
    for name, body in analysis.program.definition.quantities.items():
        values = analysis.values[name]
        typed = [t for t in _texts(analysis, name, 1, inputs[name].values.shape[1]) if t] if name in inputs else []
        value, u = float(values.value[0]), float(values.u[0])
        rows.append(
            (
                name,
                body.label,
                " | ".join(str(t) for t in typed) or None,
                _number(value, values.unit),
                _u(u, values.unit),
                values.unit.text or None,
            )
        )
    return Table(name="quantities", title="Quantities of the run", columns=columns, rows=tuple(rows))


def _series(analysis: Analysis, name: str) -> Table:
    body = analysis.program.definition.series[name]
    count = analysis.sheet.rows[name]
    inputs = {e.spec.key: e for e in analysis.sheet.inputs}
    columns: list[Column] = [Column(name="row", unit="", title="Row", text=False)]
    cells: list[list[Cell]] = [[float(i + 1)] for i in range(count)]
    for column, described in body.columns.items():
        key = f"{name}.{column}"
        values = analysis.values[key]
        entry = inputs.get(key)
        if entry is not None:
            trials = entry.values.shape[1]
            for trial in range(1, trials + 1):
                number = f"_{trial}" if trials > 1 else ""
                title = f"{described.label}, as typed" + (f", trial {trial}" if trials > 1 else "")
                columns.append(Column(name=f"{column}_typed{number}", unit="", title=title, text=True))
            for row in range(count):
                cells[row] += _texts(analysis, key, row + 1, trials)
        _described(columns, cells, column, described.label, values)
    marks = analysis.marks(name)
    if any(marks):
        label = marks_label(analysis.program.definition, analysis.run.headings, name)
        columns.append(Column(name="mark", unit="", title=label or "Mark", text=True))
        for row in range(count):
            cells[row].append(marks[row] or None)
    columns.append(Column(name="left_out", unit="", title="Why the row is left out", text=True))
    reasons = analysis.run.left_out_rows(name)
    for row in range(count):
        cells[row].append(reasons.get(row + 1))
    return Table(name=name, title=body.label, columns=tuple(columns), rows=tuple(map(tuple, cells)))


def _described(columns: list[Column], cells: list[list[Cell]], name: str, label: str, values: Values) -> None:
    unit = values.unit
    columns.append(Column(name=name, unit=unit.text, title=label, text=False))
    columns.append(Column(name=f"u_{name}", unit=unit.text, title=f"Standard uncertainty of {label}", text=False))
    for row, cell in enumerate(cells):
        cell.append(_number(float(values.value[row]), unit) if row < len(values.value) else None)
        cell.append(_u(float(values.u[row]), unit) if row < len(values.u) else None)


def _results(analysis: Analysis) -> Table:
    columns = (
        Column(name="result", unit="", title="Result", text=True),
        Column(name="label", unit="", title="What it is called", text=True),
        Column(name="value", unit="", title="Value, in its unit", text=False),
        Column(name="u", unit="", title="Standard uncertainty, in its unit", text=False),
        Column(name="k", unit="", title="Coverage factor for 95 %", text=False),
        Column(name="accepted", unit="", title="What it is compared with, in its unit", text=False),
        Column(name="unit", unit="", title="Unit", text=True),
        Column(name="waits", unit="", title="Why there is no value", text=True),
    )
    rows = []
    for name, result in analysis.results.items():
        label = analysis.program.definition.results[name].label
        other = result.accepted
        rows.append(
            (
                name,
                label,
                _number(result.value, result.unit),
                _u(result.u, result.unit),
                float(result.coverage_factor) if math.isfinite(result.coverage_factor) else None,
                _number(other.value, result.unit) if other is not None else None,
                result.unit.text or None,
                result.reason or None,
            )
        )
    return Table(name="results", title="Results", columns=columns, rows=tuple(rows))


def harmless(text: str) -> str:
    """A text that a spreadsheet takes for a text: what begins like a formula and is no number gets an apostrophe before it."""
    return f"'{text}" if _FORMULA.match(text) and not _NUMBER.match(text) else text


SIMULATED = "simulated readings"
"""Stands in the row of units, under the first name."""


def as_csv(table: Table, comma: bool = False) -> str:
    """UTF-8 text: names, then units, then rows; numbers with every figure they have, lines ended as RFC 4180 has it. ``comma``: decimals have
    one, and cells are set apart by semicolons, as spreadsheets of such countries write and read them."""
    sink = io.StringIO()
    writer = csv.writer(sink, lineterminator="\r\n", delimiter=";" if comma else ",")
    writer.writerow([column.name for column in table.columns])
    units = [column.unit for column in table.columns]
    if table.simulated:
        units[0] = f"{units[0]} ({SIMULATED})" if units[0] else SIMULATED
    writer.writerow(units)
    for row in table.rows:
        writer.writerow(_written(row, comma))
    return sink.getvalue()


def _written(row: Sequence[Cell], comma: bool) -> list[str]:
    mark = "," if comma else "."
    return [
        "" if c is None else harmless(c) if isinstance(c, str) else repr(c).removesuffix(".0").replace(".", mark)
        for c in row
    ]
