"""Physical causes that the definition states: its readings as they would be without each, at sizes that occur."""

from collections.abc import Iterator

import numpy as np

from cavrel.core.definition.steps import SIZE, CauseStep, row_key
from cavrel.core.formula.evaluate import Environment
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings

_SIZES, _FINER = 9, 13


def proposed(readings: Readings) -> Iterator[Hypothesis]:
    """Every cause at sizes from its smallest to its largest."""
    for step in readings.analysis.program.causes:
        body = readings.analysis.program.definition.systematic[step.index]
        if any(not np.isfinite(readings.entries[key].values).any() for key in step.without):
            continue
        sizes = np.geomspace(step.low, step.high, _SIZES)
        yield from _at(readings, step, np.concatenate([sizes, -sizes]) if body.either else sizes)


def finer(readings: Readings, one: Hypothesis) -> Iterator[Hypothesis]:
    """Sizes about that of ``one``, as far as the next ones; ``share``: of the prior that ``one`` has."""
    step = next(s for s in readings.analysis.program.causes if f"systematic.{s.index}" == one.at)
    ratio = (step.high / step.low) ** (1 / (_SIZES - 1))
    sizes = np.geomspace(1 / ratio, ratio, _FINER) * one.amount
    yield from _at(readings, step, sizes[(sizes != one.amount) & (np.abs(sizes) <= step.high * (1 + 1e-9))])


def _at(readings: Readings, step: CauseStep, sizes: np.ndarray) -> Iterator[Hypothesis]:
    body = readings.analysis.program.definition.systematic[step.index]
    values = dict(readings.analysis.nominal)
    values[SIZE] = sizes[:, None]
    for name, rows in readings.analysis.sheet.rows.items():
        values[row_key(name)] = np.arange(1.0, rows + 1)[None, :]
    found = {}
    with np.errstate(all="ignore"):
        for key, run in step.without.items():
            entry = readings.entries[key]
            means = readings.analysis.nominal[key][0]
            moved = run(Environment(values, readings.analysis.sheet.keep)) - means
            moved = np.broadcast_to(moved, (len(sizes), entry.rows))[:, :, None]
            # Noise is that of what was shown: a cause moves the trials of a row alike. Counts are whole, and noise of their own.
            share = entry.values / means[:, None] if entry.spec.count else 1.0
            found[key] = entry.values + moved * share
            if entry.spec.whole or entry.spec.count:
                found[key] = np.round(found[key])
    for i, size in enumerate(sizes.tolist()):
        columns = {key: readings_without[i] for key, readings_without in found.items()}
        if not all(np.isfinite(v).any() for v in columns.values()):
            continue
        yield Hypothesis(
            family="physical",
            at=f"systematic.{step.index}",
            say=body.label,
            do=body.look,
            look=body.look,
            share=1 / len(sizes),
            amount=size,
            columns=columns,
        )
