"""Families of slips of the pen. Each module proposes one kind of cause; `PRIOR` says how common each is taken to be among them, in all 1."""

from collections.abc import Callable, Iterator

from cavrel.core.slips.families import angles, cells, counts, ends, offsets, order, quantities, scales, stretches
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings

ONE_READING = {
    "off": 0.14,
    "misread": 0.09,
    "swapped": 0.06,
    "decimal": 0.08,
    "sign": 0.02,
    "exchanged rows": 0.05,
    "neighbour": 0.03,
    "count once": 0.05,
    "unit row": 0.03,
    "angle row": 0.01,
    "diameter row": 0.01,
    "index row": 0.01,
    "end row": 0.02,
    "complement row": 0.005,
    "step": 0.03,
    "side": 0.01,
    "stretch": 0.01,
}
"""Of one reading, one row or two. ``off``: a reading is wrong by an amount that no digit explains."""
THROUGHOUT = {
    "unit": 0.07,
    "instrument": 0.03,
    "count": 0.05,
    "angle": 0.03,
    "diameter": 0.03,
    "offset": 0.05,
    "exchanged": 0.04,
    "derived": 0.025,
    "index": 0.02,
    "temperature": 0.02,
    "frequency": 0.005,
    "lines": 0.01,
    "rate": 0.01,
    "end": 0.015,
    "complement": 0.01,
    "stretches": 0.01,
    "law": 0.03,
}
"""Of a whole column, quantity or instrument, or of the convention."""
_ALL = {**ONE_READING, **THROUGHOUT}
PRIOR = {family: prior / sum(_ALL.values()) for family, prior in _ALL.items()}

SEEN_ONLY = frozenset({"neighbour", "step", "side", "stretch", "stretches"})
"""Families whose proposals are picked by what they look like; their shares are of everything they might have been."""
CONVERTIBLE = frozenset({"unit", "instrument", "temperature", "angle", "diameter", "lines"})
"""Whole columns of these can be converted in one press: by a unit or a factor."""

PROPOSERS: tuple[Callable[[Readings], Iterator[Hypothesis]], ...] = (
    cells.swapped,
    cells.misread,
    cells.decimal,
    cells.sign,
    scales.in_another,
    scales.of_instrument,
    scales.derived,
    scales.temperature,
    scales.frequency,
    scales.lines,
    angles.proposed,
    quantities.diameter,
    counts.throughout,
    counts.rate,
    counts.once,
    counts.index,
    offsets.proposed,
    order.exchanged,
    order.neighbour,
    order.one_side,
    order.in_step,
    ends.proposed,
    stretches.rest,
)
