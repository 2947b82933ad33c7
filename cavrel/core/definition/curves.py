"""Compiling fits: the curve, its parameters, and the units of its axes."""

import numpy as np

from cavrel.core.definition import Fit
from cavrel.core.definition.formulas import NO_NAMES
from cavrel.core.definition.inputs import Inputs
from cavrel.core.definition.steps import (
    FitStep,
)
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.fit.models import built_in
from cavrel.core.formula.derivative import NoDerivative, derivative
from cavrel.core.formula.dimension import Kind, infer
from cavrel.core.formula.evaluate import Compiled, Environment, compile_node
from cavrel.core.formula.nodes import Member, Name, Node, walk
from cavrel.core.formula.parse import parse
from cavrel.core.formula.written import Written, as_unit, written
from cavrel.core.quantity import units
from cavrel.core.quantity.dimension import PLAIN, Dimension
from cavrel.core.quantity.units import Unit


class Fits(Inputs):
    """Fits, built in and free."""

    def fit(self, name: str) -> None:
        body, place = self.definition.fits[name], f"fits.{name}"
        if body.series not in self.definition.series:
            raise DefinitionError(f"{place}.series", f"unknown series '{body.series}'")
        y, y_kind, run_y = self.formula(body.y, body.series, f"{place}.y")
        x, run_x, x_dimension = None, None, PLAIN
        if body.x is not None:
            x, x_kind, run_x = self.formula(body.x, body.series, f"{place}.x")
            if x_kind.series != body.series:
                raise DefinitionError(f"{place}.x", f"this must run over the rows of '{body.series}'")
            assert x_kind.dimension is not None
            x_dimension = x_kind.dimension
        if y_kind.series != body.series:
            raise DefinitionError(f"{place}.y", f"this must run over the rows of '{body.series}'")
        assert y_kind.dimension is not None
        shape, curve, at = None, None, None
        free: dict[str, float] = {}
        slopes: tuple[Compiled | None, ...] = ()
        if body.model == "formula":
            curve, slopes, dimensions, free = self._free_curve(name, body, y_kind.dimension, place)
        elif body.model == "tangent":
            assert body.at is not None
            at_kind, at = self.formula(body.at, None, f"{place}.at", x_dimension)[1:]
            if at_kind.series:
                raise DefinitionError(
                    f"{place}.at", "a tangent touches at one x; fold a column with first(), max() or mean()"
                )
            dimensions = {"slope": y_kind.dimension / x_dimension, "value": y_kind.dimension}
        else:
            shape = built_in(body.model, body.offset)
            dimensions = dict(shape.units(x_dimension, y_kind.dimension))
        y_written, x_written = self.written(y, body.series), self.written(x, body.series) if x is not None else PLAIN
        parameters = {p: units.unit(d.named()) for p, d in dimensions.items()}
        if y_written is not None and x_written is not None and shape is not None:
            as_written = shape.units(x_written, y_written)
            parameters = {p: as_unit(as_written[p], d) for p, d in dimensions.items()}
        for parameter, unit in parameters.items():
            self.kinds[f"{name}.{parameter}"] = Kind(unit.dimension)
        self.kinds[name] = Kind(PLAIN)  # so that the fit itself counts as compiled
        x_unit = self.axis_unit(x, x_written, x_dimension, body.series)
        y_unit = self.axis_unit(y, y_written, y_kind.dimension, body.series)
        for parameter in parameters:
            same = parameters[parameter].dimension == y_unit.dimension
            if same and parameter in (shape.heights if shape is not None else ("value",)):
                parameters[parameter] = y_unit  # a place on the scale of y
        self.steps.append(
            FitStep(
                name=name,
                series=body.series,
                model=body.model,
                x=x,
                y=y,
                run_x=run_x,
                run_y=run_y,
                x_unit=x_unit,
                y_unit=y_unit,
                parameters=parameters,
                shape=shape,
                curve=curve,
                free=free,
                at=at,
                points=body.points,
                origin=body.origin,
                slopes=slopes,
                label=body.label or "the line",
                marked=self._marked(body, place),
            )
        )

    def _marked(self, body: Fit, place: str) -> tuple[str, ...]:
        """The words of the rows that a fit runs over; what their rules name is computed before it."""
        outcome = self.definition.series[body.series].outcome
        for i, word in enumerate(body.marked):
            if outcome is None or word not in outcome.choices:
                raise DefinitionError(f"{place}.marked.{i}", f"the table has no word '{word}' for its rows")
        if body.marked and outcome is not None and outcome.by_rule:
            for word, condition in outcome.choices.items():
                if condition:
                    self.formula(condition, body.series, f"series.{body.series}.outcome.choices.{word}", truth=True)
        return body.marked

    def written(self, node: Node, series: str) -> Written | None:
        """The unit of a formula of a series in the units of its columns and quantities."""

        def unit_of(name: Name | Member) -> str | None:
            return self.unit_texts.get(self.key(name, series, NO_NAMES))

        return written(node, unit_of)

    def axis_unit(self, node: Node | None, found: Written | None, dimension: Dimension, series: str) -> Unit:
        """The unit that an axis is drawn in: the column's own where it is one column, else as the formula is written."""
        if isinstance(node, Name | Member):
            own = self.shown_units.get(self.key(node, series, NO_NAMES))
            if own is not None:
                return own
        return as_unit(found, dimension)

    def _free_curve(
        self, name: str, body: Fit, wanted: Dimension, place: str
    ) -> tuple[Compiled, tuple[Compiled | None, ...], dict[str, Dimension], dict[str, float]]:
        """The compiled curve of a formula fit, its derivatives, the dimensions of its free parameters, and their starting values."""
        dimensions, starts = {}, {}
        for parameter, text in body.free.items():
            try:
                node = parse(text)
                kind = infer(node, self.scope(None, f"{place}.free.{parameter}", NO_NAMES))
                start = compile_node(node, lambda n: n.name, lambda n: None)(
                    Environment({"pi": np.array([[np.pi]])}, {})
                )
                if not np.isfinite(start[0, 0]):
                    raise KeyError(text)
            except DefinitionError:
                raise
            except (CavrelError, KeyError) as fault:
                raise DefinitionError(
                    f"{place}.free.{parameter}", f"'{text}' is no starting value, such as '9.8[m/s^2]'"
                ) from fault
            assert kind.dimension is not None
            dimensions[parameter], starts[parameter] = kind.dimension, float(start[0, 0])
            self.kinds[f"{name}.{parameter}"] = Kind(kind.dimension)
        local = {parameter: f"{name}.{parameter}" for parameter in body.free}
        assert body.formula is not None
        node, kind, curve = self.formula(body.formula, body.series, f"{place}.formula", wanted, local=local)
        used = {inner.name for inner in walk(node) if isinstance(inner, Name)}
        for parameter in body.free:
            if parameter not in used:
                raise DefinitionError(f"{place}.free.{parameter}", "the curve does not depend on it")
        if kind.series not in (None, body.series):
            raise DefinitionError(f"{place}.formula", f"this must run over the rows of '{body.series}'")
        slopes: list[Compiled | None] = []
        for parameter in body.free:
            try:
                slopes.append(self.compiled(derivative(node, Name(parameter)), body.series, local))
            except NoDerivative:
                slopes.append(None)
        return curve, tuple(slopes), dimensions, starts
