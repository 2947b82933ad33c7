"""A reading taken from the other end of its scale, or the complement of an angle."""

import math
from collections.abc import Iterator

import numpy as np

from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.quantity.value import exact_text
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings, angle


def proposed(readings: Readings) -> Iterator[Hypothesis]:
    """A column, a quantity, a row or one trial."""
    for entry in readings.typed():
        for length in readings.ends(entry.spec.key):
            yield from _turned(readings, entry, length, "end", "read from the other end of the scale")
        if angle(entry.spec.unit) and entry.spec.unit.factor < 0.5:
            yield from _turned(readings, entry, math.pi / 2, "complement", "the other angle of the right angle")


def _turned(readings: Readings, entry: InputReadings, whole: float, family: str, what: str) -> Iterator[Hypothesis]:
    spec = entry.spec
    size = exact_text(whole, spec.unit)
    do = f"take it from {size}"
    values = whole - entry.values
    if not (values[np.isfinite(values)] > 0).all():
        return
    say = f"{what}: {size} − the value typed"
    yield readings.throughout(entry, values, family, say, do)
    if spec.series is None:
        return
    for row in readings.rows_of(entry):
        moved = entry.values.copy()
        moved[row] = whole - moved[row]
        several = int(np.isfinite(entry.values[row]).sum()) > 1
        yield Hypothesis(
            family=f"{family} row",
            at=f"{spec.key}.{row + 1}" + ("" if several else ".1"),
            say=say,
            do="read it again",
            share=1 / entry.rows,
            columns={spec.key: moved},
        )
    for one in readings.ones:
        if one.spec is spec and one.plain and entry.values.shape[1] > 1:
            yield Hypothesis(
                family=f"{family} row",
                at=one.at,
                say=say,
                do="read it again",
                share=1 / entry.rows / entry.values.shape[1],
                cells=(one.valued(whole - one.value),),
            )
