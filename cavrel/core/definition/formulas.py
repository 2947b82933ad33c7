"""Compiling formulas: what a name stands for, what a formula's dimension is, and the function it becomes."""

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from functools import partial

from cavrel.core.definition import Definition, Fit
from cavrel.core.definition.instrument import read_instrument
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.definition.steps import (
    FitStep,
    Input,
    Step,
)
from cavrel.core.errors import CavrelError, DefinitionError, FormulaError
from cavrel.core.fit.models import built_in
from cavrel.core.formula.dimension import Kind, Scope, infer
from cavrel.core.formula.evaluate import Compiled, compile_node
from cavrel.core.formula.nodes import Call, Member, Name, Node, substitute, walk
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import unparse
from cavrel.core.quantity import units
from cavrel.core.quantity.dimension import PLAIN, Dimension
from cavrel.core.quantity.units import Unit
from cavrel.core.words import within

NO_NAMES: Mapping[str, str] = {}


class Formulas(ABC):
    """Holds the names of one definition while its parts are compiled on demand, depth first; what each part is compiled to is for those who
    know it."""

    def __init__(self, definition: Definition, accepted: Mapping[str, ReferenceValue]) -> None:
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
        self.gauges = {name: read_instrument(name, body) for name, body in definition.instruments.items()}
        self.timers = {
            fill: step.timer
            for step in definition.steps
            if step.timer and step.timer.kind == "laps"
            for fill in step.fills
        }

    @abstractmethod
    def quantity(self, name: str) -> None:
        """Compile a quantity of the run."""

    @abstractmethod
    def column(self, series: str, name: str) -> None:
        """Compile a column of a series."""

    @abstractmethod
    def fit(self, name: str) -> None:
        """Compile a fit."""

    @abstractmethod
    def result(self, name: str) -> None:
        """Compile a result."""

    @abstractmethod
    def prediction(self, name: str) -> None:
        """Compile a prediction."""

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
            raise DefinitionError(place, f"the formulas refer to each other in a circle: {circle}")
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
        local: Mapping[str, str] = NO_NAMES,
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
                raise FormulaError("", f"'{text}' is in {kind.dimension.words()}, where {wanted.words()} is needed")
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
            run = self.compiled(argument, series, NO_NAMES)
            self.steps.append(
                FitStep(
                    name=name,
                    series=kind.series,
                    model="mean",
                    x=None,
                    y=argument,
                    run_x=None,
                    run_y=run,
                    x_unit=units.unit(""),
                    y_unit=unit,
                    parameters={"mean": unit},
                    shape=built_in("mean"),
                    curve=None,
                    free={},
                    at=None,
                    points=None,
                    origin=False,
                    plain=True,
                    label=f"the mean of {within(label)}",
                )
            )
        return Member(name, "mean")

    def unit(self, text: str | None, place: str) -> Unit:
        try:
            return units.unit(text or "")
        except CavrelError as fault:
            raise DefinitionError(f"{place}.unit", fault.what) from fault


def parameter_names(body: Fit) -> tuple[str, ...]:
    """The names a fit's parameters have in formulas."""
    if body.model == "formula":
        return tuple(body.free)
    if body.model == "tangent":
        return ("slope", "value")
    return built_in(body.model, body.offset).names
