"""The forecast document, ``cavrel-forecast/1``: what a plan promises, and what would make it better."""

import math
from collections.abc import Mapping
from typing import Any

from cavrel.core.errors import RunError
from cavrel.core.logbook.run import RunDocument, trials
from cavrel.core.plan.changes import Setup
from cavrel.core.plan.forecast import DRAWN, Expected, Forecast
from cavrel.core.plan.improvements import Improvement, Planner
from cavrel.core.quantity.rounding import significant
from cavrel.core.simulate.apparatus import Planned

FORMAT = "cavrel-forecast/1"
WANTED = 1.0
"""Percent, of the question what it would take."""


def setup_of(run: RunDocument, planner: Planner) -> Setup:
    """What a run document plans: its plan, and what it sets already. Raises RunError for places that the experiment does not have."""
    program = planner.program_of(run.instruments)
    settings: dict[str, list[str]] = {}
    for series, columns in run.series.items():
        for column, cells in columns.items():
            spec = program.input_of.get(f"{series}.{column}")
            texts = [trials(cell)[0].strip() for cell in cells]
            if spec is not None and spec.chosen and texts and all(texts):
                settings[spec.key] = texts
    for key, planned in run.plan.settings.items():
        spec = program.input_of.get(key)
        if spec is None or not spec.chosen:
            raise RunError(f"plan.settings.{key}", "the experiment sets no such column")
        settings[key] = [text.strip() for text in planned if text.strip()]
    for key in run.plan.trials:
        if key not in program.input_of:
            raise RunError(f"plan.trials.{key}", "the experiment reads nothing of this name")
    for name in run.plan.rows:
        if name not in program.definition.series:
            raise RunError(f"plan.{name}", "the experiment has no such table")
    quantities = {}
    for name, cell in run.quantities.items():
        spec = program.input_of.get(name)
        text = trials(cell)[0].strip()
        if spec is not None and spec.default is not None and text:
            quantities[name] = text
    return Setup(
        planned=Planned(
            settings={key: texts for key, texts in _even(settings).items() if texts},
            quantities=quantities,
            trials=run.plan.trials,
            rows=run.plan.rows,
            without=frozenset(run.plan.without),
            zeroed=frozenset(run.zeros),
        ),
        instruments=run.instruments,
    )


def _even(settings: Mapping[str, list[str]]) -> dict[str, list[str]]:
    """Set columns of one table, each as long as the shortest planned one: a row is set in all of them or not yet planned."""
    shortest: dict[str, int] = {}
    for key, texts in settings.items():
        series = key.partition(".")[0]
        shortest[series] = min(shortest.get(series, len(texts)), len(texts))
    return {key: texts[: shortest[key.partition(".")[0]]] for key, texts in settings.items()}


def forecast_document(planner: Planner, setup: Setup, percent: float = WANTED) -> dict[str, Any]:
    """The document of what ``setup`` promises. Raises DefinitionError where the experiment has no simulation."""
    found = planner.forecast(setup, drawn=DRAWN)
    lasting = planner.minutes(found, setup)
    return {
        "format": FORMAT,
        "experiment": found.analysis.program.definition.id,
        "minutes": _number(lasting, 3),
        "drawn": found.drawn,
        "results": {name: _result(planner, setup, name, found, percent) for name in found.results},
    }


def _result(planner: Planner, setup: Setup, name: str, found: Forecast, percent: float) -> dict[str, Any]:
    one = found.results[name]
    usable = not one.reason and one.u > 0
    improvements, idle = planner.improvements(setup, name, found) if usable else ([], "")
    return {
        "unit": one.unit.text,
        "value": _number(one.unit.from_si(one.value)),
        "u": _number(one.u / one.unit.factor),
        "percent": _number(one.percent),
        "k95": _number(one.coverage_factor),
        "reason": one.reason or None,
        "dominated_by": [{"source": source, "share": _number(share)} for source, share in one.dominated],
        "improvements": [_improvement(improvement, one) for improvement in improvements],
        "idle": idle or None,
        "needed": _needed(planner, setup, name, one, percent) if usable and math.isfinite(one.percent) else None,
    }


def _improvement(found: Improvement, before: Expected) -> dict[str, Any]:
    unit = before.unit
    return {
        "say": f"{found.change.say}: ± {significant(before.u / unit.factor, 2)} → ± {significant(found.expected.u / unit.factor, 2)}",
        "change": change_of(found.change.setup),
        "u": _number(found.expected.u / unit.factor),
        "percent": _number(found.expected.percent),
        "minutes": _number(found.minutes, 3),
    }


def _needed(planner: Planner, setup: Setup, name: str, now: Expected, percent: float) -> dict[str, Any]:
    """What ``percent`` would take."""
    if now.percent <= percent:
        return {"percent": percent, "say": "this plan gives it", "change": None}
    then, found, said = planner.reaching(setup, name, percent)
    one = found.results[name]
    if one.percent <= percent:
        return {"percent": percent, "say": "; ".join(said), "change": change_of(then)}
    limit = f"; {one.dominated[0][0]} is the limit" if one.dominated else ""
    best = f"{significant(one.percent, 2)} % at best"
    return {"percent": percent, "say": f"cannot be reached with these instruments: {best}{limit}", "change": None}


def change_of(setup: Setup) -> dict[str, Any]:
    """A plan as the keys of a run document that hold it."""
    planned = setup.planned
    plan: dict[str, Any] = {}
    if planned.settings:
        plan["settings"] = {key: list(texts) for key, texts in planned.settings.items()}
    if planned.trials:
        plan["trials"] = dict(planned.trials)
    if planned.rows:
        plan["rows"] = dict(planned.rows)
    if planned.without:
        plan["without"] = sorted(planned.without)
    change: dict[str, Any] = {"plan": plan} if plan else {}
    if planned.quantities:
        change["quantities"] = dict(planned.quantities)
    if setup.instruments:
        change["instruments"] = {name: dict(fields) for name, fields in setup.instruments.items()}
    return change


def _number(value: float, figures: int = 10) -> float | None:
    return float(f"{value:.{figures}g}") if math.isfinite(value) else None
