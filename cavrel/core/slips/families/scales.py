"""A number in another unit or on another scale: of a reading, a row, a column; a column entered as what is computed from it."""

import math
from collections.abc import Iterator
from functools import partial

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.definition.steps import Derived, Input
from cavrel.core.formula.evaluate import Environment
from cavrel.core.quantity import units
from cavrel.core.quantity.units import Unit
from cavrel.core.slips.evidence import marks
from cavrel.core.slips.hypothesis import Hypothesis, Texts
from cavrel.core.slips.readings import Readings
from cavrel.core.words import within

Array = NDArray[np.float64]

_KINDS = (
    ("m", ("µm", "nm", "mm", "cm", "m")),
    ("s", ("ms", "s", "min")),
    ("kg", ("g", "kg")),
    ("A", ("µA", "mA", "A")),
    ("V", ("mV", "V")),
    ("ohm", ("ohm", "kohm")),
    ("Hz", ("Hz", "kHz")),
    ("N", ("mN", "N")),
    ("H", ("µH", "mH", "H")),
)
_AWAY = 1e6
"""Nobody mistakes a unit for one a million times as large."""


def others(unit: Unit) -> list[Unit]:
    """Units that readings of this dimension may have been written in by mistake."""
    for name, family in _KINDS:
        if unit.dimension == units.unit(name).dimension and not unit.offset:
            found = [units.unit(text) for text in family]
            return [u for u in found if u.factor != unit.factor and 1 / _AWAY < u.factor / unit.factor < _AWAY]
    return []


def _scaled(spec: Input) -> Iterator[tuple[str, float]]:
    for unit in others(spec.unit):
        yield unit.text, unit.factor / spec.unit.factor


def in_another(readings: Readings) -> Iterator[Hypothesis]:
    """A whole column, a quantity or one row stands in another unit than its head says."""
    for entry in readings.typed():
        spec = entry.spec
        if spec.count or spec.whole:
            continue
        for text, factor in _scaled(spec):
            share = 1.0 if math.log10(factor) % 1 < 1e-9 or factor in (60.0, 1 / 60) else 0.5
            say, do = f"the readings are in {text}, not in {spec.unit.text}", f"take them as {text}"
            yield readings.throughout(
                entry, entry.values * factor, "unit", say, do, 3 * share, "converted", digits(entry, factor)
            )
            rows = readings.rows_of(entry)
            for row in rows:
                several = int(np.isfinite(entry.values[row]).sum()) > 1
                say = f"the {'row is' if several else 'reading is'} in {text}, not in {spec.unit.text}"
                do = f"take {'them' if several else 'it'} as {text}"
                yield readings.in_row(entry, row, factor, "unit row", say, do, share / max(len(rows), 1), "converted")


def digits(entry: InputReadings, factor: float) -> float:
    """What the last digits typed say for another unit, ``factor`` times as large: numbers are mostly written as finely as the instrument shows,
    sometimes coarser, hardly finer. A logarithm of odds."""
    gauge = entry.spec.gauge
    step = marks(entry)
    if gauge is None or not gauge.least_count or not math.isfinite(step):
        return 0.0
    return _matching(step * factor / gauge.least_count) - _matching(step / gauge.least_count)


def _matching(steps: float) -> float:
    return math.log(0.02 if steps < 0.15 else 0.7 if steps < 3 else 0.2 if steps < 30 else 0.03)


