"""The same amount too much or too little in every reading of a column: a scale's zero, a hanger, a lead, something taken off twice."""

from collections.abc import Iterator
from functools import partial

import numpy as np

from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings

_STEPS = 24
_REACH, _FINER = 1.3, 25
KNOWN, UNRELATED = 6.0, 0.5
"""How much more likely an amount is that a formula adds to the column or takes from it, or that merely stands on the sheet, than any one of
the others."""


def proposed(readings: Readings) -> Iterator[Hypothesis]:
    """Amounts that the sheet names, and amounts from a tick of the scale to half the column's middle."""
    for entry in readings.typed():
        spec = entry.spec
        if spec.exact or spec.count or (spec.series is None and entry.values.shape[1] < 1):
            continue
        for other in _known(readings, entry):
            amount = float(np.nanmean(other.values))
            share = KNOWN if frozenset((spec.key, other.spec.key)) in readings.summed else UNRELATED
            for sign in (1.0, -1.0):
                yield _moved(readings, entry, sign * amount, share, other.spec.label)
        if spec.series is None:
            continue
        middle = float(np.nanmedian(np.abs(entry.values)))
        least = spec.gauge.least_count if spec.gauge is not None and spec.gauge.least_count else middle / 300
        if not 0 < least < middle / 2:
            continue
        for size in np.geomspace(least, middle / 2, _STEPS).tolist():
            for sign in (1.0, -1.0):
                yield _moved(readings, entry, sign * size, 1.0, "")


def finer(readings: Readings, one: Hypothesis) -> Iterator[Hypothesis]:
    """Amounts about that of ``one``, as far as the next ones on the coarse scale; ``share``: of the prior that ``one`` has."""
    entry = readings.entries[next(iter(one.columns))]
    sizes = one.amount * np.linspace(1 / _REACH, _REACH, _FINER)
    least = entry.spec.gauge.least_count if entry.spec.gauge is not None else None
    if least:
        sizes = np.unique(np.round(sizes / least) * least)
    for amount in sizes[(sizes != 0) & (sizes != one.amount)].tolist():
        yield _moved(readings, entry, amount, 1 / len(sizes), "")


def _known(readings: Readings, entry: InputReadings) -> Iterator[InputReadings]:
    """Quantities of the same kind that the run holds, one for each amount."""
    seen = set()
    for other in readings.entries.values():
        spec = other.spec
        if spec.series is None and spec is not entry.spec and spec.unit.dimension == entry.spec.unit.dimension:
            value = float(np.nanmean(other.values)) if np.isfinite(other.values).any() else np.nan
            if np.isfinite(value) and value > 0 and not spec.unit.dimension.plain and value not in seen:
                seen.add(value)
                yield other


def _moved(readings: Readings, entry: InputReadings, amount: float, share: float, label: str) -> Hypothesis:
    spec, values = entry.spec, entry.values + amount
    unit = spec.unit.difference
    size = f"{abs(amount) / unit.factor:.3g} {unit.pretty}".strip()
    what = f", which is “{label}”" if label else ""
    return Hypothesis(
        family="offset",
        at=spec.key if spec.series is not None else f"quantities.{spec.name}",
        say=f"every reading is {size} too {'small' if amount > 0 else 'large'}{what}",
        do=f"{'add' if amount > 0 else 'take off'} {size}",
        share=share,
        amount=0.0 if label else amount,
        columns={spec.key: values},
        texts=partial(readings.column, spec.key, values) if label else None,
    )
