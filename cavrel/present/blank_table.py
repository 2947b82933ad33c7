"""The table of a run before its readings, to be filled in by hand: for a lesson without devices, typed in afterwards."""

from dataclasses import dataclass

from cavrel.core.formula.text import typeset_name
from cavrel.present import tables
from cavrel.present.table_layout import Head, Row
from cavrel.service.run_view import RunView

MOST_COLUMNS = 14
"""More than these do not fit across a page: a table with more repeats leaves its computed columns out."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Blank:
    """An empty table.

    ``caption``: of the series, in words.
    ``note``: how it is measured.
    ``head``: (letter, what or trial, unit) of each column.
    ``rows``: texts, from the number of the row on; empty where somebody is to write.
    """

    caption: str
    note: str
    head: tuple[tuple[str, str, str], ...]
    rows: tuple[tuple[str, ...], ...]


def blanks(opened: RunView) -> list[Blank]:
    """Every table that the run keeps, with what is set already and room for the rest."""
    found = []
    for table in tables.tables(opened):
        typed = [i for i, head in enumerate(table.heads) if head.kind in ("mark", "set", "measured")]
        computed = [i for i, head in enumerate(table.heads) if head.kind in ("mean", "derived")]
        kept = typed + (computed if len(typed) + len(computed) <= MOST_COLUMNS else [])
        found.append(
            Blank(
                caption=table.series.label,
                note=table.series.note,
                head=tuple(_head(table.heads[i]) for i in kept),
                rows=tuple(_row(row, kept, table.heads) for row in table.rows),
            )
        )
    return found


def lines(opened: RunView) -> list[tuple[str, str, str, tuple[str, ...]]]:
    """(what, letter, unit, texts) of each quantity of the run: a text for each time it is read, empty where it is to be."""
    return [
        (
            q.label,
            typeset_name(q.symbol),
            q.unit,
            tuple("" if _measured(opened, q.name) else f.text or f.hint for f in q.fields),
        )
        for q in tables.quantities(opened)
    ]


def _measured(opened: RunView, name: str) -> bool:
    """Whether a quantity is read on an instrument, and not set or counted beforehand."""
    return opened.program.input_of[name].gauge is not None


def _head(head: Head) -> tuple[str, str, str]:
    if head.kind == "mark":
        return head.label, "", ""
    return (
        typeset_name(head.symbol),
        "mean" if head.kind == "mean" else f"trial {head.trial}" if head.trial else "",
        head.unit,
    )


def _row(row: Row, kept: list[int], heads: tuple[Head, ...]) -> tuple[str, ...]:
    texts = [field.text or field.hint if heads[i].kind == "set" else "" for i, field in enumerate(row.fields)]
    return str(row.number), *(texts[i] if i < len(texts) else "" for i in kept)


def content(opened: RunView) -> dict[str, object]:
    """Everything that stands on the sheet."""
    return {
        "title": opened.run.title,
        "bench": opened.run.bench,
        "aim": opened.definition.aim,
        "cautions": [caution.say for caution in opened.definition.cautions],
        "lines": lines(opened),
        "tables": blanks(opened),
    }
