"""A value as the instrument that reads it shows it."""

import math

from cavrel.core.definition.steps import Input
from cavrel.core.quantity.reading import decimals_of


def written(spec: Input, value: float) -> str:
    """A value as its instrument shows it."""
    shown = spec.unit.from_si(value)
    step = (spec.gauge.step if spec.gauge.dial else spec.gauge.least_count) if spec.gauge else None
    if step is None or spec.exact:
        return f"{shown:.12g}" if spec.exact else f"{shown:.6g}"
    if spec.unit.text in ("°", "deg") and _in_minutes(step):
        return degrees_and_minutes(value, step)
    count = round(shown * spec.unit.factor / step) if not spec.unit.offset else round(shown / (step / spec.unit.factor))
    return f"{count * step / spec.unit.factor:.{decimals_of(step, spec.unit)}f}"


def _in_minutes(step: float) -> bool:
    """Whether a scale in degrees is divided into minutes of arc rather than tenths."""
    minutes = math.degrees(step) * 60
    return minutes < 60 and abs(minutes - round(minutes * 2) / 2) < 1e-6 and abs(minutes % 6) > 1e-6


def degrees_and_minutes(angle: float, step: float) -> str:
    """``angle`` in radians as a vernier in degrees and minutes shows it: ``31°24′``; ``step`` its least count."""
    least = math.degrees(step) * 60
    minutes = round(math.degrees(abs(angle)) * 60 / least) * least
    decimals = 1 if least < 1 else 0
    whole = int(minutes // 60)
    sign = "-" if angle < 0 and minutes > 0 else ""
    return f"{sign}{whole}°{minutes - 60 * whole:0{2 if not decimals else 4}.{decimals}f}′"
