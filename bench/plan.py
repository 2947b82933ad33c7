"""What a plan promises, against one full analysis of a run of it."""

from bench.pendulum import PENDULUM, document
from bench.ratio import Row, compare
from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.plan.better import Setup

PLANNER = catalogue.planner(PENDULUM)


def forecast() -> Row:
    """What the pendulum's own plan promises."""
    program, run = catalogue.program_of(PENDULUM), document()
    return compare(
        "a forecast, against one analysis of such a run",
        lambda: PLANNER.forecast(Setup()),
        lambda: analyse(program, run),
        "20×",
        20.0,
        rounds=60,
    )


def improvements() -> Row:
    """The same with its three cheapest improvements, found by trying them."""
    program, run = catalogue.program_of(PENDULUM), document()

    def ours() -> object:
        found = PLANNER.forecast(Setup())
        return PLANNER.improvements(Setup(), "g", found)

    return compare(
        "a forecast with its improvements, against one analysis",
        ours,
        lambda: analyse(program, run),
        "20×",
        20.0,
        rounds=25,
    )
