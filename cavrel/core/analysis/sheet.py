"""A sheet: the readings of a run document, understood and laid out as arrays.

What cannot be read is kept as a fault with its place; the rest goes on without it.
"""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import trace
from cavrel.core.analysis.zeros import ZeroReading, before_name, zero_of, zeros_of
from cavrel.core.definition.extraction import EXTRACTIONS
from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.definition.steps import Input, Program
from cavrel.core.errors import CavrelError, ReadingError, RunError
from cavrel.core.logbook.run import Cell, RunDocument, TraceCell, TraceDocument, trials
from cavrel.core.logbook.run import traces as traces_of
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import Reading, read_at, read_plain
from cavrel.core.remember import by_identity
from cavrel.core.words import within

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Fault:
    """A reading that is no number: its input, row and trial (from 1), the text as typed, what is wrong."""

    key: str
    row: int
    trial: int
    text: str
    what: str


@dataclass(frozen=True, slots=True, kw_only=True)
class InputReadings:
    """Everything read for one input.

    ``spec``: the input.
    ``rows``: of its table, 1 for a quantity.
    ``readings``: (row, trial) from 1 -> the reading, left-out ones included.
    ``values``: ``(rows, trials)`` SI, NaN where nothing was read or the trial is left out.
    ``stated``: ``(rows, trials)`` the ± typed, SI, NaN where none is.
    ``step``: ``(rows, trials)`` one step of the last digit typed, SI.
    ``extracted``: ``(rows, trials)`` standard uncertainty of values taken from a trace, NaN elsewhere.
    ``faults``: what could not be read.
    ``earlier``: instruments that another took the place of, each with where ``(rows, trials)`` it read.
    """

    spec: Input
    rows: int
    readings: Mapping[tuple[int, int], Reading]
    values: Array
    stated: Array
    step: Array
    extracted: Array
    faults: tuple[Fault, ...]
    earlier: tuple[tuple[MeasuringInstrument, NDArray[np.bool_]], ...] = ()

    def gauge_at(self, row: int, trial: int) -> MeasuringInstrument | None:
        """What a reading was taken with, row and trial from 1."""
        for gauge, where in self.earlier:
            if where[row - 1, trial - 1]:
                return gauge
        return self.spec.gauge

    def by_gauge(self, amount: str) -> Array:
        """What each reading's own instrument declares of an ``amount``, SI, ``(rows, trials)``, zero where it declares nothing."""
        found = np.full(self.values.shape, float(getattr(self.spec.gauge, amount, None) or 0.0))
        for gauge, where in self.earlier:
            found[where] = float(getattr(gauge, amount) or 0.0)
        return found

    def text(self, row: int, trial: int) -> str:
        """What stands at a trial, both counted from 1: as typed, or what its samples give."""
        reading = self.readings.get((row, trial))
        if reading is not None:
            return reading.text
        return f"{self.spec.unit.from_si(float(self.values[row - 1, trial - 1])):.4g}"


@dataclass(frozen=True, slots=True)
class Sheet:
    """``keep``: series -> ``(rows,)`` false for rows left out. ``zeros``: by instrument."""

    inputs: tuple[InputReadings, ...]
    rows: Mapping[str, int]
    keep: Mapping[str, NDArray[np.bool_]]
    faults: tuple[Fault, ...]
    zeros: Mapping[str, ZeroReading]


def lay_out(program: Program, run: RunDocument) -> Sheet:
    """Read every text of ``run`` for ``program``.

    Raises RunError for a quantity, series or column the definition does not have, and for readings typed into a derived column.
    """
    _check_names(program, run)
    rows = {name: _row_count(run, name) for name in program.definition.series}
    keep = {}
    for name, count in rows.items():
        kept = np.ones(count, bool)
        for row in run.left_out_rows(name):
            if row <= count:
                kept[row - 1] = False
        keep[name] = kept
    zeros = zeros_of(program, run)
    inputs = tuple(
        _read_input(spec, run, rows.get(spec.series or "", 1), zero_of(spec, zeros)) for spec in program.inputs
    )
    if program.earlier:
        inputs = tuple(_exchanged(entry, program, zeros) for entry in inputs)
    return Sheet(inputs, rows, keep, tuple(fault for entry in inputs for fault in entry.faults), zeros)


