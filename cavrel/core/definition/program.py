"""A definition compiled: what is read, and the formulas and fits over it in the order of what each needs.

Compiling checks every name, unit and dimension once; running the program (`analysis`) checks nothing again.
"""

from collections.abc import Callable, Mapping
from functools import partial

import numpy as np

from cavrel.core.definition import Column, Definition, Fit, Quantity, Result
from cavrel.core.definition.accepted import Accepted
from cavrel.core.definition.gauge import Gauge, read_gauge
from cavrel.core.definition.steps import (
    CheckStep,
    Derived,
    FitStep,
    Input,
    PictureStep,
    PredictStep,
    Program,
    ResultStep,
    Step,
)
from cavrel.core.errors import CavrelError, DefinitionError, FormulaError, ReadingError
from cavrel.core.fit.models import built_in
from cavrel.core.formula.derivative import NoDerivative, derivative
from cavrel.core.formula.dimension import Kind, Scope, infer
from cavrel.core.formula.evaluate import Compiled, Environment, compile_node
from cavrel.core.formula.nodes import Call, Member, Name, Node, substitute, walk
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import unparse
from cavrel.core.formula.written import Written, as_unit, written
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import read
from cavrel.core.quantity.units import PLAIN, Dimension, Unit

_NO_NAMES: Mapping[str, str] = {}


def compile_program(definition: Definition, accepted: Mapping[str, Accepted]) -> Program:
    """Compile ``definition``; ``accepted`` are the named values its formulas may use.

    Raises DefinitionError whose place is the path of the faulty key.
    """
    return _Compiler(definition, accepted).program()


