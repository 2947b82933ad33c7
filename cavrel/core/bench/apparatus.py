"""Apparatus that answers reading by reading: what it shows at one place of the sheet, with what is set there so far.

The same model as `simulate`: the truths, the instruments' own errors and the faults are those of the run's seed; each reading's own error is
drawn for its place and for how often it was taken there, so that looking again shows the same and doing it again does not.
"""

import math
from collections.abc import Collection, Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.bench.faults import of_instrument
from cavrel.core.bench.shown import Course, Creep, Found, Line, NotYet, Recording, Shown
from cavrel.core.definition.simulation import Record, Seek, Settle
from cavrel.core.definition.steps import Input, Program
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.logbook.run import RunDocument, trials
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import read
from cavrel.core.simulate.apparatus import Apparatus, Planned
from cavrel.core.simulate.draws import of_its_own
from cavrel.core.words import within

Array = NDArray[np.float64]

MOST_RECORDED = 20_000
"""Samples of a recording on the screen."""
_PLACES = 2001
"""At which the response of what is moved is computed."""
_FAINTEST = 0.01
"""Brightness under which an eye sees nothing."""
HANDS = ("stopwatch",)
"""Kinds of instruments whose error is their user's, who is there himself."""


class Bench:
    """The apparatus of one run. ``run``: the readings and settings so far; ``seed``: of the run; ``faults``: what goes wrong in it, by the
    definition's own names, or ``zero:`` and ``scale:`` with an instrument's.

    Raises DefinitionError where the definition cannot be simulated.
    """

    def __init__(self, program: Program, run: RunDocument, seed: int, faults: Collection[str] = ()) -> None:
        self.program, self.run, self.seed = program, run, seed
        typed = {
            spec.name: text
            for spec in program.inputs
            if spec.series is None and self._is_set(spec) and (text := trials(run.quantities.get(spec.name))[0].strip())
        }
        errs = {fault.partition(":")[2]: of_instrument(program, fault) for fault in faults if ":" in fault}
        own_faults = [fault for fault in faults if ":" not in fault]
        with np.errstate(all="ignore"):
            self.apparatus = Apparatus(
                program, np.random.default_rng(seed), own_faults, Planned(quantities=typed), hidden=seed
            )
        self.typed = typed
        for name, (share, offset) in errs.items():
            own = self.apparatus.errors[name]
            self.apparatus.errors[name] = replace(own, share=own.share + share, offset=own.offset + offset)

    def _is_set(self, spec: Input) -> bool:
        """Whether a quantity is decided by the bench rather than read off: a number, a dial, a printed value of its own."""
        plan = self.program.definition.simulate
        assert plan is not None
        dial = spec.gauge is not None and spec.gauge.dial
        return dial or (spec.gauge is None and not spec.count and spec.name not in plan.read)

    def shown(self, slot: Slot, take: int = 1) -> Shown:
        """What is shown at a reading's place the ``take``-th time it is done there.

        Raises NotYet where something is to be set first, DefinitionError where nothing is read there or the definition cannot say what.
        """
        spec = self.program.input_of.get(slot.key)
        if spec is None or not slot.reads:
            raise DefinitionError(str(slot), "nothing is read here")
        with np.errstate(all="ignore"):
            return self._shown(spec, slot, take)

    def zero(self, name: str, take: int = 1) -> Shown:
        """What an instrument shows with nothing to measure. Raises DefinitionError where there is none of this name, or it has no zero."""
        spec = next((s for s in self.program.inputs if s.gauge and s.gauge.name == name and not s.exact), None)
        if spec is None or spec.gauge is None or not spec.gauge.least_count or spec.gauge.dial:
            raise DefinitionError(f"instruments.{name}", "shows no zero")
        size = spec.gauge.placement or 0.0
        draw = of_its_own(self.seed, "zero", name, take)
        noise = float(draw.normal(0.0, size)) if size else 0.0
        return Shown(spec=spec, value=spec.unit.offset + self.apparatus.errors[name].offset + noise)

    def afloat(self) -> float:
        """Density of what is put into the liquid relative to the liquid: below one it floats, and that part of it is under the surface.

        Raises DefinitionError where nothing is put into one, NotYet where something is to be set first.
        """
        plan = self.program.definition.simulate
        if plan is None or plan.afloat is None:
            raise DefinitionError("simulate.afloat", "is missing: nothing is put into a liquid here")
        with np.errstate(all="ignore"):
            self._quantities()
            density = self._amount(plan.afloat.density, "simulate.afloat.density")
            liquid = self._amount(plan.afloat.liquid, "simulate.afloat.liquid")
        if not (density > 0 and liquid > 0 and math.isfinite(density / liquid)):
            raise DefinitionError("simulate.afloat", "comes to no density")
        return density / liquid

    def is_read(self, spec: Input) -> bool:
        """Whether the apparatus shows it, or the bench sets it."""
        if spec.series is None:
            return not self._is_set(spec)
        body = self.program.definition.series[spec.series].columns[spec.name]
        return body.column_role.wanted

    def _shown(self, spec: Input, slot: Slot, take: int) -> Shown:
        own, plan = self.apparatus, self.apparatus.plan
        if not self.is_read(spec):
            raise NotYet(str(slot), "this is yours to decide: type it, and the apparatus follows")
        self._quantities()
        timed = self._interval(spec)
        if spec.series is not None:
            self._row(spec, slot.row, skip_time=timed is not None)
        draw = of_its_own(self.seed, spec.key, slot.row, slot.trial, take)
        if timed is not None:
            return Shown(spec=spec, value=0.0, course=self._course(spec, timed, draw))
        true = self._true(spec, slot)
        seek = plan.seek.get(spec.key)
        if seek is not None and seek.place is not None and not math.isfinite(true):
            # A line that is nowhere: all the others are there.
            true = self._amount(seek.low, f"simulate.seek.{spec.key}.low")
        spoilt = self._spoilt(spec, slot, take)
        true = true if spoilt is None else spoilt
        if not (math.isfinite(true) and abs(true) < 1e15):
            raise DefinitionError(f"simulate.read.{spec.key}", "comes to no number that could be read")
        if spec.count:
            return Shown(spec=spec, value=float(draw.poisson(max(true, 0.0))), counts=self._seconds())
        laps = self._laps(spec)
        kind = self.program.definition.instruments[spec.gauge.name].kind if spec.gauge else None
        # A thumb's delay comes with the thumb, and a slope's unrest with its samples.
        by_itself = (laps is not None and kind in HANDS) or spec.extract is not None
        size = 0.0 if by_itself else own.own_size(spec)
        value = self._through(spec, true + (float(draw.normal(0.0, size)) if size and not spec.exact else 0.0), true)
        return Shown(
            spec=spec,
            value=value,
            laps=laps,
            motion=plan.motion.get(spec.key, "swing") if laps else "",
            found=self._found(seek, spec, true, value) if seek is not None else None,
            creep=self._creep(plan.settle[spec.key], f"simulate.settle.{spec.key}")
            if spec.key in plan.settle
            else None,
            recording=self._recording(plan.record[spec.key], spec, draw) if spec.key in plan.record else None,
            slope=value if spec.extract == "slope" else None,
            unrest=int(draw.integers(2**32)),
            turns=self._amount(plan.turns, "simulate.turns") if plan.motion.get(spec.key) == "turn" else None,
        )

    def _through(self, spec: Input, value: float, true: float) -> float:
        """A value as the instrument, with its errors of this run, gives it."""
        if spec.gauge is None or spec.exact:
            return value
        errors = self.apparatus.errors[spec.gauge.name]
        return value + errors.share * (true - spec.unit.offset) + errors.offset

    def _quantities(self) -> None:
        """True values of the quantities: as typed where the bench decides them, of the world where they are read."""
        own = self.apparatus
        for spec in self.program.inputs:
            if spec.series is not None or spec.name in own.true:
                continue
            if spec.name in self.typed:
                own.true[spec.name] = own.typed(spec)
            elif spec.default is not None:
                value = read(spec.default, spec.unit.text, spec.difference).value
                own.true[spec.name] = np.array([[value]])

    def _row(self, spec: Input, row: int, skip_time: bool) -> None:
        """True values of what is set in a row, and of what is read there before ``spec``."""
        own, series = self.apparatus, spec.series
        assert series is not None
        own.true["row"] = np.array([[float(row)]])
        columns = self.program.definition.series[series].columns
        for name in (c for c, body in columns.items() if body.column_role.chosen):
            column = self.program.input_of[f"{series}.{name}"]
            if skip_time and column.unit.dimension == units.unit("s").dimension:
                continue
            own.true[column.key] = np.array([[self._set(column, row)]])
        for name in (c for c, body in columns.items() if body.column_role.wanted):
            if name == spec.name:
                return
            column = self.program.input_of[f"{series}.{name}"]
            if column.key in own.reads:
                own.true[column.key] = np.array([[self._true(column, Slot(series, name, row, 1))]])

    def _set(self, column: Input, row: int) -> float:
        """The true value of a setting: what was typed, and how far the apparatus lies from it."""
        assert column.series is not None
        cells = self.run.series.get(column.series, {}).get(column.name, [])
        text = next((t.strip() for t in trials(cells[row - 1]) if t.strip()), "") if row <= len(cells) else ""
        if not text:
            at = f"{column.key}.{row}.1"
            raise NotYet(at, f"set {within(column.label)} of row {row} first: type it in the table")
        try:
            typed = read(text, column.unit.text, column.difference).value
        except CavrelError as fault:
            raise NotYet(f"{column.key}.{row}.1", fault.what) from fault
        if column.gauge is None or column.exact:
            return typed
        errors, zero = self.apparatus.errors[column.gauge.name], column.unit.offset
        draw = of_its_own(self.seed, column.key, row, text)
        size = self.apparatus.own_size(column)
        step = 0.0 if column.gauge.dial else column.gauge.least_count or 0.0
        placed = float(draw.normal(0.0, size)) + float(draw.uniform(-step / 2, step / 2))
        return (typed - errors.offset + errors.share * zero) / (1 + errors.share) + placed

    def _true(self, spec: Input, slot: Slot) -> float:
        own = self.apparatus
        value = self._by(own.reads, spec)
        if spec.key in own.plan.vary:
            size = own.spread(own.plan.vary[spec.key], f"simulate.vary.{spec.key}")
            value += float(of_its_own(self.seed, "vary", spec.key, slot.row).normal(0.0, size))
        return value

    def _by(self, reads: Mapping[str, str], spec: Input) -> float:
        """What is truly there by these formulas, else by the truths themselves, SI; NaN where it comes to no number."""
        own, place = self.apparatus, f"simulate.read.{spec.key}"
        if spec.key in reads:
            return float(np.ravel(own.value(reads[spec.key], spec.series, place))[0])
        if spec.series is None and spec.name in own.true:
            return float(np.ravel(own.true[spec.name])[0])
        raise DefinitionError(place, "is missing: the simulation does not know what this shows")

    def _spoilt(self, spec: Input, slot: Slot, take: int) -> float | None:
        """The value under a fault that spoils one row, whatever is repeated there, or one reading, until it is taken again; None elsewhere."""
        own = self.apparatus
        rows = self.program.definition.series[spec.series].rows if spec.series else 1
        for faults, of_row in ((own.in_row, True), (own.once, False)):
            if spec.key not in faults:
                continue
            draw = of_its_own(self.seed, "row" if of_row else "once", spec.key)
            row, trial = int(draw.integers(rows)) + 1 if spec.series else 0, int(draw.integers(spec.repeats)) + 1
            if row == slot.row and (of_row or (trial, 1) == (slot.trial, take)):
                return float(np.ravel(own.value(faults[spec.key], spec.series, f"simulate.faults.{spec.key}"))[0])
        return None

    def _laps(self, spec: Input) -> int | None:
        """How many laps the deck counts for it."""
        for index, step in enumerate(self.program.definition.steps):
            if step.timer is None or step.timer.kind != "laps" or spec.key not in step.fills:
                continue
            number = self.apparatus.value(step.timer.laps, None, f"steps.{index}.timer.laps")
            return max(1, round(float(np.ravel(number)[0])))
        return None

    def _interval(self, spec: Input) -> tuple[Input, float] | None:
        """The time column and the length, s, of the calls that a reading belongs to."""
        for step in self.program.definition.steps:
            if step.timer is None or step.timer.kind != "interval" or spec.key not in step.fills:
                continue
            for key in step.fills:
                other = self.program.input_of.get(key)
                if (
                    other is not None
                    and other.series == spec.series
                    and other.unit.dimension == units.unit("s").dimension
                ):
                    return other, units.quantity(step.timer.lasting or "1 min")[0]
        return None

    def _course(self, spec: Input, timed: tuple[Input, float], draw: np.random.Generator) -> Course:
        """A reading over time; its unrest changes once a second, about as fast as an eye follows."""
        column, lasting = timed
        own = self.apparatus
        if spec.key not in own.reads:
            raise DefinitionError(
                f"simulate.read.{spec.key}", "is missing: the simulation does not know what this shows"
            )
        t = np.linspace(0.0, 1.1 * lasting, min(int(1.1 * lasting) + 1, 2001))
        own.true[column.key] = t[None, :]
        value = own.value(own.reads[spec.key], spec.series, f"simulate.read.{spec.key}")
        true = np.broadcast_to(value, (1, len(t)))[0]
        size = own.own_size(spec)
        seen = true + (draw.normal(0.0, size, len(t)) if size else 0.0)
        if spec.gauge is not None:
            errors = own.errors[spec.gauge.name]
            seen = seen + errors.share * (true - spec.unit.offset) + errors.offset
        if not np.isfinite(seen).all():
            raise DefinitionError(f"simulate.read.{spec.key}", "comes to no number that could be read")
        return Course(times=tuple(t.tolist()), values=tuple(seen.tolist()))

    def _seconds(self) -> float:
        """How long events are counted: the quantity that is a time and has a default, else ten seconds."""
        for spec in self.program.inputs:
            if (
                spec.series is None
                and spec.unit.dimension == units.unit("s").dimension
                and spec.name in self.apparatus.true
            ):
                return float(np.ravel(self.apparatus.true[spec.name])[0])
        return 10.0

    def _found(self, seek: Seek, spec: Input, true: float, value: float) -> Found:
        """How a reading is found that is truly ``true`` and stands at ``value`` of its scale, SI."""
        place = f"simulate.seek.{spec.key}"
        low, high = (self._amount(text, place) for text in (seek.low, seek.high))
        width = abs(self._amount(seek.width, place)) if seek.width is not None else None
        if not low < high or width == 0:
            raise DefinitionError(place, "goes from a smaller to a larger value, and its width is more than nothing")
        if width is not None:
            return Found(sign=seek.sign, width=-width if seek.pivot else width, low=low, high=high)
        own = self.apparatus
        unspoilt = self._by(own.plan.read, spec)
        unspoilt = unspoilt if math.isfinite(unspoilt) else true
        share = own.errors[spec.gauge.name].share if spec.gauge is not None and not spec.exact else 0.0
        if seek.place is not None:
            # Faults, and how far this reading is off, shift what the scale shows of every line alike.
            return Found(
                sign=seek.sign,
                low=low,
                high=high,
                lines=self._lines(seek, spec, value - unspoilt * (1 + share), 1 + share),
            )
        # Where the scale shows x, the apparatus is truly here: the scale's own errors move all places alike.
        at = true + (np.linspace(low, high, _PLACES) - value) / (1 + share)
        own.true |= {"at": at[None, :], "found": np.array([[true]]), "unspoilt": np.array([[unspoilt]])}

        def there(formula: str, field: str) -> Array:
            values: Array = np.broadcast_to(own.value(formula, spec.series, f"{place}.{field}"), (1, _PLACES))[0]
            if not np.isfinite(values).all():
                raise DefinitionError(f"{place}.{field}", "comes to no number somewhere between low and high")
            return values

        response = np.clip(there(seek.response or "", "response"), -1.0 if seek.sign == "current" else 0.0, 1.0)
        loops = np.clip(np.rint(there(seek.loops, "loops")), 1, 40) if seek.loops is not None else np.array([])
        return Found(
            sign=seek.sign,
            low=low,
            high=high,
            response=tuple(round(float(v), 5) for v in response),
            loops=tuple(int(v) for v in loops),
        )

    def _lines(self, seek: Seek, spec: Input, offset: float, scale: float) -> tuple[Line, ...]:
        """All that the telescope could be pointed at; what truly stands at an angle, its scale shows ``scale`` times as large, and ``offset``."""
        own, place, seen = self.apparatus, f"simulate.seek.{spec.key}.place", list[Line]()
        for line in own.plan.lamp:
            wave = self._amount(line.wave, "simulate.lamp")
            for order in range(-seek.orders, seek.orders + 1):
                own.true |= {"wave": np.array([[wave]]), "order": np.array([[float(order)]])}
                at = float(np.ravel(own.value(seek.place or "", spec.series, place))[0])
                bright = line.bright * _visible(wave) / max(abs(order), 0.5)
                if math.isfinite(at) and bright > _FAINTEST:
                    seen.append(Line(at=offset + scale * at, wave=wave, bright=min(bright, 1.0), order=order))
        return tuple(sorted(seen, key=lambda line: line.at))

    def _recording(self, record: Record, spec: Input, draw: np.random.Generator) -> Recording:
        place = f"simulate.record.{spec.key}"
        lasting, rate = self._amount(record.lasting, f"{place}.lasting"), self._amount(record.rate, f"{place}.rate")
        many = lasting * rate
        if not 2 <= many <= MOST_RECORDED:
            raise DefinitionError(place, f"records {many:.0f} samples; between 2 and {MOST_RECORDED} can be shown")
        t = np.arange(int(many)) / rate
        self.apparatus.true["time"] = t[None, :]
        value = self.apparatus.value(record.value, spec.series, f"{place}.value")
        unit = units.unit(record.unit)
        noise = self._amount(record.noise, f"{place}.noise")
        seen = np.broadcast_to(value, (1, len(t)))[0] + draw.normal(0.0, abs(noise), len(t))
        if not np.isfinite(seen).all():
            raise DefinitionError(f"{place}.value", "comes to no number that could be recorded")
        samples = [unit.from_si(float(v)) for v in seen]
        size = max(abs(v) for v in samples) or 1.0
        digits = 4 - math.ceil(math.log10(size))
        return Recording(
            times=tuple(round(float(v), 6) for v in t),
            values=tuple(round(v, digits) for v in samples),
            unit=record.unit,
        )

    def _creep(self, settle: Settle, place: str) -> Creep:
        tau = self._amount(settle.tau, place)
        if not tau > 0:
            raise DefinitionError(place, "takes a time of more than nothing")
        return Creep(off=self._amount(settle.off, place), tau=tau)

    def _amount(self, text: str, place: str) -> float:
        return float(np.ravel(self.apparatus.value(text, None, place))[0])


def _visible(wave: float) -> float:
    """What an eye that is used to the dark has of a wavelength, m: all from 410 to 690 nm, nothing under 390 and over 750 nm."""
    return float(np.interp(wave, [390e-9, 410e-9, 690e-9, 750e-9], [0.0, 1.0, 1.0, 0.0]))