def of_instrument(readings: Readings) -> Iterator[Hypothesis]:
    """Everything that was read with one instrument stands in another unit."""
    by_gauge: dict[str, list[InputReadings]] = {}
    for entry in readings.typed():
        if entry.spec.gauge is not None and not entry.spec.count and not entry.spec.whole:
            by_gauge.setdefault(entry.spec.gauge.name, []).append(entry)
    for name, entries in by_gauge.items():
        heads = {entry.spec.unit.text for entry in entries}
        if len(entries) < 2 or len(heads) > 1:
            continue
        for text, factor in _scaled(entries[0].spec):
            label = readings.analysis.program.gauges[name].label
            bonus = sum(digits(entry, factor) for entry in entries) / len(entries)
            columns = {entry.spec.key: entry.values * factor for entry in entries}
            yield Hypothesis(
                family="instrument",
                at=f"instruments.{name}",
                say=f"everything read with the {within(label)} is in {text}, not in {entries[0].spec.unit.text}",
                do=f"take them as {text}",
                columns=columns,
                texts=partial(_all_texts, readings, columns),
                noise="converted",
                bonus=bonus,
            )


def _all_texts(readings: Readings, columns: dict[str, Array]) -> dict[str, Texts]:
    return {key: texts for own in (readings.column(key, v) for key, v in columns.items()) for key, texts in own.items()}


def lines(readings: Readings) -> Iterator[Hypothesis]:
    """Lines per millimetre where the spacing of a grating belongs."""
    metre = units.unit("m").dimension
    for entry in readings.typed():
        spec = entry.spec
        if spec.series is not None or spec.unit.dimension != metre or "spacing" not in spec.label.lower():
            continue
        with np.errstate(all="ignore"):
            values = 1e-3 / (entry.values / spec.unit.factor)
        if np.isfinite(values[np.isfinite(entry.values)]).all():
            say, do = "these are lines per millimetre, not their spacing", "take it as lines per millimetre"
            yield readings.throughout(entry, values, "lines", say, do, 1.0, "converted")


def frequency(readings: Readings) -> Iterator[Hypothesis]:
    """Frequencies of light, in terahertz, where its wavelengths in nanometres belong."""
    nanometre = units.unit("nm")
    for entry in readings.typed():
        spec = entry.spec
        if spec.unit.dimension != nanometre.dimension or abs(spec.unit.factor / nanometre.factor - 1) > 1e-9:
            continue
        with np.errstate(all="ignore"):
            values = _LIGHT / (entry.values / spec.unit.factor * 1e12)
        if not (np.isfinite(values) | np.isnan(entry.values)).all():
            continue
        yield Hypothesis(
            family="frequency",
            at=f"quantities.{spec.name}" if spec.series is None else spec.key,
            say="these are frequencies in THz, not wavelengths",
            do="enter the wavelengths",
            columns={spec.key: values},
            noise="converted",
        )


_LIGHT = 299_792_458.0
"""Metres a second, exact (SI)."""


def derived(readings: Readings) -> Iterator[Hypothesis]:
    """A column holds what is computed from it: a period where the time for many swings belongs.

    In closed form where the formula is a power of the column or a straight line in it, else by search.
    """
    analysis = readings.analysis
    for step in analysis.program.steps:
        if not isinstance(step, Derived):
            continue
        for key in sorted(readings.formulas.get(step.key, frozenset())):
            entry = readings.entries.get(key)
            if entry is None or entry.spec.series != step.series or not np.isfinite(entry.values).any():
                continue
            found = _inverse(readings, step, key)
            if found is None:
                continue
            label = _label(readings, step)
            yield Hypothesis(
                family="derived",
                at=f"quantities.{key}" if step.series is None else key,
                say=f"it contains {label}, not the reading that {label} is computed from",
                do="enter what was read",
                columns={key: found},
                noise="converted",
            )


def _label(readings: Readings, step: Derived) -> str:
    definition = readings.analysis.program.definition
    body = definition.series[step.series].columns[step.name] if step.series else definition.quantities[step.name]
    return f"“{body.label}”"


