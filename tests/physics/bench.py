"""A bench that knows physics from the models alone: instruments err as they declare, and the results are held against the models' truth."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.definition.instrument import MeasuringInstrument
from cavrel.core.definition.steps import Input
from cavrel.core.formula.evaluate import Environment
from cavrel.core.logbook import run as runs

Array = NDArray[np.float64]
G = 9.81
"""Free fall at every bench of the models, m/s²; exact."""


class _Still:
    """Random numbers that are all at their middle."""

    def normal(self, size: int | tuple[int, ...] | None = None) -> Array | float:
        return 0.0 if size is None else np.zeros(size)

    def uniform(self, low: float, high: float, size: int | None = None) -> Array | float:
        return (low + high) / 2 if size is None else np.full(size, (low + high) / 2)

    def poisson(self, mean: Array) -> Array:
        return np.round(mean)


class Bench:
    """One run of an experiment, read from the true values that a model computes.

    ``options``: the conventions of the run, all of them.
    ``draw``: the run's random numbers, for what a model varies by itself.
    ``quiet``: nothing errs and every digit is read, so that what is left between result and truth is the law's own.
    """

    def __init__(
        self, experiment: str, seed: int, options: Mapping[str, str] | None = None, quiet: bool = False
    ) -> None:
        self.definition = catalogue.experiments()[experiment]
        own = {name: option.default for name, option in self.definition.options.items()}
        self.options = {**own, **(options or {})}
        self.program = catalogue.program_of(self.definition, options=self.options)
        self.quiet = quiet
        self.draw: np.random.Generator = _Still() if quiet else np.random.default_rng(seed)  # type: ignore[assignment]
        self.quantities: dict[str, object] = {}
        self.series: dict[str, dict[str, list[object]]] = {}
        self.traces: dict[str, dict[str, list[object]]] = {}
        # Of all readings of an instrument together: (relative, absolute).
        self.together = {name: self._together(gauge) for name, gauge in self.program.gauges.items()}

    def _together(self, gauge: MeasuringInstrument) -> tuple[float, float]:
        relative = self.draw.normal() * (gauge.calibration or 0.0)
        absolute = self.draw.normal() * (gauge.zero or 0.0)
        if gauge.each:
            return relative, absolute
        side = self.draw.uniform(-1, 1)
        return relative + side * (gauge.share or 0.0), absolute + side * (gauge.offset or 0.0)

    def accepted(self, name: str) -> float:
        """A handbook value that the experiment takes as known: what it is in this run's world, SI."""
        value = self.program.accepted[name]
        return value.value + self.draw.normal() * value.u

    def takes(self, key: str) -> bool:
        """Whether this convention reads it."""
        return key in self.program.input_of

    def suggested(self, key: str, **known: float) -> Array:
        """The settings that Plan proposes for a column, SI; ``known``: what its formula takes."""
        values = {name: np.array([[value]]) for name, value in known.items()}
        return np.asarray(self.program.suggestions[key][0](Environment(values, {}))[0])

    def _shows(self, spec: Input, true: Array, many: int) -> Array:
        """What an instrument shows of ``true`` ``(rows,)``, ``(rows, many)``, before it is rounded."""
        wide = np.repeat(np.asarray(true, dtype=float)[:, None], many, axis=1)
        if spec.gauge is None or spec.exact:
            return wide
        relative, absolute = self.together[spec.gauge.name]
        alone = math.hypot(spec.gauge.placement or 0.0, spec.gauge.reaction or 0.0)
        seen = wide + relative * (wide - spec.unit.offset) + absolute + self.draw.normal(size=wide.shape) * alone
        if spec.gauge.each:
            limit = (spec.gauge.share or 0.0) * np.abs(true - spec.unit.offset) + (spec.gauge.offset or 0.0)
            seen = seen + (self.draw.uniform(-1, 1, len(true)) * limit)[:, None]
        return seen

    def _text(self, spec: Input, value: float) -> str:
        step = spec.gauge.least_count if spec.gauge and not spec.exact else None
        if step is None or self.quiet:
            return f"{spec.unit.from_si(value):.12g}"
        marks = round((value - spec.unit.offset) / step)
        return f"{marks * step / spec.unit.factor:.12g}"

    def set(self, key: str, wanted: Array) -> Array:
        """Set a column to ``wanted``, SI; the true values ``(rows,)``, which lie off by what its instrument errs."""
        spec = self.program.input_of[key]
        texts = [self._text(spec, value) for value in np.asarray(wanted, dtype=float)]
        table, column = key.split(".")
        self.series.setdefault(table, {})[column] = list(texts)
        typed = np.array([spec.unit.to_si(float(text)) for text in texts])
        if spec.gauge is None or spec.exact:
            return typed
        seen = self._shows(spec, typed, 1)[:, 0]
        step = spec.gauge.least_count or 0.0
        return typed - (seen - typed) + self.draw.uniform(-step / 2, step / 2, len(typed))

    def read(self, key: str, true: Array, scatter: float = 0.0) -> None:
        """Read a column where its true values are ``true`` ``(rows,)``, SI, which differ by ``scatter`` from trial to trial."""
        spec = self.program.input_of[key]
        seen = self._shows(spec, np.asarray(true, dtype=float), spec.repeats)
        seen = seen + self.draw.normal(size=seen.shape) * scatter
        table, column = key.split(".")
        rows = [[self._text(spec, value) for value in row] for row in seen]
        self.series.setdefault(table, {})[column] = [row if spec.repeats > 1 else row[0] for row in rows]

    def quantity(self, name: str, true: float, scatter: float = 0.0) -> None:
        """Read a quantity of the run."""
        spec = self.program.input_of[name]
        seen = self._shows(spec, np.array([true]), spec.repeats)[0]
        texts = [self._text(spec, value) for value in seen + self.draw.normal(size=len(seen)) * scatter]
        self.quantities[name] = texts if spec.repeats > 1 else texts[0]

    def type(self, name: str, text: str) -> None:
        """A quantity that is not read but known."""
        self.quantities[name] = text

    def trace(self, key: str, t: Array, values: Array, unit: str, begin: float, end: float) -> None:
        """Samples of a column's next row, with the stretch that counts."""
        table, column = key.split(".")
        body = {"times": t.tolist(), "values": values.tolist(), "unit": unit, "begin": begin, "end": end}
        self.traces.setdefault(table, {}).setdefault(column, []).append(body)

    def count(self, key: str, mean: Array) -> None:
        """Count random events."""
        spec = self.program.input_of[key]
        drawn = self.draw.poisson(np.repeat(np.asarray(mean)[:, None], spec.repeats, axis=1))
        texts = [[f"{n:.0f}" for n in row] for row in drawn]
        if "." not in key:
            self.quantities[key] = texts[0] if spec.repeats > 1 else texts[0][0]
            return
        table, column = key.split(".")
        self.series.setdefault(table, {})[column] = [row if spec.repeats > 1 else row[0] for row in texts]

    def document(self) -> dict[str, object]:
        return {
            "format": "cavrel-run/1",
            "experiment": self.definition.id,
            "options": self.options,
            "on_screen": True,
            "rules": {"g": G},
            "quantities": self.quantities,
            "series": self.series,
            "traces": self.traces,
        }


