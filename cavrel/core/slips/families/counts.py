"""Miscounts: of swings in one timing or in all, of half swings, of orders and loops."""

from collections.abc import Iterator
from functools import partial

import numpy as np

from cavrel.core.quantity import units
from cavrel.core.slips.hypothesis import Hypothesis, Texts
from cavrel.core.slips.readings import Readings

_OFF = ((1.0, 1.0), (-1.0, 1.0), (0.5, 0.4), (-0.5, 0.4))
"""Counted too few or too many, and how common that is."""


_PLANNED = 6.0
"""A number that the experiment asks for is likelier what was counted than its neighbours."""


def throughout(readings: Readings) -> Iterator[Hypothesis]:
    """A number of things is one or a half off, twice or half what it should be."""
    for entry in readings.typed():
        spec = entry.spec
        if spec.series is not None or not spec.whole:
            continue
        typed = float(entry.values[0, 0])
        for new, share in [(typed + off, share) for off, share in _OFF] + [(2 * typed, 0.6), (typed / 2, 0.6)]:
            if not np.isfinite(new) or new <= 0:
                continue
            yield Hypothesis(
                family="count",
                at=f"quantities.{spec.name}",
                say=f"the count is {typed:g}, and {new:g} fits"
                + (": half for full periods" if new in (2 * typed, typed / 2) else ""),
                do=f"write {new:g}",
                share=8 * share * (_PLANNED if spec.default and new == float(spec.default) else 1.0),
                columns={spec.key: np.full_like(entry.values, new)},
                texts=partial(_written, spec.key, f"{new:g}"),
            )


def rate(readings: Readings) -> Iterator[Hypothesis]:
    """A film taken at half or twice the number of frames a second that is written."""
    per_second = units.unit("1/s").dimension
    for entry in readings.typed():
        spec = entry.spec
        if spec.series is None and spec.unit.dimension == per_second and "frame" in spec.label.lower():
            for factor, word in ((0.5, "half"), (2.0, "twice")):
                say, do = f"the film has {word} as many frames a second", f"take {word} the frame rate"
                yield readings.throughout(entry, entry.values * factor, "rate", say, do)


def once(readings: Readings) -> Iterator[Hypothesis]:
    """One timing over one swing, or half a swing, more or less than the others."""
    second = units.unit("s").dimension
    counted = {spec.key for spec in readings.analysis.program.inputs if spec.whole and spec.series is None}
    timed: dict[str, str] = {}
    for names in readings.formulas.values():
        for count in names & counted:
            for key in names:
                entry = readings.entries.get(key)
                if entry is not None and entry.spec.unit.dimension == second:
                    timed[key] = count
    for one in readings.ones:
        if one.spec.key not in timed:
            continue
        count = timed[one.spec.key]
        n = float(readings.analysis.nominal[count][0, 0])
        for off, share in _OFF:
            if not n + off > 0:
                continue
            yield Hypothesis(
                family="count once",
                at=one.at,
                say=f"this timing is over {n + off:g}, not {n:g}",
                do="leave it out, or measure again",
                share=share,
                again=True,
                cells=(one.valued(one.value * n / (n + off)),),
            )
    for key, count in timed.items():
        entry = readings.entries[key]
        n = float(readings.analysis.nominal[count][0, 0])
        if entry.spec.series is None or entry.values.shape[1] < 2:
            continue
        for row in sorted({one.row for one in readings.ones if one.spec is entry.spec}):
            for off, share in _OFF[:2]:
                if n + off > 0:
                    values = entry.values.copy()
                    values[row] *= n / (n + off)
                    yield Hypothesis(
                        family="count once",
                        at=f"{key}.{row + 1}",
                        say=f"this row's timings are over {n + off:g}, not {n:g}",
                        do="leave the row out, or measure it again",
                        share=share,
                        again=True,
                        columns={key: values},
                        noise="shown",
                    )
    yield from _counted_cells(readings)


def _written(key: str, text: str) -> dict[str, Texts]:
    return {key: ((text,),)}


def _counted_cells(readings: Readings) -> Iterator[Hypothesis]:
    """A column of counts with one of them off."""
    for one in readings.ones:
        if one.spec.series is None or not one.spec.whole or one.spec.exact:
            continue
        for off, share in _OFF[:2]:
            if one.value + off > 0:
                yield Hypothesis(
                    family="count once",
                    at=one.at,
                    say=f"the count is {one.value:g}, and {one.value + off:g} fits",
                    do=f"write {one.value + off:g}",
                    share=share,
                    cells=(one.valued(one.value + off),),
                )


def index(readings: Readings) -> Iterator[Hypothesis]:
    """Orders, loops or weights numbered one too high or low throughout, or one skipped."""
    for entry in readings.typed():
        spec = entry.spec
        values = entry.values[:, 0]
        if spec.series is None or not spec.chosen or not _numbers(values) or spec.unit.text:
            continue
        for off in (1.0, -1.0):
            moved = entry.values + off
            yield Hypothesis(
                family="index",
                at=spec.key,
                say=f"numbered one too {'low' if off > 0 else 'high'} throughout",
                do=f"{'add' if off > 0 else 'subtract'} one in every row",
                share=3.0,
                columns={spec.key: moved},
                texts=partial(readings.column, spec.key, moved),
            )
            for row in range(1, entry.rows):
                skipped = entry.values.copy()
                skipped[row:] += off
                yield Hypothesis(
                    family="index row",
                    at=f"{spec.key}.{row + 1}",
                    say=f"one is {'skipped' if off > 0 else 'counted twice'} before row {row + 1}",
                    do=f"{'add' if off > 0 else 'subtract'} one from row {row + 1} on",
                    share=1.0 / entry.rows,
                    columns={spec.key: skipped},
                    texts=partial(readings.column, spec.key, skipped),
                )


def _numbers(values: np.ndarray) -> bool:
    known = values[np.isfinite(values)]
    return len(known) > 1 and bool((known == np.round(known)).all()) and bool((np.abs(known) < 1000).all())