def _exchanged(entry: InputReadings, program: Program, zeros: Mapping[str, ZeroReading]) -> InputReadings:
    """An input with the instruments that its readings were taken with before another took their place, each with its own zero subtracted."""
    spec = entry.spec
    if spec.gauge is None or spec.gauge.name not in program.earlier:
        return entry
    start = f"{spec.key}." if spec.series is not None else f"quantities.{spec.name}."
    values, found = entry.values, list[tuple[MeasuringInstrument, NDArray[np.bool_]]]()
    for index, before in enumerate(program.earlier[spec.gauge.name]):
        where = np.zeros(values.shape, bool)
        for row, trial in np.argwhere(~np.isnan(values)):
            place = f"{start}{row + 1}.{trial + 1}" if spec.series is not None else f"{start}{trial + 1}"
            where[row, trial] = place in before.places
        if where.any():
            own = zeros.get(before_name(spec.gauge.name, index))
            off = zero_of(spec, zeros) - (own.value if own is not None and not spec.difference else 0.0)
            values = np.where(where, values + (off if spec.moved_by_zero else 0.0), values)
            found.append((replace(before.gauge, name=before_name(spec.gauge.name, index)), where))
    return replace(entry, values=values, earlier=tuple(found)) if found else entry


def _check_names(program: Program, run: RunDocument) -> None:
    definition = program.definition
    for name in run.quantities:
        if name not in program.input_of:
            raise RunError(f"quantities.{name}", "the experiment has no such quantity to read")
    for series, columns in run.series.items():
        if series not in definition.series:
            raise RunError(f"series.{series}", "the experiment has no such series")
        for column in columns:
            if f"{series}.{column}" not in program.input_of:
                derived = column in definition.series[series].columns
                what = "is computed, so it takes no readings" if derived else "the series has no such column"
                raise RunError(f"series.{series}.{column}", what)
    for series, traced in run.traces.items():
        for column in traced:
            spec = program.input_of.get(f"{series}.{column}")
            if spec is None or spec.extract is None:
                raise RunError(f"traces.{series}.{column}", "the experiment takes no trace there")
    for fit in run.expected:
        if fit not in definition.fits:
            raise RunError(f"expected.{fit}", "the experiment has no such fit")
    for series in run.excluded:
        if series not in definition.series and series != "quantities":
            raise RunError(f"excluded.{series}", "the experiment has no such series")


def _read_input(spec: Input, run: RunDocument, rows: int, zero: float) -> InputReadings:
    cells: list[Cell]
    out = frozenset[tuple[int, int]]()
    if spec.series is None:
        cells = [run.quantities.get(spec.name)]
        out = frozenset(run.left_out_trials("", spec.name))
        if spec.default is not None and run.suggested_in_use and not any(text.strip() for text in trials(cells[0])):
            cells = [spec.default]
        counted = [text for trial, text in enumerate(trials(cells[0]), 1) if (1, trial) not in out]
        if spec.unread is not None and not any(text.strip() for text in counted):
            return _not_read(spec)
    else:
        cells = list(run.series.get(spec.series, {}).get(spec.name, []))
        out = frozenset(run.left_out_trials(spec.series, spec.name))
    texts = tuple(tuple(trials(cell)) for cell in cells)
    traces = run.traces.get(spec.series or "", {}).get(spec.name, [])
    typed = read_texts(spec, texts, out, rows, zero)
    return _traced(typed, traces, out, zero) if traces else typed


@by_identity(256)
def _not_read(spec: Input) -> InputReadings:
    """A quantity that is not read, with what formulas take instead: a value without a reading."""
    taken = read_texts(replace(spec, exact=True, gauge=None), ((spec.unread or "",),), frozenset(), 1, 0.0)
    return replace(taken, readings={})


