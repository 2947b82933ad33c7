"""Compiling what is read and what follows from it row by row: quantities and columns."""

from cavrel.core.definition import Column, Quantity, Result
from cavrel.core.definition.formulas import Formulas
from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.definition.steps import (
    Derived,
    Input,
)
from cavrel.core.errors import DefinitionError, ReadingError
from cavrel.core.formula.dimension import Kind
from cavrel.core.formula.evaluate import Compiled
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import read
from cavrel.core.quantity.units import Unit


class Inputs(Formulas):
    """Quantities of the run and columns of its series."""

    def quantity(self, name: str) -> None:
        body, place = self.definition.quantities[name], f"quantities.{name}"
        if body.formula is not None:
            self._derived(name, name, None, body, place)
            return
        self._input(name, name, None, body, place, "quantity", body.default)

    def column(self, series: str, name: str) -> None:
        body = self.definition.series[series].columns[name]
        key, place = f"{series}.{name}", f"series.{series}.columns.{name}"
        if body.formula is not None:
            self._derived(key, name, series, body, place)
            return
        self._input(key, name, series, body, place, body.role, None)

    def _shown(self, body: Quantity | Column | Result, kind: Kind, place: str) -> Unit:
        """The unit that a computed value is shown in."""
        assert kind.dimension is not None
        usual = kind.dimension.si() if isinstance(body, Result) else kind.dimension.named()
        unit = self.unit(body.unit if body.unit is not None else usual, place)
        if unit.offset and kind.scale == "difference" and not body.difference:
            raise DefinitionError(
                f"{place}.unit",
                f"a difference is no {unit.pretty} on the scale; say 'difference = true', or give it in K",
            )
        return unit.difference if body.difference else unit

    def _derived(self, key: str, name: str, series: str | None, body: Quantity | Column, place: str) -> None:
        assert body.formula is not None
        wanted = self.unit(body.unit, place).dimension if body.unit is not None else None
        _, kind, run = self.formula(body.formula, series, f"{place}.formula", wanted)
        if series is None and kind.series:
            raise DefinitionError(
                f"{place}.formula",
                f"this runs over the rows of '{kind.series}'; fold them with mean(), sum() or first()",
            )
        if series is not None and kind.series not in (None, series):
            raise DefinitionError(f"{place}.formula", f"this runs over the rows of '{kind.series}', not of '{series}'")
        assert kind.dimension is not None
        unit = self._shown(body, kind, place)
        self.kinds[key] = Kind(kind.dimension, series, "point" if unit.offset else kind.scale)
        self.unit_texts[key], self.shown_units[key] = unit.text, unit
        self.steps.append(Derived(key, name, series, unit, run))

    def _input(
        self,
        key: str,
        name: str,
        series: str | None,
        body: Quantity | Column,
        place: str,
        role: str,
        default: str | None,
    ) -> None:
        unit = self.unit(body.unit, place)
        gauge = None
        unread = body.unread if isinstance(body, Quantity) else None
        for field, text in (("default", default), ("unread", unread)):
            try:
                if text:
                    read(text, unit.text, body.difference)
            except ReadingError as fault:
                raise DefinitionError(f"{place}.{field}", fault.what) from fault
        if body.instrument is not None:
            if body.instrument not in self.gauges:
                raise DefinitionError(f"{place}.instrument", f"unknown instrument '{body.instrument}'")
            gauge = self.gauges[body.instrument]
            if not (
                isinstance(body, Column) and body.extract
            ):  # a slope has another unit than the samples it comes from
                self._gauge_fits(gauge, unit, place)
        unit = unit.difference if body.difference else unit
        self.kinds[key] = Kind(
            unit.dimension, series, "point" if unit.offset else "difference" if body.difference else ""
        )
        self.unit_texts[key], self.shown_units[key] = unit.text, unit
        plausible = self.formula(body.range, series, f"{place}.range", truth=True)[2] if body.range else None
        self.inputs.append(
            Input(
                key=key,
                name=name,
                series=series,
                label=body.label,
                unit=unit,
                role=role,
                gauge=gauge,
                exact=body.exact,
                count=body.count,
                repeats=body.repeats,
                optional=body.optional,
                default=default,
                unread=unread,
                from_result=body.from_result if isinstance(body, Quantity) else None,
                plausible=plausible,
                timer=self.timers.get(key),
                extract=body.extract if isinstance(body, Column) else None,
                reversed=isinstance(body, Column) and body.reversed,
                whole=body.whole,
                difference=body.difference,
                step=self._step(body, unit, place),
                listed=isinstance(body, Column) and body.listed,
            )
        )

    def _step(self, body: Quantity | Column, unit: Unit, place: str) -> Compiled | None:
        """By what a column can be set, compiled."""
        if not isinstance(body, Column) or body.step is None:
            return None
        return self.formula(body.step, None, f"{place}.step", unit.dimension, measured=False)[2]

    def _gauge_fits(self, gauge: MeasuringInstrument, unit: Unit, place: str) -> None:
        body = self.definition.instruments[gauge.name]
        for field in ("least_count", "reaction", "placement", "zero", "full_scale"):
            text = getattr(body, field)
            if text and units.quantity(text)[1].dimension != unit.dimension:
                raise DefinitionError(
                    f"{place}.instrument",
                    f"'{gauge.name}' gives its {field} as {text}, which cannot read {unit.text or 'plain numbers'}",
                )
