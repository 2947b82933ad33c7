"""What instruments read at zero, which is subtracted everything read with them."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from cavrel.core.definition.steps import Input, Program
from cavrel.core.errors import ReadingError, RunError
from cavrel.core.logbook.run import RunDocument
from cavrel.core.quantity.reading import read


@dataclass(frozen=True, slots=True, kw_only=True)
class ZeroReading:
    """What an instrument reads at zero, SI, which is subtracted everything read with it.

    ``value``: the mean of its readings.
    ``stated``: standard uncertainty of it by a typed ±, NaN where none is typed.
    ``scatter``: standard deviation of its readings, NaN for a single one.
    ``many``: how many.
    """

    value: float
    stated: float
    scatter: float
    many: int


def zeros_of(program: Program, run: RunDocument) -> dict[str, ZeroReading]:
    """What instruments read at zero, in the unit of what is first read with them where none is typed; several readings are parted by semicolons.
    Raises RunError."""
    zeros: dict[str, ZeroReading] = {}
    for name, text in run.zeros.items():
        if name not in program.gauges:
            raise RunError(f"zeros.{name}", "the experiment has no such instrument")
        spec = next((s for s in program.inputs if s.gauge is not None and s.gauge.name == name), None)
        if spec is None or not text.strip():
            continue
        unit = spec.unit.difference.text if spec.unit.offset else spec.unit.text
        zeros[name] = _read(name, text, unit)
    for name, before in program.earlier.items():
        spec = next((s for s in program.inputs if s.gauge is not None and s.gauge.name == name), None)
        for index, one in enumerate(before if spec is not None else ()):
            if one.zero.strip() and spec is not None:
                unit = spec.unit.difference.text if spec.unit.offset else spec.unit.text
                zeros[before_name(name, index)] = _read(name, one.zero, unit)
    return zeros


def before_name(name: str, index: int) -> str:
    """What an instrument that another took the place of is called among zeros, from 0; no name of a definition holds a number sign."""
    return f"{name}#{index}"


def _read(name: str, text: str, unit: str) -> ZeroReading:
    try:
        return zero_reading(text, unit)
    except ReadingError as fault:
        raise RunError(f"zeros.{name}", fault.what) from fault


def zero_reading(text: str, unit: str) -> ZeroReading:
    """One or several readings at zero, parted by semicolons. Raises ReadingError."""
    found = [read(part.strip(), unit, True) for part in text.split(";") if part.strip()]
    if not found:
        raise ReadingError("", "there is no reading in it")
    values = np.array([one.value for one in found])
    stated = [one.stated for one in found if one.stated is not None]
    many = len(values)
    return ZeroReading(
        value=float(values.mean()),
        stated=math.sqrt(sum(u**2 for u in stated) / len(stated) / many) if stated else math.nan,
        scatter=float(values.std(ddof=1)) if many > 1 else math.nan,
        many=many,
    )


def zero_of(spec: Input, zeros: Mapping[str, ZeroReading]) -> float:
    """What is subtracted each reading of an input, SI: differences hold their instrument's zero twice, and lose it."""
    if spec.gauge is None or spec.difference or spec.gauge.name not in zeros:
        return 0.0
    return zeros[spec.gauge.name].value
