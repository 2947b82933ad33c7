"""What of Measure is not as it was before a save: the cells and the parts that a page has to be told of."""

from cavrel.present import measure, tables
from cavrel.present.table_layout import Field
from cavrel.service.run_view import RunView


def cells(opened: RunView, before: RunView | None) -> tuple[list[Field], list[tuple[str, str]]]:
    """The fields, and the computed cells as (id, text), that are not as they were ``before``; all of them where that is not known."""
    if before is None or before.base is not opened.base:
        fields, computed = _cells(opened)
        return list(fields.values()), list(computed.items())
    were, stood = _cells(before)
    fields, computed = _cells(opened, before)
    return (
        [field for slot, field in fields.items() if (was := were.get(slot)) is not field and was != field],
        [(cell, text) for cell, text in computed.items() if stood.get(cell) != text],
    )


def _cells(opened: RunView, before: RunView | None = None) -> tuple[dict[str, Field], dict[str, str]]:
    """Every field by its slot, and every computed cell by its id; ``before``: as `tables.tables` has it."""
    if "cells" not in opened.shown:
        rows = [row for table in tables.tables(opened, before) for row in table.rows]
        fields = [f for q in tables.quantities(opened) for f in q.fields] + [f for row in rows for f in row.fields]
        opened.shown["cells"] = {f.slot: f for f in fields}, dict(cell for row in rows for cell in row.computed)
    found: tuple[dict[str, Field], dict[str, str]] = opened.shown["cells"]
    return found


def standing(opened: RunView, before: RunView | None) -> set[str]:
    """The names of what stands in `measure.live` as it stood ``before``; none where that was never shown."""
    was = before.shown.get("live") if before is not None and before.base is opened.base else None
    return set() if was is None else {name for name, part in measure.live(opened).items() if part == was[name]}
