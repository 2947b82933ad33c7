"""How far a run has come: the readings it has of those it needs."""

from dataclasses import dataclass

from cavrel.core.definition import Column, Series
from cavrel.core.logbook import SheetState
from cavrel.core.logbook.run import Cell, traces, trials


@dataclass(frozen=True, slots=True, kw_only=True)
class Progress:
    """``taken``: readings on the sheet, of all that count.
    ``wanted``: readings that the experiment needs.

    What is optional never counts, nor do ruled places that nothing needs: trials and rows added beyond the experiment's own count as they
    are filled.
    """

    taken: int
    wanted: int

    @property
    def done(self) -> bool:
        return self.taken >= self.wanted


def progress(state: SheetState) -> Progress:
    """Readings taken and wanted, under the conventions chosen: each quantity's and each measured column's, of rows that are not left out.

    A series that is optional counts from its first reading on.
    """
    taken = wanted = 0
    for name, quantity in state.definition.quantities.items():
        if quantity.formula is None and quantity.default is None and not quantity.optional:
            typed = _typed(state.run.quantities.get(name))
            many = state.run.plan.trials.get(name, quantity.repeats)
            taken, wanted = taken + typed, wanted + max(many, typed)
    for name, series in state.definition.series.items():
        if name in state.run.plan.without or (series.optional and not _begun(state, name)):
            continue
        for column, body in series.columns.items():
            if not body.column_role.wanted or body.optional:
                continue
            planned = planned_rows(state, name, series)
            for row in range(1, state.rows[name] + 1):
                typed, needed = _of_row(state, name, column, body, row, planned)
                taken, wanted = taken + typed, wanted + needed
    return Progress(taken=taken, wanted=wanted)


def _of_row(state: SheetState, name: str, column: str, body: Column, row: int, planned: int) -> tuple[int, int]:
    if f"{name}.{row}" in state.left_out:
        return 0, 0
    cells = state.run.series.get(name, {}).get(column, [])
    typed = _typed(cells[row - 1]) if row <= len(cells) else 0
    traced = state.run.traces.get(name, {}).get(column, [])
    if not typed and row <= len(traced) and any(traces(traced[row - 1])):
        typed = sum(1 for trace in traces(traced[row - 1]) if trace is not None)
        return typed, max(state.run.plan.trials.get(f"{name}.{column}", body.repeats), typed)
    if (
        not typed
        and row > planned
        and not any(row <= len(c) and _typed(c[row - 1]) for c in state.run.series.get(name, {}).values())
    ):
        return 0, 0
    return typed, max(state.run.plan.trials.get(f"{name}.{column}", body.repeats), typed)


def planned_rows(state: SheetState, name: str, series: Series) -> int:
    """Rows that a run is whole with: as planned, else as the definition rules them."""
    plan = state.run.plan
    set_points = max((len(texts) for key, texts in plan.settings.items() if key.startswith(f"{name}.")), default=0)
    return plan.rows.get(name, set_points or series.rows)


def _begun(state: SheetState, name: str) -> bool:
    return name in state.run.series or name in state.run.traces


def _typed(cell: Cell) -> int:
    return sum(1 for text in trials(cell) if text.strip())
