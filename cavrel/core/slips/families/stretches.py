"""A stretch of samples that holds what is no part of the motion: rest before the release, what lies after the stop."""

import math
from collections.abc import Iterator

import numpy as np

from cavrel.core.analysis import stretch, trace
from cavrel.core.analysis.sheet import from_trace
from cavrel.core.errors import CavrelError
from cavrel.core.logbook.run import TraceDocument, traces
from cavrel.core.remember import by_identity
from cavrel.core.slips.hypothesis import Cell, Hypothesis
from cavrel.core.slips.readings import Readings

MOST = 40
"""So many traces are looked through; a run has hardly more."""
_NEARLY_ALL = 0.95
"""Share of a stretch from which on its clean part is as good as all of it."""
_TELLS = 3.0
"""Standard uncertainties of the clean part that the value must be off by."""
_BREAK = 8.0
"""How much more likely a break in the samples is in a stretch that holds rest than in a clean one, as a logarithm: pieces are told apart only where
that wins nine variances of the noise times the logarithm of their number."""


def rest(readings: Readings) -> Iterator[Hypothesis]:
    """A slope taken over more than the straight part of its samples."""
    cells = list(_traced(readings))[:MOST]
    together: dict[str, list[Hypothesis]] = {}
    for key, row, trial, document in cells:
        clean = _clean(document)
        if clean is None:
            continue
        spec = readings.entries[key].spec
        begin, end, around = clean
        try:
            value, u = from_trace(spec, document.model_copy(update={"begin": begin, "end": end}))
        except CavrelError:
            continue
        old = float(readings.entries[key].values[row, trial])
        if not (u > 0 and abs(value - old) > _TELLS * u):
            continue
        together.setdefault(key, []).append(
            one := Hypothesis(
                family="stretch",
                at=f"{key}.{row + 1}.{trial + 1}",
                say=f"its stretch of samples contains more than the motion: {around}",
                do=f"use the samples from {begin:.4g} s to {end:.4g} s",
                share=0.5 / len(cells),
                bonus=_BREAK,
                cells=(Cell(key, row, trial, value, u=u),),
                stretches=((begin, end),),
            )
        )
        yield one

    for key, found in together.items():
        if len(found) > 1:
            yield Hypothesis(
                family="stretches",
                at=key,
                say=f"the stretches of {len(found)} rows contain more than the motion",
                do="choose the stretch in these rows",
                bonus=_BREAK,
                cells=tuple(cell for one in found for cell in one.cells),
                stretches=tuple(s for one in found for s in one.stretches),
            )


def _traced(readings: Readings) -> Iterator[tuple[str, int, int, TraceDocument]]:
    """Input, row and trial from 0, and samples of every slope that is taken from some."""
    run = readings.analysis.run
    for key, entry in readings.entries.items():
        if entry.spec.extract != "slope" or entry.spec.series is None:
            continue
        for row, cell in enumerate(run.traces.get(entry.spec.series, {}).get(entry.spec.name, [])):
            for trial, document in enumerate(traces(cell)):
                if row < len(entry.extracted) and document is not None and math.isfinite(entry.extracted[row, trial]):
                    yield key, row, trial, document


@by_identity(256)
def _clean(document: TraceDocument) -> tuple[float, float, str] | None:
    """Begin and end of the clean part of the stretch that counts, s, and what lies around it; None where it is clean."""
    times = trace.sample_times(document.rate, document.start, document.times, len(document.values))
    values = [math.nan if v is None else v for v in document.values]
    low = document.begin if document.begin is not None else -math.inf
    high = document.end if document.end is not None else math.inf
    inside = (times >= low) & (times <= high)
    t, v = times[inside], np.array(values, float)[inside]
    found = stretch.propose(t, v)
    if found is None or not found.straight or not (found.before or found.after):
        return None
    if found.end - found.begin >= _NEARLY_ALL * (t[-1] - t[0]):
        return None
    return found.begin, found.end, " and ".join(part for part in (found.before, found.after) if part)