def _inverse(readings: Readings, step: Derived, key: str) -> Array | None:
    """The readings from which the formula gives what was typed, ``(rows, trials)``; None where there are none."""
    analysis, entry = readings.analysis, readings.entries[key]
    base = float(np.nanmedian(np.abs(entry.values)))
    if not base > 0:
        return None
    rows = entry.values.shape[0]
    values = dict(analysis.nominal)
    values[key] = np.repeat(base * np.array([[1.0], [2.0], [4.0]]), rows, axis=1)
    with np.errstate(all="ignore"):
        out = step.run(Environment(values, analysis.sheet.keep))
        if out.shape[0] != 3:
            return None
        one, two, four = np.broadcast_to(out, (3, rows))[:, :, None]
        typed = (entry.values - entry.spec.unit.offset) / entry.spec.unit.factor * step.unit.factor
        first, second = np.log2(two / one), np.log2(four / two)
        slope = (two - one) / base
        if _same(first, second) and _same(first, np.full_like(first, first[0, 0])) and abs(first[0, 0]) > 1e-3:
            found = base * (typed / one) ** (1 / first)
        elif _same(slope, (four - two) / (2 * base)) and (slope != 0).all():
            found = base + (typed - one) / slope
        else:
            found = _sought(readings, step, key, base, typed)
    if (
        np.allclose(found, entry.values, rtol=1e-3, equal_nan=True)
        or not np.isfinite(found[np.isfinite(entry.values)]).all()
    ):
        return None
    return np.asarray(found)


def _sought(readings: Readings, step: Derived, key: str, base: float, typed: Array) -> Array:
    """The same for any other formula: where the curve over a wide range first meets what was typed, made exact by secants."""
    analysis, rows = readings.analysis, typed.shape[0]

    def run(x: Array) -> Array:
        values = dict(analysis.nominal)
        values[key] = x
        return np.broadcast_to(step.run(Environment(values, analysis.sheet.keep)), (len(x), rows))

    grid = base * np.geomspace(1e-2, 1e2, _GRID)
    curve = run(np.repeat(grid[:, None], rows, axis=1))
    found = np.full_like(typed, np.nan)
    for trial in range(typed.shape[1]):
        left = curve - typed[:, trial]
        crosses = (left[:-1] * left[1:] <= 0) & np.isfinite(left[:-1]) & np.isfinite(left[1:])
        # A pole changes sign too, but does not come near.
        crosses &= np.abs(np.diff(curve, axis=0)) < np.abs(curve[:-1]) + np.abs(curve[1:])
        at = crosses.argmax(axis=0)
        each = np.arange(rows)
        low, high = grid[at], grid[at + 1]
        f_low, f_high = left[at, each], left[at + 1, each]
        for _ in range(_SECANTS):
            middle = low - f_low * (high - low) / (f_high - f_low)
            f_middle = run(middle[None, :])[0] - typed[:, trial]
            below = f_low * f_middle > 0
            low, f_low = np.where(below, middle, low), np.where(below, f_middle, f_low)
            high, f_high = np.where(below, high, middle), np.where(below, f_high, f_middle)
        found[:, trial] = np.where(crosses.any(axis=0), middle, np.nan)
    return found


_GRID, _SECANTS = 160, 6


def _same(a: Array, b: Array) -> bool:
    return bool(np.isfinite(a).all() and np.allclose(a, b, rtol=1e-6))


def temperature(readings: Readings) -> Iterator[Hypothesis]:
    """Kelvins or degrees Fahrenheit in a place for degrees Celsius, or degrees Celsius in one for kelvins."""
    kelvin = units.unit("K").dimension
    for entry in readings.typed():
        spec = entry.spec
        if spec.unit.dimension != kelvin or spec.difference:
            continue
        number = (entry.values - spec.unit.offset) / spec.unit.factor
        celsius = spec.unit.offset != 0
        for name, si in (
            (("K", number), ("°F", (number - 32) * 5 / 9 + 273.15)) if celsius else (("°C", number + 273.15),)
        ):
            if not (si[np.isfinite(si)] > 0).all():
                continue
            say, do = f"the readings are in {name}, not in {spec.unit.text}", f"take them as {name}"
            yield readings.throughout(entry, si, "temperature", say, do, 1.0, "converted")
