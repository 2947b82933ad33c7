"""What a plan promises, against one full analysis of a run of it."""

from bench.pendulum import PENDULUM, document
from bench.ratio import Row, compare
from cavrel import catalogue
from cavrel.core import lesson as lessons
from cavrel.core.analysis import analyse
from cavrel.core.laboratory import EMPTY
from cavrel.core.plan.changes import Setup
from cavrel.service.lessons import task_of

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


def timetable() -> Row:
    """Six benches and four experiments, two of them with one apparatus for two benches at a time."""
    names = ("spring", "speed-of-sound", "half-life", "block-density")
    tasks = [task_of(catalogue.experiments()[name], EMPTY) for name in names]
    body = {
        "title": "Evening",
        "minutes": 200,
        "rotations": 4,
        "benches": list("ABCDEF"),
        "stock": {"counter": 2, "vernier caliper": 2},
    }
    made = lessons.load({**body, "tasks": [task.model_dump(mode="json") for task in tasks]})
    program, run = catalogue.program_of(PENDULUM), document()
    # Two seconds are some three hundred analyses of the machine that the goal was written for.
    return compare(
        "a timetable of 6 benches × 4 experiments, against one analysis",
        lambda: lessons.propose(made),
        lambda: analyse(program, run),
        "300×",
        300.0,
        rounds=3,
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
