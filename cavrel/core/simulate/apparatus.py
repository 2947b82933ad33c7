"""A run from the simulated apparatus: true values from the definition, read with the errors that its instruments declare; long
because what is set, read, counted and spoilt is drawn in one order.

What acts on all readings of an instrument together (its zero, its calibration, printed limits) is drawn once for the run; placing,
reaction and noise are drawn for each reading; the last digit is rounded as a person would read it.
"""

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.definition.steps import Input, Program
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.formula.evaluate import Environment, compile_node
from cavrel.core.formula.nodes import Member, Name, Node
from cavrel.core.formula.parse import parse
from cavrel.core.quantity.reading import read
from cavrel.core.simulate.draws import of_its_own
from cavrel.core.simulate.settable import resized, step_of
from cavrel.core.simulate.shown import written

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class _Errors:
    """An instrument's errors in one run: readings are value·(1 + share) + offset."""

    share: float
    offset: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Planned:
    """What is decided before the first reading.

    ``settings``: ``series.column`` -> texts to be set, one a row.
    ``quantities``: name -> text, of quantities that a bench sets.
    ``trials``: ``series.column``, or a quantity's name -> trials.
    ``rows``: series -> rows, where no settings say so.
    ``without``: optional series that are not done.
    ``zeroed``: instruments whose zero is read.
    """

    settings: Mapping[str, Sequence[str]] = field(default_factory=dict)
    quantities: Mapping[str, str] = field(default_factory=dict)
    trials: Mapping[str, int] = field(default_factory=dict)
    rows: Mapping[str, int] = field(default_factory=dict)
    without: frozenset[str] = frozenset()
    zeroed: frozenset[str] = frozenset()


def simulate(
    program: Program,
    seed: int,
    faults: Collection[str] = (),
    options: Mapping[str, str] | None = None,
    planned: Planned | None = None,
    hidden: bool = False,
) -> dict[str, object]:
    """A run document for ``program``, always the same for one ``seed``; ``faults`` name what goes wrong in it; ``options`` are the
    conventions that ``program`` was compiled with; ``planned``: settings and trials other than the definition's; ``hidden``: the truths are
    the seed's own, as far as the definition lets them vary.

    Raises DefinitionError where the definition cannot be simulated or has no such fault.
    """
    # What a formula makes of its truths may be infinite, and is refused as a reading then.
    with np.errstate(all="ignore"):
        document = Apparatus(program, np.random.default_rng(seed), faults, planned, seed if hidden else None).document()
    return {**document, "options": dict(options)} if options else document


_MOST = 1e15
"""The largest reading of a simulation, in SI units: a number far beyond any bench, within what a count can be drawn for."""


