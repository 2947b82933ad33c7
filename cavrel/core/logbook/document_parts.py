"""What a logbook holds of readings and samples, as a run document holds it: by column, row and trial; and back."""

from collections.abc import Mapping
from typing import Any

from cavrel.core.definition import Definition
from cavrel.core.logbook.entry import LONGEST, Entry, effective
from cavrel.core.logbook.run import RunDocument, trials
from cavrel.core.logbook.slots import Slot

Readings = Mapping[Slot, str]


def quantities(readings: Readings) -> dict[str, Any]:
    found: dict[str, dict[int, str]] = {}
    for slot, text in readings.items():
        if not slot.series:
            found.setdefault(slot.name, {})[slot.trial] = text
    cells: dict[str, Any] = {}
    for name, texts in found.items():
        if any(text.strip() for text in texts.values()):
            row = [texts.get(i + 1, "") for i in range(max(texts))]
            cells[name] = row[0] if len(row) == 1 else row
    return cells


def series(definition: Definition, readings: Readings) -> dict[str, dict[str, list[Any]]]:
    found: dict[str, dict[str, dict[int, dict[int, str]]]] = {}
    by_key: dict[str, dict[int, dict[int, str]]] = {}
    for slot, text in readings.items():
        if slot.series and text.strip():
            column = by_key.get(slot.key)
            if column is None:
                column = by_key[slot.key] = found.setdefault(slot.series, {}).setdefault(slot.name, {})
            row = column.get(slot.row)
            if row is None:
                row = column[slot.row] = {}
            row[slot.trial] = text
    series: dict[str, dict[str, list[Any]]] = {}
    for name, columns in found.items():
        series[name] = {}
        for title, rows in columns.items():
            repeated = definition.series[name].columns[title].repeats > 1 or any(max(own) > 1 for own in rows.values())
            cells: list[Any] = []
            for number in range(1, max(rows) + 1):
                own = rows.get(number, {})
                if repeated:
                    cells.append([own.get(trial, "") for trial in range(1, max(own, default=0) + 1)])
                else:
                    cells.append(own.get(1, ""))
            series[name][title] = cells
    return series


def traces(
    definition: Definition, traces: Mapping[str, Mapping[str, Any]], stretches: Mapping[str, Mapping[str, Any]]
) -> dict[str, dict[str, list[Any]]]:
    found: dict[str, dict[str, dict[int, dict[int, Any]]]] = {}
    for slot, body in traces.items():
        series, column, row, *trial = slot.split(".")
        own = definition.series.get(series)
        if own is not None and column in own.columns and own.columns[column].extract is not None:
            stretch = {key: stretches.get(slot, {}).get(key) for key in ("begin", "end")}
            rows = found.setdefault(series, {}).setdefault(column, {})
            rows.setdefault(int(row), {})[int(trial[0]) if trial else 1] = {**body, **stretch}
    return {
        series: {column: [_trials(rows.get(i)) for i in range(1, max(rows) + 1)] for column, rows in columns.items()}
        for series, columns in found.items()
    }


def excluded(left_out: Mapping[str, Entry]) -> dict[str, dict[str, str]]:
    excluded: dict[str, dict[str, str]] = {}
    for slot, entry in left_out.items():
        series, _, place = slot.partition(".")
        excluded.setdefault(series, {})[place] = str(effective(entry)[1].get("reason", ""))[: LONGEST["leave-out"]]
    return excluded


def slots_of(run: RunDocument) -> list[tuple[str, str]]:
    """(slot, text) of every reading in a run document, row by row."""
    found = []
    for name, cell in run.quantities.items():
        found += [(f"quantities.{name}.{i}", text) for i, text in enumerate(trials(cell), 1) if text.strip()]
    for series, columns in run.series.items():
        for row in range(max((len(cells) for cells in columns.values()), default=0)):
            for column, cells in columns.items():
                texts = trials(cells[row]) if row < len(cells) else []
                found += [(f"{series}.{column}.{row + 1}.{i}", text) for i, text in enumerate(texts, 1) if text.strip()]
    return found


def _trials(own: Mapping[int, Any] | None) -> Any:
    """The samples of a row: one trace, or a list with one for each trial."""
    if own is None:
        return None
    return own[1] if set(own) == {1} else [own.get(i) for i in range(1, max(own) + 1)]
