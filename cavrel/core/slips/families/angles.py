"""Angles: radians or gradians for degrees, an angle not doubled or doubled once too often."""

import math
from collections.abc import Iterator
from typing import Literal

from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings, angle

_DEGREE, _GRADIAN = math.pi / 180, math.pi / 200


def proposed(readings: Readings) -> Iterator[Hypothesis]:
    """A column, a quantity or one row of angles."""
    for entry in readings.typed():
        spec = entry.spec
        if not angle(spec.unit):
            continue
        degrees = spec.unit.factor < 0.5
        options: list[tuple[str, str, float, Literal["shown", "converted"]]] = [
            ("half the angle was entered", "double it", 2.0, "shown"),
            ("twice the angle was entered", "halve it", 0.5, "shown"),
        ]
        if degrees:
            options.append(("the angle is in radians", "take it as radians", 1 / spec.unit.factor, "converted"))
            if abs(spec.unit.factor - _DEGREE) < 1e-12:
                options.append(("the angle is in gradians", "take it as gradians", _GRADIAN / _DEGREE, "converted"))
        else:
            options.append(("the angle is in degrees", "take it as degrees", _DEGREE, "converted"))
        for say, do, factor, noise in options:
            yield readings.throughout(entry, entry.values * factor, "angle", say, do, 3.0, noise)
            for row in readings.rows_of(entry):
                yield readings.in_row(entry, row, factor, "angle row", say, do, 1.0 / entry.rows, noise)
