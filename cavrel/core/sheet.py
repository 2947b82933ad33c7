"""A sheet: the readings of a run document, understood and laid out as arrays.

What cannot be read is kept as a fault with its place; the rest goes on without it.
"""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.errors import ReadingError, RunError
from cavrel.core.program import Input, Program
from cavrel.core.reading import Reading, read
from cavrel.core.run import Cell, RunDocument, trials

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Fault:
    """A reading that is no number: its input, row and trial (from 1), the text as typed, what is wrong."""

    key: str
    row: int
    trial: int
    text: str
    what: str


@dataclass(frozen=True, slots=True)
class InputReadings:
    """Everything read for one input.

    ``readings``: (row, trial) from 1 -> the reading, left-out ones included. ``values`` and ``stated``: ``(rows, trials)``, SI, NaN
    where nothing was read or the trial is left out; ``step``: one step of the last digit typed, same shape.
    """

    spec: Input
    rows: int
    readings: Mapping[tuple[int, int], Reading]
    values: Array
    stated: Array
    step: Array


@dataclass(frozen=True, slots=True)
class Sheet:
    """``keep``: series -> ``(rows,)`` false for rows left out."""

    inputs: tuple[InputReadings, ...]
    rows: Mapping[str, int]
    keep: Mapping[str, NDArray[np.bool_]]
    faults: tuple[Fault, ...]


def lay_out(program: Program, run: RunDocument) -> Sheet:
    """Read every text of ``run`` for ``program``.

    Raises RunError for a quantity, series or column the definition does not have, and for readings typed into a derived column.
    """
    _check_names(program, run)
    rows = {
        name: max([1, *(len(cells) for cells in run.series.get(name, {}).values())])
        for name in program.definition.series
    }
    keep = {}
    for name, count in rows.items():
        kept = np.ones(count, bool)
        for row in run.left_out_rows(name):
            if row <= count:
                kept[row - 1] = False
        keep[name] = kept
    faults: list[Fault] = []
    inputs = tuple(_read_input(spec, run, rows.get(spec.series or "", 1), faults) for spec in program.inputs)
    return Sheet(inputs, rows, keep, tuple(faults))


def _check_names(program: Program, run: RunDocument) -> None:
    definition = program.definition
    for name in run.quantities:
        if name not in program.input_of:
            raise RunError(f"quantities.{name}", "the experiment has no such quantity to read")
    for series, columns in run.series.items():
        if series not in definition.series:
            raise RunError(f"series.{series}", "the experiment has no such series")
        for column in columns:
            if f"{series}.{column}" not in program.input_of:
                derived = column in definition.series[series].columns
                what = "is computed, so it takes no readings" if derived else "the series has no such column"
                raise RunError(f"series.{series}.{column}", what)
    for series in run.excluded:
        if series not in definition.series:
            raise RunError(f"excluded.{series}", "the experiment has no such series")


def _read_input(spec: Input, run: RunDocument, rows: int, faults: list[Fault]) -> InputReadings:
    cells: list[Cell]
    if spec.series is None:
        cells, out = [run.quantities.get(spec.name)], set()
        if spec.default is not None and not any(text.strip() for text in trials(cells[0])):
            cells = [spec.default]
    else:
        cells = list(run.series.get(spec.series, {}).get(spec.name, []))
        out = run.left_out_trials(spec.series, spec.name)
    texts = [trials(cell) for cell in cells]
    width = max([1, *(len(row) for row in texts)])
    values, stated, step = (np.full((rows, width), np.nan) for _ in range(3))
    readings: dict[tuple[int, int], Reading] = {}
    for i, row in enumerate(texts):
        for j, text in enumerate(row):
            if not text or not text.strip():
                continue
            place = (i + 1, j + 1)
            try:
                reading = read(text.strip(), spec.unit.text)
            except ReadingError as fault:
                faults.append(Fault(spec.key, *place, text, fault.what))
                continue
            readings[place] = reading
            if place in out:
                continue
            values[i, j], step[i, j] = reading.value, reading.last_digit
            if reading.stated is not None:
                stated[i, j] = reading.stated
    return InputReadings(spec, rows, readings, values, stated, step)
