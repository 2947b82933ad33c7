"""What would make a plan better: changes a bench can make, each tried on the same engine, in its words."""

import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import Program
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory.selection import of_task
from cavrel.core.plan.changes import Change, Overrides, Setup, more_counted, more_rows, more_trials, sizes, wider
from cavrel.core.plan.forecast import DRAWN, QUICKLY, Expected, Forecast, forecast
from cavrel.core.plan.minutes import Stretch, duration, pace_of, timeline
from cavrel.core.quantity import units

WORTH = 0.07
"""A change is offered that makes u smaller by at least this share of itself."""
IDLE = 0.03
"""One that makes it smaller by less than this is said not to help."""
MOST_INSTRUMENTS = 3
STEPS = 6
"""Changes taken one upon the other on the way to a wanted precision."""

Compile = Callable[[Overrides], Program]
"""The program with instruments other than the definition's. Raises DefinitionError."""


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
                continue  # it leads the simulation beyond any reading
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
        for one in sizes(setup, now.analysis):
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
        yield from more_counted(setup, analysis)
        yield from more_trials(setup, analysis)
        yield from more_rows(setup, analysis)
        yield from wider(setup, analysis)
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
                    or (own.instead is not None and kind not in own.instead)
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


def _idle(tried: list[Improvement]) -> str:
    """What more trials would not do, where they would not, and what stands in the way."""
    trials = [one for one in tried if one.change.kind == "trials"]
    if not trials or max(one.gain for one in trials) >= IDLE:
        return ""
    dominated = trials[0].before.dominated
    limit = f": {dominated[0][0]} is the limit" if dominated else ""
    return f"More trials would not help{limit}."
