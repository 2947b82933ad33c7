"""Readings in each other's place: cells, rows, columns, quantities exchanged; a reading that belongs to the row next to it."""

import itertools
import math
from collections.abc import Iterator
from functools import partial

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.slips.hypothesis import Cell, Hypothesis, Texts
from cavrel.core.slips.readings import Readings

Array = NDArray[np.float64]

_FAR = 0.3
"""Share of rows that are not neighbours."""
_COLUMN = 0.5
"""Share of two whole columns, over that of two neighbouring rows, for each row there is: a longer table has more rows to exchange, and no more
columns."""
_MOST_ROWS = 24
_ALIKE = 0.05
"""Both sides of a row differ by less than this share of what they differ by elsewhere."""
_SURPRISE = 50.0
"""By what factor a reading that equals its neighbour's may speak for having been taken there."""


def exchanged(readings: Readings) -> Iterator[Hypothesis]:
    """Two rows of a column, two readings of one trial, two columns of a kind in one row or throughout, two quantities of a kind."""
    for entry in readings.typed():
        if entry.spec.series is not None and entry.rows > 1:
            yield from _rows(readings, entry)
    typed = list(readings.typed())
    for first, second in itertools.combinations(typed, 2):
        alike = first.spec.unit.dimension == second.spec.unit.dimension and first.values.shape == second.values.shape
        if alike and first.spec.series == second.spec.series:
            yield from _columns(readings, first, second)
        elif first.spec.series is not None and first.spec.series == second.spec.series:
            yield from _upside_down(first, second)


def _upside_down(first: InputReadings, second: InputReadings) -> Iterator[Hypothesis]:
    """Two columns of different kinds, each written under the other's head: their graph lies on its side, and its slope is upside down."""
    a, b = first.spec, second.spec
    if first.values.shape != second.values.shape or a.unit.offset or b.unit.offset or a.whole or b.whole:
        return
    factor = a.unit.factor / b.unit.factor
    yield Hypothesis(
        family="exchanged",
        at=a.key,
        say=f"“{a.label}” and “{b.label}” are in each other’s columns: the slope between them is inverted",
        do="swap the columns",
        share=_COLUMN * max(first.rows, 1),
        columns={a.key: second.values * factor, b.key: first.values / factor},
        texts=partial(_crossed, first, second),
    )


def _rows(readings: Readings, entry: InputReadings) -> Iterator[Hypothesis]:
    spec = entry.spec
    watched = [row for row in range(entry.rows) if np.isfinite(entry.values[row]).any()]
    if len(watched) > _MOST_ROWS:
        odd = sorted(watched, key=lambda row: -readings.off_curve.get((spec.series or "", row), 0.0))
        watched = sorted(odd[:_MOST_ROWS])
    many = entry.values.shape[1]
    for i, j in itertools.combinations(watched, 2):
        share = 1.0 if j == i + 1 else _FAR
        values = entry.values.copy()
        values[[i, j]] = values[[j, i]]
        if np.array_equal(values, entry.values, equal_nan=True):
            continue
        yield Hypothesis(
            family="exchanged rows",
            at=f"{spec.key}.{i + 1}",
            say=f"rows {i + 1} and {j + 1} are swapped",
            do="swap them",
            share=share,
            columns={spec.key: values},
            texts=partial(readings.column, spec.key, values),
        )
        for trial in range(many) if many > 1 else ():
            a, b = entry.values[i, trial], entry.values[j, trial]
            if not (math.isfinite(a) and math.isfinite(b)) or a == b:
                continue
            texts = [entry.text(row + 1, trial + 1) for row in (j, i)]
            yield Hypothesis(
                family="exchanged rows",
                at=f"{spec.key}.{i + 1}.{trial + 1}",
                say=f"trial {trial + 1} of rows {i + 1} and {j + 1} is swapped",
                do="swap them",
                share=share / many,
                cells=(Cell(spec.key, i, trial, float(b), texts[0]), Cell(spec.key, j, trial, float(a), texts[1])),
            )


def _columns(readings: Readings, first: InputReadings, second: InputReadings) -> Iterator[Hypothesis]:
    a, b = first.spec, second.spec
    if np.array_equal(first.values, second.values, equal_nan=True):
        return
    same = a.unit.text == b.unit.text
    yield Hypothesis(
        family="exchanged",
        at=a.key if a.series is not None else f"quantities.{a.name}",
        say=f"“{a.label}” and “{b.label}” are swapped",
        do="swap them",
        share=max(_COLUMN * first.rows, 2.0),
        columns={a.key: second.values, b.key: first.values},
        texts=partial(_crossed, first, second) if same else None,
    )
    for row in range(first.rows) if a.series is not None else ():
        one, other = first.values.copy(), second.values.copy()
        one[row], other[row] = second.values[row], first.values[row]
        if np.isfinite(one[row]).any() and np.isfinite(other[row]).any():
            yield Hypothesis(
                family="exchanged rows",
                at=f"{a.key}.{row + 1}",
                say=f"“{a.label}” and “{b.label}” are swapped in row {row + 1}",
                do="swap them",
                share=1.0,
                columns={a.key: one, b.key: other},
            )


