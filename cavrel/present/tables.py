"""The ruled table of a series, ready for the page: heads, cells as typed, computed cells in step with their uncertainty."""

from dataclasses import replace

from cavrel.core.definition import Column, Series
from cavrel.core.logbook import MOST_TRIALS
from cavrel.core.logbook.run import trials
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of
from cavrel.present import needed, ordered, texts, traces
from cavrel.present.ruled import Field, Head, QuantityFields, Row, Table
from cavrel.service.opened import Opened


def quantities(opened: Opened) -> list[QuantityFields]:
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
            label = _said(f"{body.label}, reading {i + 1}" if many > 1 else body.label, body.unit)
            slot = f"quantities.{name}.{i + 1}"
            fields.append(_field(opened, slot, text, label, f"quantities.{name}", body.default or ""))
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
                needed.needed(opened, name),
            )
        )
    return found


def tables(opened: Opened) -> list[Table]:
    """All tables of a run."""
    if "tables" not in opened.shown:
        without = opened.state.run.plan.without
        opened.shown["tables"] = [
            _table(opened, name, series) for name, series in opened.definition.series.items() if name not in without
        ]
    found: list[Table] = opened.shown["tables"]
    return found


def _table(opened: Opened, name: str, series: Series) -> Table:
    headings = opened.state.run.headings
    marked = headings[name].label if name in headings else ""
    heads: list[Head] = []
    if marked:
        heads.append(Head(kind="mark", name=name, trial=None, unit="", foot="", label=marked))
    typed = [c for c, body in series.columns.items() if body.plays.typed]
    hidden = {key for key, heading in headings.items() if heading.hidden}
    derived = [c for c, body in series.columns.items() if not body.plays.typed and f"{name}.{c}" not in hidden]
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
    rows = tuple(
        _row(opened, name, series, number, typed, repeated, derived, places)
        for number in range(1, opened.state.rows[name] + 1)
    )
    last = rows[-1]
    rows = ordered.ordered(opened, name, rows)
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
        order=ordered.order_of(opened, name),
    )


def _symbol(opened: Opened, key: str) -> str:
    """The letter that stands over a column: the run's own, else the definition's."""
    heading = opened.state.run.headings.get(key)
    return heading.symbol if heading and heading.symbol else key.rpartition(".")[2]


def _mark(opened: Opened, series: str, number: int, label: str) -> Field:
    marks = opened.state.run.marks.get(series, [])
    text = marks[number - 1] if number <= len(marks) else None
    slot = f"mark:{series}.{number}"
    entry = opened.state.latest.get(slot)
    return Field(
        slot=slot,
        text=text or "",
        was=(),
        mark="",
        label=f"{label}, row {number}",
        entry=entry.id if entry else None,
        hint="…",
    )


def _typed_heads(opened: Opened, series: str, column: str, body: Column) -> list[Head]:
    wide = opened.state.trials[f"{series}.{column}"]
    gauge = opened.program.input_of[f"{series}.{column}"].gauge
    foot = ""
    if gauge is not None:
        least = opened.program.definition.instruments[gauge.name].least_count
        foot = f"{gauge.label} {least}" if least else gauge.label
    unit = units.pretty(body.unit or "")
    if wide == 1:
        return [Head(kind=body.role, name=column, trial=None, unit=unit, foot=foot, label=body.label)]
    return [
        Head(
            kind=body.role,
            name=column,
            trial=i + 1,
            unit=unit,
            foot=foot if i == 0 else "",
            label=f"{body.label}, trial {i + 1}",
        )
        for i in range(wide)
    ]


def _places(opened: Opened, series: str, column: str, body: Column) -> int:
    """Decimals of a computed column; a mean keeps its instrument's."""
    values = opened.analysis.values[f"{series}.{column}"]
    if not body.plays.typed:
        return texts.decimals(values)
    gauge = opened.program.input_of[f"{series}.{column}"].gauge
    return decimals_of(gauge.least_count, values.unit) if gauge and gauge.least_count else texts.decimals(values)