@by_identity(4096)
def read_texts(
    spec: Input, texts: tuple[tuple[str, ...], ...], out: frozenset[tuple[int, int]], rows: int, zero: float
) -> InputReadings:
    """An input as typed; of most columns a save changes nothing, and they are not read again."""
    width = max([1, *(len(row) for row in texts)])
    typed = {(i, j): t for i, row in enumerate(texts, 1) for j, text in enumerate(row, 1) if (t := text.strip())}
    faults = list[Fault]()
    plain = read_plain([*typed.values()], spec.unit.text, spec.difference)
    readings = _one_by_one(spec, typed, texts, faults) if plain is None else dict(zip(typed, plain, strict=True))
    counted = {place: reading for place, reading in readings.items() if place not in out} if out else readings
    arrays = np.full((3, rows, width), np.nan)
    if counted:
        at = np.array([*counted]).T - 1
        found = [(r.value - zero, r.stated) for r in counted.values()]
        arrays[:2, at[0], at[1]] = np.array(found, float).T  # None becomes NaN
        arrays[2, at[0], at[1]] = _last_digits(counted.values())
    extracted = np.full((rows, width), np.nan)
    for array in (arrays, extracted):
        array.flags.writeable = False
    return InputReadings(
        spec=spec,
        rows=rows,
        readings=readings,
        values=arrays[0],
        stated=arrays[1],
        step=arrays[2],
        extracted=extracted,
        faults=tuple(faults),
    )


def _one_by_one(
    spec: Input, typed: Mapping[tuple[int, int], str], texts: Sequence[Sequence[str]], faults: list[Fault]
) -> dict[tuple[int, int], Reading]:
    """What can be read of texts of which some are no plain numbers; what cannot goes to ``faults``."""
    readings: dict[tuple[int, int], Reading] = {}
    for (row, trial), text in typed.items():
        try:
            readings[row, trial] = read_at(
                text, spec.unit.text, spec.difference, spec.gauge.least_count if spec.gauge else None
            )
        except ReadingError as fault:
            faults.append(Fault(spec.key, row, trial, texts[row - 1][trial - 1], fault.what))
    return readings


def _last_digits(readings: Collection[Reading]) -> list[float]:
    """One step of the last digit of each, SI; few of them differ."""
    keys = [(id(reading.unit), reading.decimals) for reading in readings]
    sizes = {key: reading.last_digit for key, reading in dict(zip(keys, readings, strict=True)).items()}
    return [sizes[key] for key in keys]


def _traced(
    typed: InputReadings, rows: Sequence[TraceCell], out: frozenset[tuple[int, int]], zero: float
) -> InputReadings:
    """The same with what traces give, in trials where nothing was typed: a value typed by hand stands for itself."""
    spec, faults = typed.spec, list(typed.faults)
    wide = max([typed.values.shape[1], *(len(traces_of(cell)) for cell in rows)])
    more = ((0, 0), (0, wide - typed.values.shape[1]))
    values, stated, step, extracted = (
        np.pad(array, more, constant_values=np.nan)
        for array in (typed.values, typed.stated, typed.step, typed.extracted)
    )
    for i, cell in enumerate(rows):
        for j, document in enumerate(traces_of(cell)):
            place = (i + 1, j + 1)
            if document is None or spec.extract is None or not np.isnan(values[i, j]) or place in out:
                continue
            if place in typed.readings:
                continue  # typed, and left out or not
            try:
                values[i, j], extracted[i, j] = from_trace(spec, document)
                if spec.moved_by_zero:
                    values[i, j] -= zero
            except CavrelError as fault:
                faults.append(Fault(spec.key, *place, "trace", str(fault)))
    return replace(typed, values=values, stated=stated, step=step, extracted=extracted, faults=tuple(faults))


def _row_count(run: RunDocument, series: str) -> int:
    typed = [len(cells) for cells in run.series.get(series, {}).values()]
    traced = [len(traces) for traces in run.traces.get(series, {}).values()]
    return max([1, *typed, *traced])


def from_trace(spec: Input, document: TraceDocument) -> tuple[float, float]:
    """Value and standard uncertainty, SI, of one row's trace. Raises RunError for samples that cannot give what the column holds."""
    assert spec.extract is not None
    unit = units.unit(document.unit)
    kind = EXTRACTIONS[spec.extract]
    if kind.dimension(unit.dimension, units.unit("s").dimension) != spec.unit.dimension:
        samples = unit.text or "plain numbers"
        raise RunError("", f"the {kind.words} of samples in {samples} is no {within(spec.label)} in {spec.unit.text}")
    times = trace.sample_times(document.rate, document.start, document.times, len(document.values))
    values = np.array([np.nan if v is None else v for v in document.values], float) * unit.factor
    values = -values if spec.reversed else values
    step = trace.last_digit(document.values) * unit.factor
    found = trace.extract(spec.extract, times, values, document.begin, document.end, step)
    offset = unit.offset if kind.shifts else 0.0
    return found.value + offset, found.u
