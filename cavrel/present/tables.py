"""The ruled table of a series, ready for the page: its heads, and its rows as `rows` fills them."""

from dataclasses import replace

from cavrel.core.definition import Column, Series
from cavrel.core.definition.headings import hidden, marks_label
from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.logbook import MOST_TRIALS
from cavrel.core.logbook.run import trials
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of
from cavrel.present import gauges, instrument_changes, row_order, target_settings, texts
from cavrel.present.rows import Rows, said, to_type
from cavrel.present.table_layout import Head, QuantityFields, Table
from cavrel.service.run_view import RunView


def quantities(opened: RunView) -> list[QuantityFields]:
    """The run's own quantities, ready to be typed."""
    found = []
    for name, body in opened.definition.quantities.items():
        if body.formula is not None:
            continue
        typed = trials(opened.state.run.quantities.get(name))
        many = max(opened.state.trials[name], len(typed))
        fields = []
        for i in range(many):
            text = typed[i] if i < len(typed) else ""
            label = said(f"{body.label}, reading {i + 1}" if many > 1 else body.label, body.unit)
            slot = f"quantities.{name}.{i + 1}"
            fields.append(to_type(opened, slot, text, label, f"quantities.{name}", body.default or ""))
        part, colon, rest = body.label.partition(": ")
        if not colon:
            part, rest = "", body.label
        shown = rest[0].upper() + rest[1:]
        found.append(
            QuantityFields(
                name,
                shown,
                units.pretty(body.unit or ""),
                tuple(fields),
                part,
                _symbol(opened, name),
                target_settings.needed(opened, name),
                _zero(opened, opened.program.input_of[name].gauge),
            )
        )
    return found


def tables(opened: RunView, before: RunView | None = None) -> list[Table]:
    """All tables of a run; ``before``: the same run before its newest entries, which makes the work less."""
    if "tables" not in opened.shown:
        without = opened.state.run.plan.without
        opened.shown["tables"] = [
            _table(opened, name, series, before)
            for name, series in opened.definition.series.items()
            if name not in without
        ]
    found: list[Table] = opened.shown["tables"]
    return found


def _table(opened: RunView, name: str, series: Series, before: RunView | None) -> Table:
    headings = opened.state.run.headings
    marked = marks_label(opened.definition, headings, name)
    heads: list[Head] = []
    if marked:
        heads.append(Head(kind="mark", name=name, trial=None, unit="", foot="", label=marked))
    typed = [c for c, body in series.columns.items() if body.column_role.typed]
    derived = [
        c
        for c, body in series.columns.items()
        if not body.column_role.typed and not hidden(body, headings.get(f"{name}.{c}"))
    ]
    repeated = [c for c in typed if opened.state.trials[f"{name}.{c}"] > 1]
    for column in typed:
        heads += _typed_heads(opened, name, column, series.columns[column])
    for column in repeated:
        heads.append(
            Head(
                kind="mean",
                name=column,
                trial=None,
                unit=units.pretty(series.columns[column].unit or ""),
                foot="mean",
                label=f"mean of {series.columns[column].label}",
            )
        )
    for column in derived:
        body = series.columns[column]
        values = opened.analysis.values[f"{name}.{column}"]
        line = texts.one_line(body.formula or "")
        # On one line of text an index keeps its underscore; as mathematics it stands low, but a fraction would need two lines.
        low = "_" in line and "/" not in line and len(line) < 18
        indexed = body.formula or "" if low or "^" in line else ""
        foot = "" if indexed else line if len(line) < 16 and "_" not in line else "computed"
        heads.append(
            Head(
                kind="derived",
                name=column,
                trial=None,
                unit=values.unit.pretty,
                foot=foot,
                label=body.label,
                formula=indexed,
            )
        )
        heads.append(
            Head(
                kind="u",
                name=column,
                trial=None,
                unit=values.unit.pretty,
                foot="uncertainty",
                label=f"standard uncertainty of {body.label}",
            )
        )
    heads = [replace(head, symbol=_symbol(opened, f"{name}.{head.name}")) for head in heads]
    places = {c: _places(opened, name, c, series.columns[c]) for c in [*repeated, *derived]}
    of = Rows(opened, name, series, typed, repeated, derived, places, before)
    rows = tuple(of.row(number) for number in range(1, opened.state.rows[name] + 1))
    last = rows[-1]
    rows = row_order.ordered(opened, name, rows)
    again = [*repeated, *(c for c in typed if c not in repeated and series.columns[c].extract)]
    more = tuple(c for c in again if opened.state.trials[f"{name}.{c}"] < MOST_TRIALS)
    spare = len(rows) > 1 and not any(f.text or (f.trace and f.hint) for f in last.fields) and not last.out
    return Table(
        name=name,
        series=series,
        heads=tuple(heads),
        rows=rows,
        more_trials=more,
        spare=spare,
        order=row_order.order_of(opened, name),
        exchanged=tuple(instrument_changes.sentences(opened, name)),
        exchanges=instrument_changes.rows(opened, name),
    )


def _symbol(opened: RunView, key: str) -> str:
    """The letter that stands over a column: the run's own, else the definition's."""
    heading = opened.state.run.headings.get(key)
    return heading.symbol if heading and heading.symbol else key.rpartition(".")[2]


def _typed_heads(opened: RunView, series: str, column: str, body: Column) -> list[Head]:
    wide = opened.state.trials[f"{series}.{column}"]
    gauge = opened.program.input_of[f"{series}.{column}"].gauge
    foot = ""
    if gauge is not None:
        least = opened.program.definition.instruments[gauge.name].least_count
        foot = f"{gauge.label} {least}" if least else gauge.label
    unit, zero = units.pretty(body.unit or ""), _zero(opened, gauge)
    if wide == 1:
        kind = body.column_role.shown_as
        return [Head(kind=kind, name=column, trial=None, unit=unit, foot=foot, label=body.label, zero=zero)]
    return [
        Head(
            kind=body.column_role.shown_as,
            name=column,
            trial=i + 1,
            unit=unit,
            foot=foot if i == 0 else "",
            label=f"{body.label}, trial {i + 1}",
            zero=zero if i == 0 else None,
        )
        for i in range(wide)
    ]


def _zero(opened: RunView, gauge: MeasuringInstrument | None) -> tuple[str, str, str] | None:
    """Instrument, its label, its zero readings; None where there is none to read."""
    found = gauges.zero_readings(opened)
    return (gauge.name, gauge.label, found[gauge.name]) if gauge is not None and gauge.name in found else None


def _places(opened: RunView, series: str, column: str, body: Column) -> int:
    """Decimals of a computed column; a mean keeps its instrument's."""
    values = opened.analysis.values[f"{series}.{column}"]
    if not body.column_role.typed:
        return texts.decimals(values)
    key = f"{series}.{column}"
    read = next(entry for entry in opened.analysis.sheet.inputs if entry.spec.key == key)
    # Of several instruments one after the other the coarsest says how far a column of means is read.
    coarsest = float(read.by_gauge("least_count").max(initial=0.0)) if read.spec.gauge is not None else 0.0
    return decimals_of(coarsest, values.unit) if coarsest else texts.decimals(values)