def _crossed(first: InputReadings, second: InputReadings) -> dict[str, Texts]:
    return {first.spec.key: _texts(second), second.spec.key: _texts(first)}


def _texts(entry: InputReadings) -> Texts:
    rows, trials = entry.values.shape
    return tuple(
        tuple(entry.text(i + 1, j + 1) if (i + 1, j + 1) in entry.readings else "" for j in range(trials))
        for i in range(rows)
    )


_SAME = 1e-6
"""Share of the least count within which two readings are the same."""
_OUT = 1.2
"""How far out of its place a row must be, over how far the others are."""


def neighbour(readings: Readings) -> Iterator[Hypothesis]:
    """A reading that is the row's above or below, to within the scatter: nobody can know what this row would have read."""
    for entry in readings.typed():
        spec = entry.spec
        if spec.series is None or spec.chosen or entry.rows < 4:
            continue
        values = entry.values
        yield from _copied(entry)
        means = _means(values)
        unit = spec.gauge.least_count if spec.gauge is not None and spec.gauge.least_count else 0.0
        tolerance = 3 * max(readings.spread[spec.key], unit)
        steps = np.abs(np.diff(means))
        usual = float(np.nanmedian(steps)) if np.isfinite(steps).any() else 0.0
        known = readings.analysis.values[spec.key].u
        tolerance = max(tolerance, 2 * float(np.median(known[np.isfinite(known)])) if np.isfinite(known).any() else 0.0)
        if not tolerance > 0:
            continue
        jumps: NDArray[np.bool_] | None = None
        if not usual > 3 * tolerance:
            # Neighbours that are alike within the scatter are alike anyway, but hardly to the last digit.
            if not usual > 3 * unit or not unit > 0:
                continue
            jumps, tolerance = _jumps(means, tolerance), _SAME * unit
        share = 0.5 / max(sum(int(np.isfinite(e.values).sum()) for e in readings.typed()), 1)
        for row in range(entry.rows):
            for other in (row - 1, row + 1):
                if not 0 <= other < entry.rows or not math.isfinite(means[other]):
                    continue
                if entry.values.shape[1] == 1:
                    if abs(means[row] - means[other]) <= tolerance and (jumps is None or jumps[row]):
                        yield _of_row(entry, row, other, share, usual / max(tolerance, unit))
                    continue
                for trial in range(values.shape[1]):
                    if (
                        abs(values[row, trial] - means[other]) <= tolerance
                        and abs(means[row] - means[other]) > tolerance
                    ):
                        yield _of_trial(entry, row, trial, other, share, usual / max(tolerance, unit))


def in_step(readings: Readings) -> Iterator[Hypothesis]:
    """One setting out of an even series: what the others make of it."""
    for entry in readings.typed():
        spec = entry.spec
        values = entry.values[:, 0]
        known = np.flatnonzero(np.isfinite(values))
        if spec.series is None or not spec.chosen or len(known) < _EVEN_FROM or len(known) < len(values):
            continue
        steps = np.diff(values)
        usual = float(np.median(steps))
        if not abs(usual) > 0:
            continue
        grid = np.median(values - usual * np.arange(len(values))) + usual * np.arange(len(values))
        out = np.flatnonzero(np.abs(values - grid) > 1e-6 * abs(usual) + 1e-9 * np.abs(grid))
        if len(out) != 1:
            continue
        row = int(out[0])
        one = next((o for o in readings.of(entry) if o.row == row and o.trial == 0 and o.reading is not None), None)
        if one is not None:
            yield Hypothesis(
                family="step",
                at=one.at,
                say=f"it does not fit the spacing of the other settings: {one.written(float(grid[row]))} would",
                do="check it",
                share=_OUT_OF_STEP / len(values),
                cells=(one.valued(float(grid[row])),),
            )


_EVEN_FROM, _OUT_OF_STEP = 5, 1.0


