"""The rows of a ruled table: what stands in each cell, what is odd about it, and what a screen reader calls it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from cavrel.core.analysis import Values
from cavrel.core.definition import Series
from cavrel.core.definition.headings import marks_label
from cavrel.core.findings.finding import Finding
from cavrel.core.logbook.run import Cell, trials
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity import units
from cavrel.present import texts, traces
from cavrel.present.table_layout import Field, Row
from cavrel.present.target_settings import suggested
from cavrel.service.run_view import RunView


def said(label: str, unit: str | None) -> str:
    """What a screen reader calls a cell: table, column, row and trial, then its unit."""
    return f"{label}, in {units.pretty(unit)}" if unit else label


def to_type(opened: RunView, slot: str, text: str, label: str, at: str = "", hint: str = "") -> Field:
    """A place to type; ``at``: where else findings about it may stand."""
    state, here = opened.state, _found(opened)
    correction, entry = state.corrections.get(slot), state.latest.get(slot)
    mark = "out" if slot in state.left_out else ""
    if not mark and (slot in here or at in here):
        about = [*here.get(slot, ()), *here.get(at, ())]
        mark = "suspect" if any(f.level != "note" for f in about) else "odd"
    return Field(
        slot=slot,
        text=text,
        was=correction.texts[-1:] if correction else (),
        mark=mark,
        label=label,
        entry=entry.id if entry else None,
        hint=hint,
    )


def _found(opened: RunView) -> Mapping[str, Sequence[Finding]]:
    """The findings by where they stand."""
    if "found" not in opened.shown:
        by_place: dict[str, list[Finding]] = {}
        for finding in opened.findings:
            by_place.setdefault(finding.at, []).append(finding)
        opened.shown["found"] = by_place
    found: Mapping[str, Sequence[Finding]] = opened.shown["found"]
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class _Typed:
    """A column to type in. ``key``: series and column; ``cells``: of its rows; ``wide``: trials; ``begin`` and ``end``: of what a screen reader
    says, around the row's number and the trial's; ``hints``: by row; ``traced``: it takes samples."""

    name: str
    key: str
    cells: Sequence[Cell] = field(compare=False)
    wide: int
    begin: str
    end: str
    hints: Sequence[str]
    traced: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class _Computed:
    """A column that is computed. ``places``: decimals shown; ``with_u``: its uncertainty stands next to it."""

    name: str
    values: Values
    places: int
    with_u: bool


_OF_ONE_CELL = ("reading", "correction")
"""Entries that change what stands in their own cell and nowhere else in the table's places to type."""


class Rows:
    """The rows of one table. What is the same in all of them is looked up once, and of a long table hardly any row is another than before a
    save.

    ``typed``: the columns to type in. ``repeated``: those of them whose means are shown. ``derived``: computed ones. ``places``: the decimals
    of repeated and derived ones. ``before``: the run before its newest entries, where what was made of it is at hand.
    """

    def __init__(
        self,
        opened: RunView,
        name: str,
        series: Series,
        typed: Sequence[str],
        repeated: Sequence[str],
        derived: Sequence[str],
        places: Mapping[str, int],
        before: RunView | None = None,
    ) -> None:
        self._opened, self._name = opened, name
        run = opened.state.run
        self._marked = marks_label(opened.definition, run.headings, name)
        table = f"{series.short}, " if len(opened.definition.series) > 1 else ""
        self._typed = []
        for column in typed:
            body, key = series.columns[column], f"{name}.{column}"
            self._typed.append(
                _Typed(
                    name=column,
                    key=key,
                    cells=run.series.get(name, {}).get(column, []),
                    wide=opened.state.trials[key],
                    begin=f"{table}{body.label}, row ",
                    end=said("", body.unit),
                    hints=suggested(opened, key) if body.column_role.chosen else (),
                    traced=bool(body.extract),
                )
            )
        self._computed = [
            _Computed(
                name=column,
                values=opened.analysis.values[f"{name}.{column}"],
                places=places[column],
                with_u=column in derived,
            )
            for column in [*repeated, *derived]
        ]
        self._fields_of: dict[int, tuple[Field, ...]] = {}
        self._same = {} if before is None else self._still(before)
        opened.shown[f"rows of {name}"] = self._typed, self._fields_of

    def _still(self, before: RunView) -> Mapping[int, tuple[Field, ...]]:
        """The fields of rows in which nothing was typed or found since ``before``, by row."""
        opened = self._opened
        typed, fields_of = before.shown.get(f"rows of {self._name}", (None, {}))
        new = opened.entries[len(before.entries) :]
        same = opened.definition is before.definition and opened.state.run.headings == before.state.run.headings
        same = same and opened.analysis.marks(self._name) == before.analysis.marks(self._name)
        if not same or typed != self._typed or any(column.traced for column in self._typed):
            return {}
        if any(entry.kind not in _OF_ONE_CELL for entry in new):
            return {}
        now, then = _found(opened), _found(before)
        places = {entry.slot for entry in new} | {at for at in now.keys() | then.keys() if now.get(at) != then.get(at)}
        touched = {slot.row for slot in map(Slot.read, places) if slot is not None and slot.series == self._name}
        return {number: fields for number, fields in fields_of.items() if number not in touched}

    def row(self, number: int) -> Row:
        """One row, counted from 1."""
        opened, name = self._opened, f"{self._name}.{number}"
        fields = self._same.get(number) or self._made(number)
        self._fields_of[number] = fields
        computed: list[tuple[str, str]] = []
        for made in self._computed:
            place = f"{self._name}-{number}-{made.name}"
            computed.append((f"c-{place}", texts.cell(made.values, number - 1, made.places)))
            if made.with_u:
                computed.append((f"u-{place}", texts.u_cell(made.values, number - 1, made.places)))
        out = name in opened.state.left_out
        return Row(
            name=name,
            number=number,
            fields=fields,
            computed=tuple(computed),
            out=out,
            mark="out" if out else "suspect" if name in _found(opened) else "",
        )

    def _made(self, number: int) -> tuple[Field, ...]:
        fields = [] if not self._marked else [_mark(self._opened, self._name, number, self._marked)]
        for column in self._typed:
            fields += self._fields(column, number)
        return tuple(fields)

    def _fields(self, column: _Typed, number: int) -> list[Field]:
        opened = self._opened
        own = trials(column.cells[number - 1]) if number <= len(column.cells) else []
        hint = column.hints[number - 1] if number <= len(column.hints) else ""
        found = []
        for i in range(column.wide):
            text = own[i] if i < len(own) else ""
            trial = f", trial {i + 1}" if column.wide > 1 else ""
            label = f"{column.begin}{number}{trial}{column.end}"
            made = to_type(opened, f"{column.key}.{number}.{i + 1}", text, label, hint=hint)
            if column.traced:
                place = f"{column.key}.{number}" + (f".{i + 1}" if i else "")
                made = replace(made, trace=place, hint=traces.hint(opened, self._name, column.name, number, i))
            found.append(made)
        return found


def _mark(opened: RunView, series: str, number: int, label: str) -> Field:
    """The word that a bench has for a row."""
    marks, by_rule = opened.state.run.marks.get(series, []), opened.analysis.marks(series)
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
        hint=(by_rule[number - 1] if number <= len(by_rule) else "") or "…",
    )
