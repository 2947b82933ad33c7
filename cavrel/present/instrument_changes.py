"""Instruments that another took the place of in the course of a run, in words, and where in a table that shows."""

import numpy as np
from numpy.typing import NDArray

from cavrel.core.words import counted
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView


@optional("changed instruments", list)
def sentences(opened: RunView, series: str | None = None) -> list[str]:
    """For each column, or quantity, what was read with which instrument, in the order of time; of one table where ``series`` names it."""
    found = []
    for entry in opened.analysis.sheet.inputs:
        if not entry.earlier or (series is not None and entry.spec.series != series) or entry.spec.gauge is None:
            continue
        read = ~np.isnan(entry.values)
        parts = [
            f"{_places(where, read, entry.spec.series is not None)} with the {gauge.label}"
            for gauge, where in entry.earlier
        ]
        found.append(f"{entry.spec.label}: {'; '.join(parts)}; after that with the {entry.spec.gauge.label}")
    return found


@optional("changed instruments", frozenset)
def rows(opened: RunView, series: str) -> frozenset[int]:
    """Rows of a table, from 1, above which another instrument took over."""
    return frozenset(
        int(np.flatnonzero(where.any(axis=1)).max()) + 2
        for entry in opened.analysis.sheet.inputs
        if entry.spec.series == series
        for _, where in entry.earlier
    )


def taken(opened: RunView, gauge: str) -> int:
    """How many readings stand that were taken with an instrument as it is now."""
    total = 0
    for entry in opened.analysis.sheet.inputs:
        if entry.spec.gauge is not None and entry.spec.gauge.name == gauge:
            total += int((~np.isnan(entry.values)).sum()) - sum(int(where.sum()) for _, where in entry.earlier)
    return total


def _places(where: NDArray[np.bool_], read: NDArray[np.bool_], table: bool) -> str:
    """Rows that were read with one instrument alone, and single trials of the others."""
    if not table:
        return counted(int(where.sum()), "reading")
    whole = [int(i) + 1 for i in np.flatnonzero(where.any(axis=1) & ~(read & ~where).any(axis=1))]
    parts = [_run(whole, "row")] if whole else []
    for row in np.flatnonzero(where.any(axis=1) & (read & ~where).any(axis=1)).tolist():
        parts.append(f"row {row + 1}, {_run([int(j) + 1 for j in np.flatnonzero(where[row])], 'trial')}")
    return "; ".join(parts)


def _run(numbers: list[int], what: str) -> str:
    """``row 3``, ``rows 1 to 4``, ``rows 1 to 4 and 7``."""
    pieces: list[list[int]] = []
    for number in numbers:
        if pieces and number == pieces[-1][-1] + 1:
            pieces[-1].append(number)
        else:
            pieces.append([number])
    said = [str(p[0]) if len(p) == 1 else f"{p[0]} {'and' if len(p) == 2 else 'to'} {p[-1]}" for p in pieces]
    return f"{what}{'s' if len(numbers) > 1 else ''} {', '.join(said)}"
