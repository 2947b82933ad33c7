"""A finished run of an experiment, from its simulation, and what its own plan promises: what a page shows of an experiment nobody has begun."""

from collections.abc import Mapping
from typing import Any

from cavrel import catalogue
from cavrel.core.definition import Definition, choose
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import EMPTY
from cavrel.core.logbook import run as runs
from cavrel.core.logbook import slots_of
from cavrel.core.plan.changes import Setup
from cavrel.core.plan.forecast import DRAWN, Forecast
from cavrel.core.plan.improvements import Planner
from cavrel.core.remember import by_identity
from cavrel.core.simulate import simulate
from cavrel.present import graphs, result_lines, tables
from cavrel.present.expected_result import Promise, promise
from cavrel.service.run_view import RunView, unstarted

SEED = 3
ROWS = 6
"""Rows of a finished table that are shown."""


def promises(blank: RunView) -> tuple[list[Promise], str]:
    """What the plan as the definition gives it promises of each result, and the minutes it takes; nothing where it has no simulation."""
    try:
        planner = catalogue.planner(blank.base, blank.state.run.options, blank.analysis.rules)
        found = _as_it_stands(planner)
    except CavrelError:
        return [], ""
    return [promise(blank, one) for one in found.results.values()], f"{planner.minutes(found, Setup()):.0f}"


@by_identity(64)
def _as_it_stands(planner: Planner) -> Forecast:
    """What the definition's own plan promises: the same at each look at its page."""
    return planner.forecast(Setup(), DRAWN)


@by_identity(64)
def finished(definition: Definition, options: Mapping[str, str]) -> dict[str, Any]:
    """A simulated run: ``tables`` (the first rows), ``graph`` and ``results``; empty where the experiment has no simulation.

    ``definition``: as its author gave it. ``options``: conventions other than the usual ones.
    """
    try:
        document = runs.load(simulate(catalogue.program_of(definition, options=options), SEED, options=options))
    except CavrelError:
        return {}
    opened = unstarted(choose(definition, {}), EMPTY, options, slots_of(document))
    fit = opened.fit
    return {
        "tables": [(table, table.rows[:ROWS]) for table in tables.tables(opened)],
        "graph": graphs.fit_graphs(opened, fit).line if fit is not None and fit.made else "",
        "results": result_lines.overview(opened),
    }


def gravity(opened: RunView) -> str:
    """g in use with where it comes from, where the experiment uses it; empty where it does not."""
    uses = opened.program.used_accepted
    named = any(result.accepted == "g_local" for result in opened.program.definition.results.values())
    if "g_local" not in uses and not named:
        return ""
    reference = opened.analysis.accepted["g_local"]
    return f"{reference.value:.4f} m/s², {reference.label}"
