"""A diameter for a radius, or the other way round."""

import re
from collections.abc import Iterator

from cavrel.core.quantity import units
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings

_ROUND = re.compile(r"diamet|radius|radii|across|thick|width", re.IGNORECASE)
ANY_LENGTH = 0.15
"""Share of a length that no word calls a radius or a diameter."""


def diameter(readings: Readings) -> Iterator[Hypothesis]:
    """A length twice or half what it should be: throughout, or in one row."""
    metre = units.unit("m").dimension
    for entry in readings.typed():
        spec = entry.spec
        if spec.unit.dimension != metre:
            continue
        likely = 1.0 if _ROUND.search(spec.label) else ANY_LENGTH
        radius = "radius" in spec.label.lower() or "radii" in spec.label.lower()
        for factor, say, do in (
            (2.0, "a radius for a diameter", "double it"),
            (0.5, "a diameter for a radius", "halve it"),
        ):
            right = radius == (factor == 0.5)
            share = likely * (1.0 if right or likely < 1 else 0.3)
            yield readings.throughout(entry, entry.values * factor, "diameter", say, do, share)
            if spec.series is None or likely < 1 or not right:
                continue
            for row in range(entry.rows):
                yield readings.in_row(entry, row, factor, "diameter", say, do, likely * 0.5 / entry.rows)
