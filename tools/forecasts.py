"""Hold what plans promise against what runs find: ``./run forecasts [runs] [id ...]``.

For every result of the catalogue the u that is forecast over the median u of simulated runs of the same plan; then each improvement that is
proposed, carried out in simulation, against what it promised.
"""

import sys
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.logbook import run as runs
from cavrel.core.plan.changes import Setup
from cavrel.core.plan.forecast import DRAWN
from cavrel.core.plan.improvements import Planner
from cavrel.core.simulate import simulate

FIRST_SEED = 10_000
"""No seed that a forecast draws itself."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Held:
    """``ratio``: of what was forecast to what runs find, NaN where both are zero; ``what``: the plan, or the improvement."""

    experiment: str
    result: str
    what: str
    ratio: float


def found(planner: Planner, setup: Setup, many: int) -> dict[str, float]:
    """Result -> median u of ``many`` simulated runs, SI; half the 95 % interval over k where there is no u."""
    program = planner.program_of(setup.instruments)
    sizes: dict[str, list[float]] = {name: [] for name in program.definition.results}
    for seed in range(FIRST_SEED, FIRST_SEED + many):
        analysis = analyse(program, runs.load(simulate(program, seed, planned=setup.planned)))
        for name, r in analysis.results.items():
            if not r.reason:
                sizes[name].append(r.u if r.linear else (r.interval[1] - r.interval[0]) / 2 / r.coverage_factor)
    return {name: float(np.nanmedian(size)) if size else float("nan") for name, size in sizes.items()}


def held(experiment: str, many: int) -> Iterator[Held]:
    """Each result of an experiment's own plan, and what improvements promise its first one."""
    definition = catalogue.experiments()[experiment]
    planner, plain = catalogue.planner(definition), Setup()
    forecast = planner.forecast(plain, drawn=DRAWN)
    seen = found(planner, plain, many)
    for name, expected in forecast.results.items():
        yield Held(experiment=experiment, result=name, what="as it stands", ratio=_ratio(expected.u, seen[name]))
    first = next(iter(forecast.results))
    improvements, _ = planner.improvements(plain, first, forecast)
    for one in improvements:
        then = found(planner, one.change.setup, many)[first]
        promised = one.expected.u / one.before.u
        yield Held(experiment=experiment, result=first, what=one.change.say, ratio=_ratio(promised, then / seen[first]))


def _ratio(one: float, other: float) -> float:
    return one / other if other > 0 else float("nan")


def main() -> None:
    """Prints a line for each; ends with 1 where a forecast is off by more than a tenth, or an improvement by more than 15 %."""
    arguments = sys.argv[1:]
    many = int(arguments.pop(0)) if arguments and arguments[0].isdigit() else 200
    off = 0
    for experiment in arguments or list(catalogue.experiments()):
        for one in held(experiment, many):
            reach = 1.10 if one.what == "as it stands" else 1.15
            good = not one.ratio > reach and not one.ratio < 1 / reach
            off += not good
            print(
                f"{one.experiment:24} {one.result:10} {one.ratio:6.3f} {'' if good else 'OFF':3} {one.what}", flush=True
            )
    print(f"{off} off" if off else "all within a tenth, improvements within 15 %")
    sys.exit(1 if off else 0)


if __name__ == "__main__":
    main()
