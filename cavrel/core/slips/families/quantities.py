"""A diameter for a radius, or the other way round."""

import re
from collections.abc import Iterator

from cavrel.core.quantity import units
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings

_ROUND = re.compile(r"diamet|radius|radii", re.IGNORECASE)


def diameter(readings: Readings) -> Iterator[Hypothesis]:
    """A length twice or half what it should be: throughout, or in one row."""
    metre = units.unit("m").dimension
    for entry in readings.typed():
        spec = entry.spec
        if spec.unit.dimension != metre:
            continue
        if not _ROUND.search(spec.label) and not readings.halved(spec.key):
            continue
        radius = "radius" in spec.label.lower() or "radii" in spec.label.lower()
        for factor, say, do in (
            (2.0, "a radius was entered for a diameter", "double it"),
            (0.5, "a diameter was entered for a radius", "halve it"),
        ):
            if radius != (factor == 0.5):
                continue
            yield readings.throughout(entry, entry.values * factor, "diameter", say, do, 1.0, "shown")
            for row in range(entry.rows) if spec.series is not None else ():
                yield readings.in_row(entry, row, factor, "diameter row", say, do, 1 / entry.rows)