class _Compiler:
    """Holds the names of one definition while its parts are compiled on demand, depth first."""

    def __init__(self, definition: Definition, accepted: Mapping[str, Accepted]) -> None:
        self.definition = definition
        self.accepted = accepted
        self.kinds: dict[str, Kind] = {"pi": Kind(PLAIN)}
        self.inputs: list[Input] = []
        self.steps: list[Step] = []
        self.used_accepted: list[str] = []
        self.open: list[str] = []  # what is being compiled now, to see circles
        self.constants: dict[str, float] = {}
        self.edges: set[str] = set()
        self.uses: dict[str, set[str]] = {}
        self.unit_texts: dict[str, str] = {}
        self.shown_units: dict[str, Unit] = {}
        self.gauges = {name: read_gauge(name, body) for name, body in definition.instruments.items()}
        self.timers = {
            fill: step.timer
            for step in definition.steps
            if step.timer and step.timer.kind == "laps"
            for fill in step.fills
        }

    def program(self) -> Program:
        definition = self.definition
        self._unique_names()
        for name in definition.quantities:
            self.need(name, None, f"quantities.{name}")
        for series, body in definition.series.items():
            for name in body.columns:
                self.need(f"{series}.{name}", None, f"series.{series}.columns.{name}")
        for name in definition.fits:
            self.need(name, None, f"fits.{name}")
        for name in definition.results:
            self.need(name, None, f"results.{name}")
        for name in definition.predict:
            self.need(name, None, f"predict.{name}")
        self._check_places()
        checks = tuple(self._check(i) for i in range(len(definition.checks)))
        pictures = tuple(self._picture(name) for name in definition.pictures)
        suggestions = {s.target: self._suggestion(i) for i, s in enumerate(definition.suggest)}
        laps = self._laps()
        ranges = {name: self._range(name) for name, body in definition.results.items() if body.range}
        return Program(
            definition,
            tuple(self.inputs),
            tuple(self.steps),
            checks,
            self.gauges,
            tuple(self.used_accepted),
            self.accepted,
            suggestions,
            pictures,
            self.constants,
            frozenset(self.edges),
            ranges,
            laps,
            self._needs(),
        )

    def _needs(self) -> dict[str, frozenset[str]]:
        """By fit and result, the inputs behind it."""
        inputs = {entry.key for entry in self.inputs}

        def behind(key: str, seen: set[str]) -> set[str]:
            whole = key.partition(".")[0] if key.partition(".")[0] in self.definition.fits else key
            if whole in seen:
                return set()
            seen.add(whole)
            found = {whole} & inputs
            for other in self.uses.get(whole, ()):
                found |= behind(other, seen)
            return found

        names = [*self.definition.fits, *self.definition.results, *self.definition.predict]
        names += [f"{name}#accepted" for name in self.definition.results]
        names += [f"check#{i}" for i in range(len(self.definition.checks))]
        return {name: frozenset(behind(name, set())) for name in names}

    def _unique_names(self) -> None:
        seen: dict[str, str] = {"pi": "the constants"}
        for table in ("quantities", "series", "fits", "results", "predict"):
            for name in getattr(self.definition, table):
                if name in seen:
                    raise DefinitionError(f"{table}.{name}", f"the name '{name}' stands in {seen[name]} already")
                seen[name] = table

    def _own(self, name: str) -> bool:
        """Whether the definition itself has something of this name."""
        definition = self.definition
        return any(name in table for table in (definition.quantities, definition.results, definition.predict))

    def _check_places(self) -> None:
        for i, step in enumerate(self.definition.steps):
            for fill in step.fills:
                if fill not in self.kinds:
                    raise DefinitionError(f"steps.{i}.fills", f"unknown quantity or column '{fill}'")
            if step.timer:
                for key, amount in (("every", step.timer.every), ("for", step.timer.lasting)):
                    if amount is not None:
                        self._seconds(amount, f"steps.{i}.timer.{key}")

    def _laps(self) -> dict[int, Compiled]:
        """By step, how many laps its timer counts."""
        found = {}
        for i, step in enumerate(self.definition.steps):
            if step.timer is not None and step.timer.kind == "laps":
                _, kind, run = self.formula(step.timer.laps, None, f"steps.{i}.timer.laps", PLAIN)
                if kind.series:
                    raise DefinitionError(f"steps.{i}.timer.laps", "this runs over rows; a timer counts one number")
                found[i] = run
        return found

    def _range(self, name: str) -> Compiled:
        """The comparison that says whether a result is plausible."""
        body = self.definition.results[name]
        _, kind, run = self.formula(body.range or "", None, f"results.{name}.range", truth=True)
        if kind.series:
            raise DefinitionError(f"results.{name}.range", "this runs over rows; a result has one value")
        return run

    def _seconds(self, amount: str, place: str) -> None:
        try:
            value, unit = units.quantity(amount)
        except CavrelError as fault:
            raise DefinitionError(place, fault.what) from fault
        if unit.dimension != units.unit("s").dimension or not 1 <= value <= 1e6:
            raise DefinitionError(place, f"'{amount}' is no time of at least a second, such as '10 s' or '5 min'")

    # --- names -------------------------------------------------------------------------------------------------------

    def key(self, node: Name | Member, series: str | None, local: Mapping[str, str]) -> str:
        """The key a name stands for: a ``local`` name first, then a column of ``series``, then the run's names."""
        if isinstance(node, Member):
            return f"{node.owner}.{node.name}"
        if node.name in local:
            return local[node.name]
        if series and node.name in self.definition.series[series].columns:
            return f"{series}.{node.name}"
        return node.name

    def scope(self, series: str | None, place: str, local: Mapping[str, str]) -> Scope:
        def find(node: Name | Member) -> Kind:
            key = self.key(node, series, local)
            self.uses.setdefault(self.open[-1] if self.open else "", set()).add(key)
            self.need(key, node, place)
            return self.kinds[key]

        return find

    def need(self, key: str, node: Name | Member | None, place: str) -> None:
        """Compile what ``key`` names, unless that is done; raises for an unknown name or a circle."""
        owner, _, member = key.partition(".")
        definition = self.definition
        if owner in definition.fits and node is not None and not member:
            raise DefinitionError(
                place, f"'{owner}' is a fit; write {owner}.{parameter_names(definition.fits[owner])[0]}"
            )
        if key in self.kinds:
            return
        work: Callable[[], None] | None = None
        whole = owner if owner in definition.fits else key
        if whole in self.open:
            circle = " -> ".join([*self.open[self.open.index(whole) :], whole])
            raise DefinitionError(place, f"the formulas go in a circle: {circle}")
        if owner in definition.fits:
            names = parameter_names(definition.fits[owner])
            if member and member not in names:
                raise DefinitionError(place, f"the fit '{owner}' has no '{member}'; it has {', '.join(names)}")
            work = partial(self.fit, owner)
        elif member and owner in definition.series and member in definition.series[owner].columns:
            work = partial(self.column, owner, member)
        elif member == "dead_time" and owner in self.gauges:
            self.kinds[key] = Kind(units.unit("s").dimension)
            self.constants[key] = self.gauges[owner].dead_time
            return
        elif not member and key in definition.quantities:
            work = partial(self.quantity, key)
        elif not member and key in definition.results:
            work = partial(self.result, key)
        elif not member and key in definition.predict:
            work = partial(self.prediction, key)
        elif not member and key in self.accepted:
            self.kinds[key] = Kind(units.unit(self.accepted[key].unit).dimension)
            self.unit_texts[key] = self.accepted[key].unit
            self.used_accepted.append(key)
            return
        if work is None:
            raise DefinitionError(place, f"unknown name '{key}'")
        self.open.append(whole)
        work()
        self.open.pop()

    # --- parts -------------------------------------------------------------------------------------------------------

    def formula(
        self,
        text: str,
        series: str | None,
        place: str,
        wanted: Dimension | None = None,
        truth: bool = False,
        local: Mapping[str, str] = _NO_NAMES,
        measured: bool = True,
    ) -> tuple[Node, Kind, Compiled]:
        """Parse, type and compile one formula; ``wanted`` is the dimension it must have. ``measured``: it gives a value with an uncertainty, so
        that a mean over rows counts how they scatter."""
        try:
            node = parse(text)
            scope = self.scope(series, place, local)
            kind = infer(node, scope)
            if truth != (kind.dimension is None):
                raise FormulaError(
                    "", "this must be a comparison" if truth else "this must be a number, not a comparison"
                )
            if wanted is not None and kind.dimension != wanted:
                assert kind.dimension is not None
                raise FormulaError("", f"'{text}' is in {kind.dimension.words()}, where {wanted.words()} is wanted")
        except DefinitionError:
            raise
        except CavrelError as fault:
            raise DefinitionError(place, fault.what) from fault
        run = self.compiled(
            self._with_means(node, scope, series, local) if measured and not truth else node, series, local
        )
        return node, kind, run

    def compiled(self, node: Node, series: str | None, local: Mapping[str, str]) -> Compiled:
        """The closures of a tree whose names are all known."""

        def rows_of(part: Node) -> str | None:
            for inner in walk(part):
                if isinstance(inner, Name | Member) and self.kinds[self.key(inner, series, local)].series:
                    return self.kinds[self.key(inner, series, local)].series
            return None

        for part in walk(node):
            if isinstance(part, Call) and part.function in ("first", "last") and (owner := rows_of(part)):
                self.edges.add(owner)
        return compile_node(node, lambda n: self.key(n, series, local), rows_of)

    def _with_means(self, node: Node, scope: Scope, series: str | None, local: Mapping[str, str]) -> Node:
        """``node`` with every mean over rows taken by a fit of its own, whose uncertainty counts the rows' scatter."""
        meaning: dict[Node, Node] = {}
        for part in walk(node):
            if not isinstance(part, Call) or part.function != "mean" or part in meaning:
                continue
            argument = part.arguments[0]
            if any(isinstance(inner, Name) and inner.name in local for inner in walk(argument)):
                continue
            kind = infer(argument, scope)
            if kind.series in self.definition.series:
                meaning[part] = self._mean(argument, kind, series)
        return substitute(node, meaning) if meaning else node

    def _mean(self, argument: Node, kind: Kind, series: str | None) -> Member:
        """The step that takes the mean of ``argument`` over its rows; one step for all formulas that take it."""
        assert kind.series is not None and kind.dimension is not None
        columns = self.definition.series[kind.series].columns
        plain: dict[Node, Node] = {}
        if series == kind.series:
            plain = {Name(c): Member(kind.series, c) for c in columns}
        said = substitute(argument, plain)
        name = f"mean({unparse(said)})"
        if f"{name}.mean" not in self.kinds:
            self.kinds[f"{name}.mean"] = Kind(kind.dimension, None, kind.scale)
            label = columns[said.name].label if isinstance(said, Member) and said.name in columns else unparse(argument)
            unit = units.unit(kind.dimension.named())
            run = self.compiled(argument, series, _NO_NAMES)
            self.steps.append(
                FitStep(
                    name,
                    kind.series,
                    "mean",
                    None,
                    argument,
                    None,
                    run,
                    units.unit(""),
                    unit,
                    {"mean": unit},
                    built_in("mean"),
                    None,
                    {},
                    None,
                    None,
                    False,
                    plain=True,
                    label=f"the mean of {label[0].lower()}{label[1:]}",
                )
            )
        return Member(name, "mean")

    def unit(self, text: str | None, place: str) -> Unit:
        try:
            return units.unit(text or "")
        except CavrelError as fault:
            raise DefinitionError(f"{place}.unit", fault.what) from fault

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
        if default:
            try:
                read(default, unit.text, body.difference)
            except ReadingError as fault:
                raise DefinitionError(f"{place}.default", fault.what) from fault
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
                key,
                name,
                series,
                body.label,
                unit,
                role,
                gauge,
                body.exact,
                body.count,
                body.repeats,
                body.optional,
                default,
                plausible,
                self.timers.get(key),
                body.extract if isinstance(body, Column) else None,
                body.whole,
                body.difference,
            )
        )

    def _gauge_fits(self, gauge: Gauge, unit: Unit, place: str) -> None:
        body = self.definition.instruments[gauge.name]
        for field in ("least_count", "reaction", "placement", "zero", "full_scale"):
            text = getattr(body, field)
            if text and units.quantity(text)[1].dimension != unit.dimension:
                raise DefinitionError(
                    f"{place}.instrument",
                    f"'{gauge.name}' gives its {field} as {text}, which cannot read {unit.text or 'plain numbers'}",
                )

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
            if same and parameter in ("intercept", "mean", "value", "c"):
                parameters[parameter] = y_unit  # a place on the scale of y
        self.steps.append(
            FitStep(
                name,
                body.series,
                body.model,
                x,
                y,
                run_x,
                run_y,
                x_unit,
                y_unit,
                parameters,
                shape,
                curve,
                free,
                at,
                body.points,
                body.origin,
                slopes,
                label=body.label or "the line",
            )
        )

    def written(self, node: Node, series: str) -> Written | None:
        """The unit of a formula of a series in the units of its columns and quantities."""

        def unit_of(name: Name | Member) -> str | None:
            return self.unit_texts.get(self.key(name, series, _NO_NAMES))

        return written(node, unit_of)

    def axis_unit(self, node: Node | None, found: Written | None, dimension: Dimension, series: str) -> Unit:
        """The unit that an axis is drawn in: the column's own where it is one column, else as the formula is written."""
        if isinstance(node, Name | Member):
            own = self.shown_units.get(self.key(node, series, _NO_NAMES))
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
                kind = infer(node, self.scope(None, f"{place}.free.{parameter}", _NO_NAMES))
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

    def prediction(self, name: str) -> None:
        body, place = self.definition.predict[name], f"predict.{name}"
        if body.fit not in self.definition.fits:
            raise DefinitionError(f"{place}.fit", f"unknown fit '{body.fit}'")
        self.uses.setdefault(name, set()).add(body.fit)
        self.need(body.fit, None, f"fits.{body.fit}")
        step = next(s for s in self.steps if isinstance(s, FitStep) and s.name == body.fit)
        if step.shape is None or step.x is None:
            raise DefinitionError(
                f"{place}.fit", f"nothing can be read from a fit of model '{step.model}' at another x"
            )
        kind, at = self.formula(body.at, None, f"{place}.at", step.x_unit.dimension)[1:]
        if kind.series:
            raise DefinitionError(f"{place}.at", "a prediction is for one x")
        unit = self.unit(body.unit if body.unit is not None else step.y_unit.text, place)
        if unit.dimension != step.y_unit.dimension:
            raise DefinitionError(
                f"{place}.unit", f"the fit gives {step.y_unit.text or 'plain numbers'}, not {unit.text}"
            )
        self.kinds[name] = Kind(unit.dimension)
        self.steps.append(PredictStep(name, body.fit, unit, at))

    def result(self, name: str) -> None:
        body, place = self.definition.results[name], f"results.{name}"
        wanted = self.unit(body.unit, place).dimension if body.unit is not None else None
        if body.combine:
            dimension, run = self._combined(body.combine, wanted, place), None
            kind = Kind(dimension)
        else:
            assert body.formula is not None
            _, kind, run = self.formula(body.formula, None, f"{place}.formula", wanted)
            if kind.series:
                raise DefinitionError(
                    f"{place}.formula", f"this runs over the rows of '{kind.series}'; fold them with mean() or a fit"
                )
            assert kind.dimension is not None
            dimension = kind.dimension
        unit = self._shown(body, kind, place)
        self.unit_texts[name] = unit.text
        self.kinds[name] = Kind(dimension, None, "point" if unit.offset else kind.scale)
        accepted_name, accepted_run = None, None
        if body.accepted is not None:
            if body.accepted in self.accepted and not self._own(body.accepted):
                accepted_name = body.accepted
                if units.unit(self.accepted[body.accepted].unit).dimension != dimension:
                    raise DefinitionError(
                        f"{place}.accepted",
                        f"'{body.accepted}' is in {self.accepted[body.accepted].unit}, not in {unit.text or 'plain numbers'}",
                    )
            else:
                self.open.append(f"{name}#accepted")
                accepted_run = self.formula(body.accepted, None, f"{place}.accepted", dimension)[2]
                self.open.pop()
        self.steps.append(ResultStep(name, unit, run, body.combine, accepted_name, accepted_run))

    def _combined(self, names: tuple[str, ...], wanted: Dimension | None, place: str) -> Dimension:
        dimension = wanted
        for other in names:
            if other not in self.definition.results:
                raise DefinitionError(f"{place}.combine", f"unknown result '{other}'")
            self.uses.setdefault(self.open[-1], set()).add(other)
            self.need(other, Name(other), f"{place}.combine")
            own = self.kinds[other].dimension
            assert own is not None
            if dimension is not None and own != dimension:
                raise DefinitionError(
                    f"{place}.combine", f"'{other}' is in {own.words()}, where {dimension.words()} is wanted"
                )
            dimension = own
        assert dimension is not None
        return dimension

    def _check(self, index: int) -> CheckStep:
        check = self.definition.checks[index]
        place = f"checks.{index}"
        self.open.append(f"check#{index}")
        _, kind, run = self.formula(check.rule, None, f"{place}.rule", truth=True)
        self.open.pop()
        if kind.series:
            raise DefinitionError(f"{place}.rule", "this is true or false row by row; say all(...) or any(...)")
        return CheckStep(run, index)

    def _picture(self, name: str) -> PictureStep:
        body, place = self.definition.pictures[name], f"pictures.{name}"
        if body.series is not None and body.series not in self.definition.series:
            raise DefinitionError(f"{place}.series", f"unknown series '{body.series}'")
        metre, newton = units.unit("m").dimension, units.unit("N").dimension

        def run(text: str, key: str, wanted: Dimension) -> Compiled:
            _, kind, compiled = self.formula(text, body.series, f"{place}.{key}", wanted, measured=False)
            if kind.series not in (None, body.series):
                raise DefinitionError(f"{place}.{key}", f"this runs over the rows of '{kind.series}'")
            return compiled

        forces = tuple(
            (run(f.at, f"forces.{i}.at", metre), run(f.force, f"forces.{i}.force", newton))
            for i, f in enumerate(body.forces)
        )
        return PictureStep(name, body.series, run(body.pivot, "pivot", metre), forces)

    def _suggestion(self, index: int) -> tuple[Compiled, Unit]:
        suggest = self.definition.suggest[index]
        owner, _, member = suggest.target.partition(".")
        if owner not in self.definition.series or member not in self.definition.series[owner].columns:
            raise DefinitionError(f"suggest.{index}.for", f"unknown column '{suggest.target}'")
        unit = self.unit(self.definition.series[owner].columns[member].unit, f"series.{owner}.columns.{member}")
        run = self.formula(suggest.formula, None, f"suggest.{index}.formula", unit.dimension, measured=False)[2]
        return run, unit


def parameter_names(body: Fit) -> tuple[str, ...]:
    """The names a fit's parameters have in formulas."""
    if body.model == "formula":
        return tuple(body.free)
    if body.model == "tangent":
        return ("slope", "value")
    return built_in(body.model, body.offset).names
