"""The same amount too much or too little in every reading of a column: a scale's zero, a hanger, a lead, something subtracted twice."""

from collections.abc import Iterator
from functools import partial

import numpy as np

from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.definition.steps import Input
from cavrel.core.quantity.value import amount_text
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
        for amount, label, share in _known(readings, entry):
            for sign in (1.0, -1.0):
                yield _moved(readings, entry, sign * amount, share, label)
        if spec.series is None:
            continue
        middle = float(np.nanmedian(np.abs(entry.values)))
        least = spec.gauge.least_count if spec.gauge is not None and spec.gauge.least_count else middle / 300
        most = min(middle / 2, reach(spec, least))
        if not 0 < least < most:
            continue
        for size in np.geomspace(least, most, _STEPS).tolist():
            for sign in (1.0, -1.0):
                yield _moved(readings, entry, sign * size, 1.0, "")


def reach(spec: Input, least: float) -> float:
    """The largest zero error, SI, that an instrument can explain: a scale with a margin, a scale pan that was not tared; nobody is late by
    more than a few reaction times."""
    reaction = spec.gauge.reaction if spec.gauge is not None else None
    return _REACTIONS * reaction if reaction else _LEAST_COUNTS * least


_REACTIONS, _LEAST_COUNTS = 4.0, 60.0


def finer(readings: Readings, one: Hypothesis) -> Iterator[Hypothesis]:
    """Amounts about that of ``one``, as far as the next ones on the coarse scale; ``share``: of the prior that ``one`` has."""
    entry = readings.entries[next(iter(one.columns))]
    sizes = one.amount * np.linspace(1 / _REACH, _REACH, _FINER)
    least = entry.spec.gauge.least_count if entry.spec.gauge is not None else None
    if least:
        sizes = np.unique(np.round(sizes / least) * least)
    for amount in sizes[(sizes != 0) & (sizes != one.amount)].tolist():
        yield _moved(readings, entry, amount, 1 / len(sizes), "")


def _known(readings: Readings, entry: InputReadings) -> list[tuple[float, str, float]]:
    """Amounts of the same kind that the run holds, with their names and shares, each once. What no formula has stands there for a reason."""
    found: dict[float, tuple[str, float]] = {}
    for other in readings.entries.values():
        spec = other.spec
        same = spec.series is None and spec is not entry.spec and spec.unit.dimension == entry.spec.unit.dimension
        if not same or spec.unit.dimension.plain or not np.isfinite(other.values).any():
            continue
        amount = float(np.nanmean(other.values))
        related = frozenset((entry.spec.key, spec.key)) in readings.summed or spec.key not in readings.used
        share = KNOWN if related else UNRELATED
        if amount > 0 and share > found.get(amount, ("", 0.0))[1]:
            found[amount] = spec.label, share
    return [(amount, label, share) for amount, (label, share) in found.items()]


def _moved(readings: Readings, entry: InputReadings, by: float, share: float, label: str) -> Hypothesis:
    spec, values = entry.spec, entry.values + by
    size = amount_text(abs(by), spec.unit, 3, True)
    what = f", which is “{label}”" if label else ""
    return Hypothesis(
        family="offset",
        at=spec.key if spec.series is not None else f"quantities.{spec.name}",
        say=f"every reading is {size} too {'small' if by > 0 else 'large'}{what}",
        do=f"{'add' if by > 0 else 'subtract'} {size}",
        share=share,
        amount=0.0 if label else by,
        columns={spec.key: values},
        texts=partial(readings.column, spec.key, values) if label else None,
    )