Model = Callable[[Bench], Mapping[str, float]]
"""Works out what is read at a bench, and gives the true values of the results, SI."""


@dataclass(frozen=True, slots=True)
class Held:
    """How one result holds against a model.

    ``runs``: how many.
    ``share``: of them whose 95 % interval holds the truth.
    ``bias``: mean of result less truth, over the mean standard uncertainty.
    ``scatter``: standard deviation of result less truth, over the mean standard uncertainty.
    ``relative``: mean standard uncertainty over the size of the truth.
    """

    experiment: str
    options: str
    result: str
    runs: int
    share: float
    bias: float
    scatter: float
    relative: float

    @property
    def good(self) -> bool:
        """Whether the intervals hold as often as they say, or oftener, and nothing pulls to one side by a third of u beyond chance."""
        chance = 2.6 / math.sqrt(self.runs)
        most = most_bias(self.experiment, self.options)
        return self.share >= 0.95 - chance * 0.218 and abs(self.bias) <= most + chance


KNOWN = {("coil-inductance", "formula=long"), ("torsion-balance", "far=left")}
"""Choices that leave out on purpose what the lesson is about; their results say so with an uncertainty that covers it."""


def most_bias(experiment: str, options: str) -> float:
    """How far a result may lie from the truth on average, in standard uncertainties."""
    return 2.0 if (experiment, options) in KNOWN else 1 / 3


def said(options: Mapping[str, str]) -> str:
    """The choices of a run in one line."""
    return " ".join(f"{name}={choice}" for name, choice in options.items())


DIFFER = {("block-density", "rho")}
"""Results that are held against something else on purpose: a block against water."""


def hold(
    experiment: str, model: Model, many: int, options: Mapping[str, str] | None = None, first: int = 0
) -> list[Held]:
    """Run ``many`` benches with the seeds from ``first`` on: each result against the model's truth, and as ``result~`` against what the page
    compares it with, which is as true."""
    rows: dict[str, list[tuple[float, float, bool]]] = {}
    sizes: dict[str, float] = {}
    for seed in range(first, first + many):
        bench = Bench(experiment, seed, options)
        truth = model(bench)
        results = analyse(bench.program, runs.load(bench.document())).results
        for name, result in results.items():
            if name in truth:
                low, high = result.interval
                rows.setdefault(name, []).append((result.value - truth[name], result.u, low <= truth[name] <= high))
                sizes[name] = abs(truth[name])
            other = result.compared
            if other is not None and not other.waits and (experiment, name) not in DIFFER:
                off = result.value - other.accepted.value
                held = abs(off) <= other.coverage_factor * other.u
                rows.setdefault(f"{name}~", []).append((off, other.u, held))
                sizes[f"{name}~"] = abs(other.accepted.value)
    found = []
    for name, kept in rows.items():
        off, u = np.array([row[0] for row in kept]), float(np.mean([row[1] for row in kept]))
        share = sum(row[2] for row in kept) / many
        relative = u / sizes[name] if sizes[name] else math.inf
        found.append(
            Held(
                experiment,
                said(options or {}),
                name,
                many,
                share,
                float(off.mean()) / u,
                float(off.std()) / u,
                relative,
            )
        )
    return found


def bias(experiment: str, model: Model, options: Mapping[str, str] | None = None) -> dict[str, float]:
    """By result: what the law alone makes it err by, over its standard uncertainty in an ordinary run; as
    ``result~`` against what the page compares it with."""
    still, usual = (Bench(experiment, 0, options, quiet) for quiet in (True, False))
    truth = model(still)
    model(usual)
    found, sized = (analyse(b.program, runs.load(b.document())).results for b in (still, usual))
    off = {name: (found[name].value - true) / sized[name].u for name, true in truth.items()}
    for name, result in found.items():
        other, usual_other = result.compared, sized[name].compared
        if other is not None and usual_other is not None and not other.waits and (experiment, name) not in DIFFER:
            off[f"{name}~"] = (result.value - other.accepted.value) / usual_other.u
    return off


def conventions(experiment: str) -> list[dict[str, str]]:
    """The default conventions of an experiment, then each other choice on its own."""
    options = catalogue.experiments()[experiment].options
    return [{}, *({name: choice} for name, one in options.items() for choice in one.choices if choice != one.default)]