class Apparatus:
    """Draws one run."""

    def __init__(
        self,
        program: Program,
        draw: np.random.Generator,
        faults: Collection[str] = (),
        planned: Planned | None = None,
        hidden: int | None = None,
    ) -> None:
        definition = program.definition
        if definition.simulate is None:
            raise DefinitionError("simulate", "this experiment has no simulation")
        self.program, self.draw, self.plan = program, draw, definition.simulate
        self.planned = planned or Planned()
        self.reads, self.once, self.in_row = dict(self.plan.read), dict[str, str](), dict[str, str]()
        for name in faults:
            if name not in self.plan.faults:
                known = ", ".join(self.plan.faults) or "none"
                raise DefinitionError(f"simulate.faults.{name}", f"the simulation has no such fault; it has {known}")
            self.reads.update(self.plan.faults[name].read)
            self.once.update(self.plan.faults[name].once)
            self.in_row.update(self.plan.faults[name].row)
        self.errors = {name: self.of_gauge(gauge) for name, gauge in program.gauges.items()}
        self.true: dict[str, Array] = {"pi": np.array([[math.pi]])}
        for name, accepted in program.accepted.items():
            # What a formula takes from a table is itself uncertain: the world's own value lies somewhere about it.
            self.true[name] = np.array([[accepted.value + self.draw.normal(0.0, accepted.u)]])
        for name, text in self.plan.truth.items():
            self.true[name] = self.value(text, None, f"simulate.truth.{name}")
            if hidden is not None and name in self.plan.hidden:
                share = self.spread(self.plan.hidden[name], f"simulate.hidden.{name}")
                self.true[name] = self.true[name] * (1 + share * of_its_own(hidden, name).uniform(-1, 1))
            if name in self.planned.quantities and name in program.input_of:
                self.true[name] = self.typed(program.input_of[name])

    def of_gauge(self, gauge: MeasuringInstrument) -> _Errors:
        if gauge.each:
            return _Errors(
                float(self.draw.normal(0, gauge.calibration or 0.0)), float(self.draw.normal(0, gauge.zero or 0.0))
            )
        limit = self.draw.uniform(-1, 1)  # of what makers print, share and digits are one
        share = self.draw.normal(0, gauge.calibration or 0.0) + limit * (gauge.share or 0.0)
        offset = self.draw.normal(0, gauge.zero or 0.0) + limit * (gauge.offset or 0.0)
        return _Errors(float(share), float(offset))

    def value(self, text: str, series: str | None, place: str) -> Array:
        def key(node: Name | Member) -> str:
            name = f"{node.owner}.{node.name}" if isinstance(node, Member) else node.name
            full = f"{series}.{name}" if series and f"{series}.{name}" in self.true else name
            if full not in self.true and series and (formula := self.derived(series, name)):
                full = f"{series}.{name}"
                self.true[full] = self.value(formula, series, place)
                made.append(full)
            if full not in self.true:
                raise DefinitionError(place, f"'{name}' has no true value")
            return full

        def no_rows(part: Node) -> None:
            return None

        made: list[str] = []
        try:
            return compile_node(parse(text), key, no_rows)(Environment(self.true, {}))
        except DefinitionError:
            raise
        except CavrelError as fault:
            raise DefinitionError(place, fault.what) from fault
        finally:
            for full in made:  # what it follows from may be read anew
                del self.true[full]

    def derived(self, series: str, name: str) -> str | None:
        """The formula of a computed column, None for any other name."""
        column = self.program.definition.series[series].columns.get(name)
        return column.formula if column is not None else None

    def typed(self, spec: Input) -> Array:
        """The value of a quantity that the plan sets. Raises DefinitionError."""
        try:
            value = read(self.planned.quantities[spec.name], spec.unit.text, spec.difference).value
        except CavrelError as fault:
            raise DefinitionError(f"plan.quantities.{spec.name}", fault.what) from fault
        return np.array([[value]])

    def repeats(self, spec: Input) -> int:
        """How many trials of a reading are taken."""
        return self.planned.trials.get(spec.key, spec.repeats)

    def document(self) -> dict[str, object]:
        quantities: dict[str, object] = {}
        series: dict[str, dict[str, list[object]]] = {}
        for spec in self.program.inputs:
            if spec.series is None:
                cells = self.read(spec, 1)
                if cells is not None:
                    quantities[spec.name] = cells[0]
        for name, body in self.program.definition.series.items():
            if name in self.planned.without:
                continue
            series[name] = {}
            chosen = [self.program.input_of[f"{name}.{c}"] for c, b in body.columns.items() if b.column_role.chosen]
            # Rows are set in all of their columns: as many as the shortest planned one, and the others follow.
            planned = [len(self.planned.settings[s.key]) for s in chosen if s.key in self.planned.settings]
            for spec in chosen:
                rows_planned = min(planned, default=self.planned.rows.get(name))
                series[name][spec.name] = self.settings(spec, rows_planned, len(chosen) == 1)
            for column in (c for c, b in body.columns.items() if b.column_role.wanted):
                spec = self.program.input_of[f"{name}.{column}"]
                wanted = self.planned.rows.get(name, body.rows)
                rows = max([len(cells) for cells in series[name].values()] or [wanted])
                cells = self.read(spec, rows)
                if cells is None:
                    raise DefinitionError(f"simulate.read.{spec.key}", "is missing: what does this column read?")
                series[name][column] = cells
        zeros = dict.fromkeys(sorted(self.planned.zeroed & self.program.gauges.keys()), "0")
        return {
            "format": "cavrel-run/1",
            "experiment": self.program.definition.id,
            **({"zeros": zeros} if zeros else {}),
            "on_screen": True,
            "quantities": quantities,
            "series": series,
        }

    def settings(self, spec: Input, rows: int | None, alone: bool) -> list[object]:
        """Settings of a set column as typed, as many as ``rows`` where that is planned; the true ones differ by what the instrument errs."""
        if spec.key in self.planned.settings:
            texts = list(self.planned.settings[spec.key])[:rows]
            try:
                wanted = np.array([read(text, spec.unit.text, spec.difference).value for text in texts])
            except CavrelError as fault:
                raise DefinitionError(f"plan.settings.{spec.key}", fault.what) from fault
            return self.set_to(spec, texts, wanted)
        if spec.key in self.plan.set:
            wanted = self.value(self.plan.set[spec.key], None, f"simulate.set.{spec.key}")[0]
        elif spec.key in self.program.suggestions:
            wanted = self.program.suggestions[spec.key][0](Environment(self.true, {}))[0]
        else:
            raise DefinitionError(f"simulate.set.{spec.key}", "is missing: which settings?")
        if not np.isfinite(wanted).all():
            raise DefinitionError(f"simulate.set.{spec.key}", "comes to no number that could be set")
        if rows is not None and rows != len(wanted):
            wanted = resized(spec, wanted, rows, step_of(spec, self.true), alone)
        texts = [self.written(spec, float(v)) for v in wanted]
        return self.set_to(spec, texts, np.array([read(t, spec.unit.text, spec.difference).value for t in texts]))

    def set_to(self, spec: Input, texts: list[str], typed: Array) -> list[object]:
        """Settings of a set column: what is typed ``(rows,)`` SI, and how far the true ones lie from it."""
        errors = self.errors[spec.gauge.name] if spec.gauge and not spec.exact else _Errors(0.0, 0.0)
        zero = spec.unit.offset  # of 20 °C a percent is 0.2 °C
        true = (typed - errors.offset + errors.share * zero) / (1 + errors.share)
        if spec.gauge and not spec.exact:
            true = true + self.placing(spec, len(typed)) + self.rounding(spec, len(typed)) - self.each(spec, typed)
        self.true[spec.key] = true[None, :]
        return list(texts)

    def read(self, spec: Input, rows: int) -> list[object] | None:
        """What is read of one input, a cell for each row; None where nothing is to be read."""
        place = f"simulate.read.{spec.key}"
        self.true["row"] = np.arange(1.0, rows + 1)[None, :] if spec.series else np.array([[1.0]])
        if spec.series is None and spec.name in self.planned.quantities and spec.name not in self.plan.truth:
            self.true[spec.name] = self.typed(spec)
            return [self.planned.quantities[spec.name]]
        if spec.key in self.reads:
            true = np.broadcast_to(self.value(self.reads[spec.key], spec.series, place), (1, rows))[0]
        elif spec.series is None and spec.name in self.plan.truth:
            true = self.true[spec.name][0]
        elif spec.series is None and spec.default is not None:
            self.true[spec.name] = np.array([[read(spec.default, spec.unit.text, spec.difference).value]])
            return [spec.default]
        else:
            return None
        if spec.key in self.plan.vary:
            size = self.spread(self.plan.vary[spec.key], f"simulate.vary.{spec.key}")
            true = true + self.draw.normal(0.0, size, rows)
        self.true[spec.key] = np.array(true)[None, :]
        if spec.key in self.in_row:
            at = int(self.draw.integers(rows))
            instead = self.value(self.in_row[spec.key], spec.series, f"simulate.faults.{spec.key}")
            true = np.where(np.arange(rows) == at, np.broadcast_to(instead, (1, rows))[0], true)
        if not (np.isfinite(true).all() and float(np.abs(true).max(initial=0.0)) < _MOST):
            raise DefinitionError(place, "comes to no number that could be read; see the truths it is made of")
        self.true[spec.key] = np.array(true)[None, :]
        many = self.repeats(spec)
        if spec.count:
            counts = [[f"{n:.17g}" for n in self.counted(max(v, 0.0), many)] for v in true.tolist()]
            return [texts if many > 1 else texts[0] for texts in counts]
        errors = self.errors[spec.gauge.name] if spec.gauge and not spec.exact else _Errors(0.0, 0.0)
        cells: list[object] = []
        for v in true.tolist():
            noise = self.own(spec, many) if not spec.exact else np.zeros(many)
            seen = v + errors.share * (v - spec.unit.offset) + errors.offset + noise + self.each(spec, np.array([v]))
            texts = [self.written(spec, s) for s in seen.tolist()]
            cells.append(texts if many > 1 else texts[0])
        if spec.key in self.once:
            self.spoil(spec, cells, errors)
        return cells

    def spoil(self, spec: Input, cells: list[object], errors: _Errors) -> None:
        """One reading of a column, drawn at random, made under the fault's formula."""
        instead = self.value(self.once[spec.key], spec.series, f"simulate.faults.{spec.key}")
        row, trial = int(self.draw.integers(len(cells))), int(self.draw.integers(self.repeats(spec)))
        value = float(np.broadcast_to(instead, (1, len(cells)))[0, row])
        erred = value + errors.share * (value - spec.unit.offset) + errors.offset
        text = self.written(spec, erred + float(self.own(spec, 1)[0]))
        cell = cells[row]
        if isinstance(cell, list):
            cell[trial] = text
        else:
            cells[row] = text

    def counted(self, mean: float, many: int) -> list[float]:
        """Counts of random events."""
        return [float(n) for n in self.draw.poisson(mean, many)]

    def own(self, spec: Input, many: int) -> Array:
        """Errors of single readings, SI."""
        size = self.own_size(spec)
        return self.draw.normal(0.0, size, many) if size else np.zeros(many)

    def each(self, spec: Input, values: Array) -> Array:
        """Errors of a maker's limit that acts on each of ``values`` by itself, SI."""
        gauge = spec.gauge
        if gauge is None or not gauge.each or spec.exact:
            return np.zeros(len(values))
        limit = (gauge.share or 0.0) * np.abs(values - spec.unit.offset) + (gauge.offset or 0.0)
        return np.asarray(self.draw.uniform(-1, 1, len(values)) * limit)

    def placing(self, spec: Input, many: int) -> Array:
        """How far settings lie from what was meant, beyond the nearest mark, SI."""
        return self.own(spec, many)

    def own_size(self, spec: Input) -> float:
        """Standard deviation of single readings, SI."""
        size = 0.0
        if spec.gauge is not None:
            size = math.hypot(spec.gauge.reaction or 0.0, spec.gauge.placement or 0.0)
        extra = self.plan.noise.get(spec.key)
        if extra is not None:
            size = math.hypot(size, self.spread(extra, f"simulate.noise.{spec.key}"))
        return size

    def spread(self, text: str, place: str) -> float:
        """A standard deviation, SI. Raises DefinitionError for what is none."""
        size = float(self.value(text, None, place)[0, 0])
        if not 0 <= size < _MOST:
            raise DefinitionError(place, "is no standard deviation: it must be a positive amount")
        return size

    def rounding(self, spec: Input, many: int) -> Array:
        """How far a setting may lie from the mark it is set to."""
        step = spec.gauge.least_count if spec.gauge and not spec.gauge.dial else None
        return self.draw.uniform(-step / 2, step / 2, many) if step else np.zeros(many)

    def written(self, spec: Input, value: float) -> str:
        """A value as its instrument shows it."""
        return written(spec, value)