def _row(
    opened: Opened,
    name: str,
    series: Series,
    number: int,
    typed: list[str],
    repeated: list[str],
    derived: list[str],
    places: dict[str, int],
) -> Row:
    fields: list[Field] = []
    out = f"{name}.{number}" in opened.state.left_out
    if name in opened.state.run.headings:
        fields.append(_mark(opened, name, number, opened.state.run.headings[name].label))
    for column in typed:
        body = series.columns[column]
        cells = opened.state.run.series.get(name, {}).get(column, [])
        own = trials(cells[number - 1]) if number <= len(cells) else []
        wide = opened.state.trials[f"{name}.{column}"]
        for i in range(wide):
            text = own[i] if i < len(own) else ""
            trial = f", trial {i + 1}" if wide > 1 else ""
            hint = _suggestion(opened, f"{name}.{column}", number) if body.plays.chosen else ""
            table = f"{series.short}, " if len(opened.definition.series) > 1 else ""
            label = _said(f"{table}{body.label}, row {number}{trial}", body.unit)
            field = _field(opened, f"{name}.{column}.{number}.{i + 1}", text, label, "", hint)
            if body.extract:
                place = f"{name}.{column}.{number}" + (f".{i + 1}" if i else "")
                field = replace(field, trace=place, hint=traces.hint(opened, name, column, number, i))
            fields.append(field)
    computed: list[tuple[str, str]] = []
    for column in [*repeated, *derived]:
        values = opened.analysis.values[f"{name}.{column}"]
        computed.append((f"c-{name}-{number}-{column}", texts.cell(values, number - 1, places[column])))
        if column in derived:
            computed.append((f"u-{name}-{number}-{column}", texts.u_cell(values, number - 1, places[column])))
    suspects = [f for f in opened.findings if f.at == f"{name}.{number}"]
    return Row(
        name=f"{name}.{number}",
        number=number,
        fields=tuple(fields),
        computed=tuple(computed),
        out=out,
        mark="out" if out else "suspect" if suspects else "",
    )


def _said(label: str, unit: str | None) -> str:
    """What a screen reader calls a cell: table, column, row and trial, then its unit."""
    return f"{label}, in {units.pretty(unit)}" if unit else label


def _field(opened: Opened, slot: str, text: str, label: str, at: str, hint: str) -> Field:
    correction = opened.state.corrections.get(slot)
    entry = opened.state.latest.get(slot)
    here = [f for f in opened.findings if f.at in (slot, at)]
    mark = "out" if slot in opened.state.left_out else ""
    if not mark and here:
        mark = "suspect" if any(f.level != "note" for f in here) else "odd"
    return Field(
        slot=slot,
        text=text,
        was=correction.texts[-1:] if correction else (),
        mark=mark,
        label=label,
        entry=entry.id if entry else None,
        hint=hint,
    )


def _suggestion(opened: Opened, key: str, row: int) -> str:
    """The value to try in a set column's row, with the instrument's decimals; empty where nothing is suggested."""
    values = suggested(opened, key)
    return values[row - 1] if row <= len(values) else ""


def suggested(opened: Opened, key: str) -> list[str]:
    """The planned set points of a column as texts, or those that the definition suggests; of these none once the bench has begun with its
    own."""
    series, column = key.split(".")
    begun = column in opened.state.run.series.get(series, {})
    planned = opened.state.run.plan.settings.get(key)
    if planned:
        return list(planned)
    if key not in opened.program.suggestions or begun:
        return []
    unit = opened.program.suggestions[key][1]
    numbers = opened.analysis.suggested(key)
    spec = opened.program.input_of[key]
    if spec.gauge is not None and spec.gauge.step:
        return [needed.to_step(float(number), spec) for number in numbers]
    if spec.gauge is None or not spec.gauge.least_count:
        return [f"{unit.from_si(float(number)):.3g}" for number in numbers]
    places = decimals_of(spec.gauge.least_count, unit)
    return [f"{unit.from_si(float(number)):.{places}f}" for number in numbers]