def _copied(entry: InputReadings) -> Iterator[Hypothesis]:
    """All trials of a row are those of the row above, digit by digit, where rows differ."""
    many = np.isfinite(entry.values).sum(axis=1)
    means = _means(entry.values)
    for row in range(1, entry.rows):
        if many[row] < 2 or not np.array_equal(entry.values[row], entry.values[row - 1], equal_nan=True):
            continue
        for at, other in ((row, row - 1), (row - 1, row)):
            moved = entry.values.copy()
            moved[at] += _between(means, at) - means[at]
            yield Hypothesis(
                family="neighbour",
                at=f"{entry.spec.key}.{at + 1}",
                say=f"its readings are identical to those of row {other + 1}",
                do="read the row again",
                share=0.5 / entry.rows if at == row else 0.1 / entry.rows,
                again=True,
                columns={entry.spec.key: moved},
                bonus=math.log(_SURPRISE),
            )


def one_side(readings: Readings) -> Iterator[Hypothesis]:
    """Both sides of a reading taken on two sides were read on one: the two are alike in a row where they differ in the others."""
    typed = list(readings.typed())
    for first, second in itertools.combinations(typed, 2):
        a, b = first.spec, second.spec
        if (
            a.series is None
            or a.series != b.series
            or a.unit.text != b.unit.text
            or first.values.shape != second.values.shape
        ):
            continue
        if not any({a.key, b.key} <= names for names in readings.formulas.values()):
            continue
        means = [_means(entry.values) for entry in (first, second)]
        apart = np.abs(means[0] - means[1])
        usual = float(np.nanmedian(apart)) if np.isfinite(apart).any() else 0.0
        middle = float(np.nanmedian((means[0] + means[1]) / 2)) if np.isfinite(means[0] + means[1]).any() else math.nan
        for row in np.flatnonzero(apart < _ALIKE * usual).tolist():
            # What was read lies on one side of the middle, which is the first column's side or the second's.
            own = np.sign(float(np.nanmedian(means[0])) - middle) == np.sign(means[0][row] - middle)
            for entry, other in ((second, first),) if own else ((first, second),):
                values = entry.values.copy()
                values[row] = 2 * middle - other.values[row]
                yield Hypothesis(
                    family="side",
                    at=f"{entry.spec.key}.{row + 1}",
                    say=f"“{entry.spec.label}” was read on the side of “{other.spec.label}”",
                    do="read the other side, or leave the row out",
                    share=0.5 / max(len(means[0]), 1),
                    again=True,
                    columns={entry.spec.key: values},
                )


def _jumps(means: Array, tolerance: float) -> NDArray[np.bool_]:
    """Rows ``(rows,)`` that the rows about them would have elsewhere, by more than they do for the others: near a turning point neighbours are
    alike for good reason, and among rows that scatter by chance."""
    away = np.abs(np.array([_between(means, i) for i in range(len(means))]) - means)
    return np.asarray(away > max(3 * tolerance, _OUT * float(np.nanmedian(away))))


def _between(means: Array, row: int) -> float:
    """What lies between the neighbours of a row: a parabola through the four nearest."""
    values = means.copy()
    values[row] = math.nan
    at = np.flatnonzero(np.isfinite(values))
    near = at[np.argsort(np.abs(at - row), kind="stable")[:4]]
    return float(np.polyval(np.polyfit(near - row, values[near], min(2, len(near) - 1)), 0.0))


def _means(values: Array) -> Array:
    many = np.isfinite(values).sum(axis=1)
    return np.where(many > 0, np.nansum(values, axis=1) / np.maximum(many, 1), np.nan)


def _of_trial(entry: InputReadings, row: int, trial: int, other: int, share: float, chance: float) -> Hypothesis:
    rest = np.delete(entry.values[row], trial)
    rest = rest[np.isfinite(rest)]
    middle = float(rest.mean()) if len(rest) else math.nan
    return Hypothesis(
        family="neighbour",
        at=f"{entry.spec.key}.{row + 1}.{trial + 1}",
        say=f"it is a reading of row {other + 1}",
        do="leave it out, or measure again",
        share=share,
        cells=(Cell(entry.spec.key, row, trial, middle),),
        bonus=math.log(min(max(chance, 1.0), _SURPRISE)),
    )


def _of_row(entry: InputReadings, row: int, other: int, share: float, chance: float) -> Hypothesis:
    """A row read once: what lies between its neighbours stands in for what nobody knows."""
    return Hypothesis(
        family="neighbour",
        at=f"{entry.spec.key}.{row + 1}.1",
        say=f"it is the reading of row {other + 1}",
        do="leave it out, or measure again",
        share=share,
        cells=(Cell(entry.spec.key, row, 0, _between(entry.values[:, 0], row)),),
        bonus=math.log(min(max(chance, 1.0), _SURPRISE)),
    )
