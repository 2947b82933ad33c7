"""What would make a plan better: changes a bench can make, each tried on the same engine, in its words; long because each kind of change is one."""

import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.cupboard.taken import of_task
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import Input, Program
from cavrel.core.errors import CavrelError
from cavrel.core.formula.evaluate import Environment
from cavrel.core.formula.nodes import Name, walk
from cavrel.core.formula.parse import parse
from cavrel.core.plan.forecast import DRAWN, QUICKLY, Expected, Forecast, forecast
from cavrel.core.plan.minutes import Stretch, duration, pace_of, timeline
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import read
from cavrel.core.simulate.apparatus import Planned
from cavrel.core.words import counted, plural

WORTH = 0.07
"""A change is offered that makes u smaller by at least this share of itself."""
IDLE = 0.03
"""One that makes it smaller by less than this is said not to help."""
MOST_TRIALS, MOST_ROWS = 10, 40
MOST_INSTRUMENTS = 3
FARTHEST = 1.6
"""Settings reach at most this many times as far as those that the definition suggests."""
STEPS = 6
"""Changes taken one upon the other on the way to a wanted precision."""

Overrides = Mapping[str, Mapping[str, str]]
Compile = Callable[[Overrides], Program]
"""The program with instruments other than the definition's. Raises DefinitionError."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Setup:
    """What a run is planned with.

    ``planned``: settings and trials.
    ``instruments``: the run's own over the definition's.
    """

    planned: Planned = field(default_factory=Planned)
    instruments: Overrides = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """A change that a bench can make.

    ``say``: in its words.
    ``kind``: ``count``, ``trials``, ``rows``, ``range`` or ``instrument``.
    ``setup``: the plan with it.
    """

    say: str
    kind: str
    setup: Setup


@dataclass(frozen=True, slots=True, kw_only=True)
class Improvement:
    """A change with what it brings.

    ``change``: itself.
    ``expected``: the result then.
    ``before``: the result without it.
    ``minutes``: more that it takes; negative where it takes less.
    """

    change: Change
    expected: Expected
    before: Expected
    minutes: float

    @property
    def gain(self) -> float:
        """The share of u that it takes away."""
        return 1 - self.expected.u / self.before.u if self.before.u > 0 else 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Family:
    """What can read the same.

    ``name``: of the family.
    ``reach``: the most that this instrument measures, SI.
    ``fields``: what a run says of it, where it is the laboratory's own.
    ``offered``: it is at hand.
    """

    name: str
    reach: float = math.inf
    fields: Mapping[str, str] = field(default_factory=dict)
    offered: bool = True


class Planner:
    """Tries plans of one experiment.

    ``program_of``: compiles it with other instruments.
    ``kinds``: the shared list of instruments by kind.
    ``families``: which of them can stand in for each other.
    """

    def __init__(
        self,
        program_of: Compile,
        kinds: Mapping[str, Mapping[str, Any]],
        families: Mapping[str, Family],
        rules: HouseRules | None = None,
    ) -> None:
        self.program_of, self.kinds, self.families, self.rules = program_of, kinds, families, rules
        usual = self.forecast(Setup(), drawn=1)
        self.pace = pace_of(usual.analysis)

    def forecast(self, setup: Setup, drawn: int = QUICKLY, only: str = "") -> Forecast:
        """What a plan promises; ``only``: of one result, where that is all that is asked for. Raises DefinitionError."""
        return forecast(self.program_of(setup.instruments), setup.planned, self.rules, drawn, only)

    def minutes(self, found: Forecast, setup: Setup) -> float:
        """How long a plan takes."""
        return duration(found.analysis, setup.planned, self.pace).total

    def timeline(self, found: Forecast, setup: Setup) -> tuple[Stretch, ...]:
        """How a plan goes, from setting up to the last reading."""
        return timeline(found.analysis, setup.planned, self.pace)

    def tried(self, setup: Setup, result: str, found: Forecast | None = None) -> list[Improvement]:
        """Every change that can be made, with what it brings to ``result``."""
        now = found or self.forecast(setup, only=result)
        before, lasting = now.results[result], self.minutes(now, setup)
        # Where runs are drawn, what a change brings is the ratio of two plans drawn alike; it is applied to what is promised.
        alike = now if now.drawn in (0, QUICKLY) else self.forecast(setup, only=result)
        drawn_alike = alike.results[result].u
        share = before.u / drawn_alike if drawn_alike > 0 else 1.0
        tried = []
        for change in self.changes(setup, now.analysis):
            try:
                then = self.forecast(change.setup, only=result)
            except CavrelError:
                continue  # it leads the stand-in beyond any reading
            expected = then.results[result]
            if expected.reason or not math.isfinite(expected.u):
                continue
            minutes = self.minutes(then, change.setup) - lasting
            expected = replace(expected, u=expected.u * share)
            tried.append(Improvement(change=change, expected=expected, before=before, minutes=minutes))
        return tried

    def improvements(self, setup: Setup, result: str, found: Forecast | None = None) -> tuple[list[Improvement], str]:
        """The three cheapest changes that are worth it, the most for the least time first, and what would be of no use, in a sentence."""
        tried = self.tried(setup, result, found)
        worth = [one for one in tried if one.gain >= WORTH]
        worth.sort(key=lambda one: -one.gain / (5.0 + max(one.minutes, 0.0)))
        chosen: list[Improvement] = []
        for one in worth:  # not three ways of the same change
            if all(one.change.kind != other.change.kind for other in chosen):
                chosen.append(one)
        return chosen[:3], _idle(tried)

    def reaching(self, setup: Setup, result: str, percent: float) -> tuple[Setup, Forecast, list[str]]:
        """The plan that brings ``result`` within ``percent``, by changes upon changes, as far as they go; and those changes in words."""
        found, said = self.forecast(setup, DRAWN, result), list[str]()
        for _ in range(STEPS):
            if found.results[result].percent <= percent:
                break
            worth = [one for one in self.tried(setup, result, found) if one.gain >= WORTH / 2]
            if not worth:
                break
            enough = [one for one in worth if one.expected.percent <= percent]
            best = (
                min(enough, key=lambda one: one.minutes)
                if enough
                else max(worth, key=lambda one: one.gain / (5.0 + max(one.minutes, 0.0)))
            )
            setup = best.change.setup
            found = self.forecast(setup, DRAWN, result)
            said.append(best.change.say)
        return setup, found, said

    def within(self, setup: Setup, result: str, minutes: float) -> tuple[Setup, Forecast]:
        """The plan with the least u of ``result`` among those with fewer or more trials and rows that take at most ``minutes``; the shortest
        where none does."""
        best: tuple[float, Setup, Forecast] | None = None
        shortest: tuple[float, Setup, Forecast] | None = None
        now = self.forecast(setup, only=result)
        for one in _sizes(setup, now.analysis):
            try:
                found = self.forecast(one, only=result)
            except CavrelError:
                continue
            u, lasting = found.results[result].u, self.minutes(found, one)
            if shortest is None or lasting < shortest[0]:
                shortest = lasting, one, found
            if lasting <= minutes and math.isfinite(u) and (best is None or u < best[0]):
                best = u, one, found
        chosen = best or shortest
        if chosen is None:
            return setup, now
        return chosen[1], self.forecast(chosen[1], DRAWN, result) if chosen[2].drawn else chosen[2]

    def changes(self, setup: Setup, analysis: Analysis) -> Iterator[Change]:
        """What a bench could do otherwise."""
        yield from _more_counted(setup, analysis)
        yield from _more_trials(setup, analysis)
        yield from _more_rows(setup, analysis)
        yield from _wider(setup, analysis)
        yield from self.other_instruments(setup, analysis)

    def other_instruments(self, setup: Setup, analysis: Analysis) -> Iterator[Change]:
        """Better instruments of the same family, for what is read. What the task itself costs (a mark judged past a moving flier) stays."""
        for name, gauge in analysis.program.gauges.items():
            own = analysis.program.definition.instruments[name]
            specs = [s for s in analysis.program.inputs if s.gauge is not None and s.gauge.name == name and not s.exact]
            family = self.families.get(own.kind)
            if not specs or family is None:
                continue
            largest = max(float(np.nanmax(np.abs(analysis.nominal[s.key][0]), initial=0.0)) for s in specs)
            found = []
            for kind, other in self.families.items():
                if (
                    kind in (own.kind, gauge.label)
                    or other.name != family.name
                    or largest > other.reach
                    or not other.offered
                ):
                    continue
                fields = {"kind": kind, **other.fields, **of_task(own, self.kinds)}
                size = _size({**self.kinds.get(fields["kind"], {}), **fields})
                if size < 0.8 * _size(own.model_dump(exclude_none=True)):
                    found.append((size, kind, fields))
            for _, kind, fields in sorted(found, key=lambda one: -one[0])[:MOST_INSTRUMENTS]:
                article = "an" if kind[0] in "aeiou" else "a"
                instruments = {**setup.instruments, name: fields}
                say = f"{article} {kind} instead of the {gauge.label}"
                yield Change(say=say, kind="instrument", setup=replace(setup, instruments=instruments))


def _size(fields: Mapping[str, Any]) -> float:
    """What one reading may be off by, SI."""
    return math.hypot(
        *(
            units.quantity(str(fields[name]))[0]
            for name in ("least_count", "reaction", "placement", "zero")
            if name in fields
        )
    )


def _allowed(analysis: Analysis, spec: Input, values: np.ndarray) -> bool:
    """Whether all of ``values`` ``(rows,)``, SI, lie in the plausible range of an input."""
    if spec.plausible is None:
        return True
    given = {**analysis.nominal, spec.key: values[None, :]}
    with np.errstate(all="ignore"):
        return bool(np.all(spec.plausible(Environment(given, {})) == 1.0))


def _more_counted(setup: Setup, analysis: Analysis) -> Iterator[Change]:
    """More laps in one timing: whole numbers that a bench sets and that a stopwatch counts."""
    program = analysis.program
    for step in program.definition.steps:
        if step.timer is None or step.timer.kind != "laps":
            continue
        for spec in program.inputs:
            if (
                spec.series is not None
                or not spec.whole
                or spec.default is None
                or Name(spec.name) not in set(walk(parse(step.timer.laps)))
            ):
                continue
            text = setup.planned.quantities.get(spec.name, spec.default)
            try:
                now = round(read(text, spec.unit.text).value)
            except CavrelError:
                continue
            then = 2 * now
            if not _allowed(analysis, spec, np.array([float(then)])):
                continue
            quantities = {**setup.planned.quantities, spec.name: str(then)}
            yield Change(
                say=f"{counted(then, step.timer.lap, step.timer.plural)} instead of {now}",
                kind="count",
                setup=replace(setup, planned=replace(setup.planned, quantities=quantities)),
            )


def _trials(setup: Setup, spec: Input) -> int:
    return setup.planned.trials.get(spec.key, spec.repeats)


def _repeated(analysis: Analysis, setup: Setup) -> list[Input]:
    """Inputs that are read by an eye or a hand and could be read again."""
    found = []
    for spec in analysis.program.inputs:
        if spec.exact or spec.extract or spec.role == "set" or spec.series in setup.planned.without:
            continue
        if spec.series is None and (spec.default is not None or spec.name in setup.planned.quantities):
            continue
        if _trials(setup, spec) > 1 and (spec.gauge is not None or spec.count):
            found.append(spec)
    return found


def _more_trials(setup: Setup, analysis: Analysis) -> Iterator[Change]:
    """Twice the trials of what is repeated."""
    for spec in _repeated(analysis, setup):
        now = _trials(setup, spec)
        then = min(2 * now, max(MOST_TRIALS, 2 * spec.repeats))
        if then <= now:
            continue
        trials = {**setup.planned.trials, spec.key: then}
        yield Change(
            say=f"{spec.label}: {then} trials instead of {now}",
            kind="trials",
            setup=replace(setup, planned=replace(setup.planned, trials=trials)),
        )


def settings_of(analysis: Analysis, series: str) -> dict[str, np.ndarray]:
    """Set columns of a table -> settings ``(rows,)`` among the readings to expect, SI."""
    return {
        spec.key: analysis.nominal[spec.key][0]
        for spec in analysis.program.inputs
        if spec.series == series and spec.role == "set"
    }


def _more_rows(setup: Setup, analysis: Analysis) -> Iterator[Change]:
    """Half as many settings again, over the same range."""
    for name, series in analysis.program.definition.series.items():
        now = analysis.sheet.rows[name]
        then = min(now + max(now // 2, 2), MOST_ROWS, 3 * series.rows)
        if name in setup.planned.without or then <= now or now < 2:
            continue
        planned = setup.planned
        kept = {key: texts for key, texts in planned.settings.items() if key.partition(".")[0] != name}
        for key, values in settings_of(analysis, name).items():
            if key in planned.settings:
                spread = np.interp(np.linspace(0, now - 1, then), np.arange(now), values)
                kept[key] = texts_of(analysis, key, spread)
        yield Change(
            say=f"{counted(then, series.row)} instead of {now}",
            kind="rows",
            setup=replace(setup, planned=replace(planned, settings=kept, rows={**planned.rows, name: then})),
        )


def _wider(setup: Setup, analysis: Analysis) -> Iterator[Change]:
    """As many settings over a range that reaches half as far again."""
    for name, series in analysis.program.definition.series.items():
        columns = settings_of(analysis, name)
        if name in setup.planned.without or len(columns) != 1:
            continue
        (key, values), spec = next(iter(columns.items())), analysis.program.input_of[next(iter(columns))]
        low, high = float(np.min(values)), float(np.max(values))
        if spec.whole or spec.count or spec.plausible is None or not low > 0 or len(values) < 3:
            continue
        usual = _stretches(analysis, key)
        for reach in (1.5, 1.25):
            if high * reach > FARTHEST * usual:
                continue
            stretched = low + (values - low) * (high * reach - low) / (high - low) if high > low else values
            if high > low and _allowed(analysis, spec, stretched):
                texts = texts_of(analysis, key, stretched)
                top = f"{texts[int(np.argmax(stretched))]} {spec.unit.pretty}".strip()
                yield Change(
                    say=f"as many {plural(series.row)}, up to {top}",
                    kind="range",
                    setup=replace(
                        setup, planned=replace(setup.planned, settings={**setup.planned.settings, key: texts})
                    ),
                )
                break


def _stretches(analysis: Analysis, key: str) -> float:
    """How far the settings that the definition suggests reach, SI, where they are spread over a range; nought where they are a list of what
    there is, such as coils or lamps."""
    suggested = [one for one in analysis.program.definition.suggest if one.target == key]
    if not suggested or "linspace" not in suggested[0].formula:
        return 0.0
    return float(np.max(analysis.suggested(key)))


def texts_of(analysis: Analysis, key: str, values: np.ndarray) -> list[str]:
    """Settings ``(rows,)``, SI, as they would be written, to what the instrument can be set to."""
    spec = analysis.program.input_of[key]
    step = spec.gauge.least_count if spec.gauge is not None and spec.gauge.least_count else None
    texts = []
    for value in values.tolist():
        shown = spec.unit.from_si(value)
        if step is None:
            texts.append(f"{shown:.4g}")
            continue
        size = step / spec.unit.factor
        decimals = max(0, -math.floor(math.log10(size) + 1e-9))
        texts.append(f"{round(shown / size) * size:.{decimals}f}")
    return texts


def _sizes(setup: Setup, analysis: Analysis) -> Iterator[Setup]:
    """Plans with fewer or more trials and rows."""
    repeated = _repeated(analysis, setup)
    for share in (0.5, 0.75, 1.0, 1.5, 2.0):
        rows = {
            name: max(4, min(MOST_ROWS, round(count * share)))
            for name, count in analysis.sheet.rows.items()
            if count > 4 and name not in setup.planned.without
        }
        for times in (0.4, 0.6, 1.0, 2.0):
            trials = {
                spec.key: max(2, min(max(MOST_TRIALS, spec.repeats), round(_trials(setup, spec) * times)))
                for spec in repeated
            }
            kept = dict(setup.planned.settings)
            for name, count in rows.items():
                for key, values in settings_of(analysis, name).items():
                    if key in kept and count != len(values):
                        spread = np.interp(np.linspace(0, len(values) - 1, count), np.arange(len(values)), values)
                        kept[key] = texts_of(analysis, key, spread)
            yield replace(
                setup,
                planned=replace(
                    setup.planned,
                    settings=kept,
                    trials={**setup.planned.trials, **trials},
                    rows={**setup.planned.rows, **rows},
                ),
            )
            if not repeated:
                break


def _idle(tried: list[Improvement]) -> str:
    """What more trials would not do, where they would not, and what stands in the way."""
    trials = [one for one in tried if one.change.kind == "trials"]
    if not trials or max(one.gain for one in trials) >= IDLE:
        return ""
    dominated = trials[0].before.dominated
    limit = f": {dominated[0][0]} is the limit" if dominated else ""
    return f"No more trials{limit}."
