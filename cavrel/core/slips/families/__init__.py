"""Families of slips. Each module proposes one kind of cause; `PRIOR` says how common each family is taken to be, in all 1."""

from collections.abc import Callable, Iterator

from cavrel.core.slips.families import angles, cells, counts, offsets, order, quantities, scales, stretches
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings

PRIOR = {
    "swapped": 0.085,
    "misread": 0.085,
    "decimal": 0.11,
    "unit": 0.10,
    "count": 0.10,
    "angle": 0.05,
    "diameter": 0.06,
    "offset": 0.06,
    "exchanged": 0.11,
    "neighbour": 0.04,
    "derived": 0.03,
    "sign": 0.03,
    "index": 0.04,
    "temperature": 0.03,
    "law": 0.04,
    "side": 0.015,
    "frequency": 0.005,
    "stretch": 0.01,
}

SEEN_ONLY = frozenset({"neighbour", "side", "stretch"})
"""Families whose proposals are picked by what they look like; their shares are of everything they might have been."""

PROPOSERS: tuple[Callable[[Readings], Iterator[Hypothesis]], ...] = (
    cells.swapped,
    cells.misread,
    cells.decimal,
    cells.sign,
    scales.in_another,
    scales.derived,
    scales.temperature,
    scales.frequency,
    angles.proposed,
    quantities.diameter,
    counts.throughout,
    counts.once,
    counts.index,
    offsets.proposed,
    order.exchanged,
    order.neighbour,
    order.one_side,
    stretches.rest,
)
