"""A run from the stand-in apparatus: true values from the definition, read with the errors that its instruments declare.

What acts on all readings of an instrument together (its zero, its calibration, printed limits) is drawn once for the run; placing,
reaction and noise are drawn for each reading; the last digit is rounded as a person would read it.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.formula.evaluate import Environment, compile_node
from cavrel.core.formula.nodes import Member, Name, Node
from cavrel.core.formula.parse import parse
from cavrel.core.gauge import Gauge
from cavrel.core.program import Input, Program
from cavrel.core.reading import decimals_of

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class _Errors:
    """An instrument's errors in one run: readings are value·(1 + share) + offset."""

    share: float
    offset: float


def simulate(program: Program, seed: int) -> dict[str, object]:
    """A run document for ``program``, always the same for one ``seed``. Raises DefinitionError where the definition cannot be simulated."""
    return _Apparatus(program, np.random.default_rng(seed)).document()


class _Apparatus:
    def __init__(self, program: Program, draw: np.random.Generator) -> None:
        definition = program.definition
        if definition.simulate is None:
            raise DefinitionError("simulate", "this experiment has no stand-in")
        self.program, self.draw, self.plan = program, draw, definition.simulate
        self.errors = {name: self.of_gauge(gauge) for name, gauge in program.gauges.items()}
        self.true: dict[str, Array] = {"pi": np.array([[math.pi]])}
        for name, accepted in program.accepted.items():
            self.true[name] = np.array([[accepted.value]])
        for name, text in self.plan.truth.items():
            self.true[name] = self.value(text, None, f"simulate.truth.{name}")

    def of_gauge(self, gauge: Gauge) -> _Errors:
        share = self.draw.normal(0, gauge.calibration or 0.0) + self.draw.uniform(-1, 1) * (gauge.share or 0.0)
        offset = self.draw.normal(0, gauge.zero or 0.0) + self.draw.uniform(-1, 1) * (gauge.offset or 0.0)
        return _Errors(float(share), float(offset))

    def value(self, text: str, series: str | None, place: str) -> Array:
        def key(node: Name | Member) -> str:
            name = f"{node.owner}.{node.name}" if isinstance(node, Member) else node.name
            full = f"{series}.{name}" if series and f"{series}.{name}" in self.true else name
            if full not in self.true:
                raise DefinitionError(place, f"'{name}' has no true value")
            return full

        def no_rows(part: Node) -> None:
            return None

        try:
            return compile_node(parse(text), key, no_rows)(Environment(self.true, {}))
        except DefinitionError:
            raise
        except CavrelError as fault:
            raise DefinitionError(place, fault.what) from fault

    def document(self) -> dict[str, object]:
        quantities: dict[str, object] = {}
        series: dict[str, dict[str, list[object]]] = {}
        for spec in self.program.inputs:
            if spec.series is None:
                cells = self.read(spec, 1)
                if cells is not None:
                    quantities[spec.name] = cells[0]
        for name, body in self.program.definition.series.items():
            series[name] = {}
            for column in (c for c, b in body.columns.items() if b.role == "set"):
                spec = self.program.input_of[f"{name}.{column}"]
                series[name][column] = self.settings(spec)
            for column in (c for c, b in body.columns.items() if b.role == "measured"):
                spec = self.program.input_of[f"{name}.{column}"]
                rows = max([len(cells) for cells in series[name].values()] or [body.rows])
                cells = self.read(spec, rows)
                if cells is None:
                    raise DefinitionError(f"simulate.read.{spec.key}", "is missing: what does this column read?")
                series[name][column] = cells
        return {
            "format": "cavrel-run/1",
            "experiment": self.program.definition.id,
            "quantities": quantities,
            "series": series,
        }

    def settings(self, spec: Input) -> list[object]:
        """Settings of a set column as typed; the true ones differ by what the instrument errs."""
        if spec.key in self.plan.set:
            wanted = self.value(self.plan.set[spec.key], None, f"simulate.set.{spec.key}")[0]
        elif spec.key in self.program.suggestions:
            wanted = self.program.suggestions[spec.key][0](Environment(self.true, {}))[0]
        else:
            raise DefinitionError(f"simulate.set.{spec.key}", "is missing: which settings?")
        texts = [self.written(spec, float(v)) for v in wanted]
        typed = np.array([spec.unit.to_si(float(t)) for t in texts])
        errors = self.errors[spec.gauge.name] if spec.gauge and not spec.exact else _Errors(0.0, 0.0)
        true = (typed - errors.offset) / (1 + errors.share)
        if spec.gauge and not spec.exact:
            true = true + self.own(spec, len(typed)) + self.rounding(spec, len(typed))
        self.true[spec.key] = true[None, :]
        return list(texts)

    def read(self, spec: Input, rows: int) -> list[object] | None:
        """What is read of one input, a cell for each row; None where nothing is to be read."""
        place = f"simulate.read.{spec.key}"
        if spec.key in self.plan.read:
            true = np.broadcast_to(self.value(self.plan.read[spec.key], spec.series, place), (1, rows))[0]
        elif spec.series is None and spec.name in self.plan.truth:
            true = self.true[spec.name][0]
        elif spec.series is None and spec.default is not None:
            self.true[spec.name] = np.array([[spec.unit.to_si(float(spec.default))]])
            return None
        else:
            return None
        self.true[spec.key] = np.array(true)[None, :]
        if spec.count:
            counts = [[str(n) for n in self.draw.poisson(max(v, 0.0), spec.repeats).tolist()] for v in true.tolist()]
            return [texts if spec.repeats > 1 else texts[0] for texts in counts]
        errors = self.errors[spec.gauge.name] if spec.gauge and not spec.exact else _Errors(0.0, 0.0)
        cells: list[object] = []
        for v in true.tolist():
            noise = self.own(spec, spec.repeats) if not spec.exact else np.zeros(spec.repeats)
            seen = v * (1 + errors.share) + errors.offset + noise
            texts = [self.written(spec, s) for s in seen.tolist()]
            cells.append(texts if spec.repeats > 1 else texts[0])
        return cells

    def own(self, spec: Input, many: int) -> Array:
        """Errors of single readings, SI."""
        size = 0.0
        if spec.gauge is not None:
            size = math.hypot(spec.gauge.reaction or 0.0, spec.gauge.placement or 0.0)
        extra = self.plan.noise.get(spec.key)
        if extra is not None:
            size = math.hypot(size, float(self.value(extra, None, f"simulate.noise.{spec.key}")[0, 0]))
        return self.draw.normal(0.0, size, many) if size else np.zeros(many)

    def rounding(self, spec: Input, many: int) -> Array:
        """How far a setting may lie from the mark it is set to."""
        step = spec.gauge.least_count if spec.gauge else None
        return self.draw.uniform(-step / 2, step / 2, many) if step else np.zeros(many)

    def written(self, spec: Input, value: float) -> str:
        """A value as its instrument shows it."""
        shown = spec.unit.from_si(value)
        step = spec.gauge.least_count if spec.gauge else None
        if step is None or spec.exact:
            return f"{shown:.12g}" if spec.exact else f"{shown:.6g}"
        count = (
            round(shown * spec.unit.factor / step) if not spec.unit.offset else round(shown / (step / spec.unit.factor))
        )
        return f"{count * step / spec.unit.factor:.{decimals_of(step, spec.unit)}f}"


def truth(program: Program) -> Mapping[str, float]:
    """True values of the definition's results, where its stand-in states them by the result's own name."""
    plan = program.definition.simulate
    if plan is None:
        return {}
    apparatus = _Apparatus(program, np.random.default_rng(0))
    return {name: float(apparatus.true[name][0, 0]) for name in program.definition.results if name in plan.truth}
