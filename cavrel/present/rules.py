"""House rules of one run: what each choice would make of its first result, and what a newer cupboard would change."""

import json
import math
from typing import Any

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.cupboard import Cupboard
from cavrel.core.cupboard.changes import changes
from cavrel.core.definition.rules import RULES, HouseRules
from cavrel.core.document.forecast import setup_of
from cavrel.core.errors import CavrelError
from cavrel.core.findings.judge import judge
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.value import MeasuredValue
from cavrel.service.opened import Opened


def rules_of(opened: Opened) -> dict[str, Any]:
    """Every house rule with its choices: words, whether it is in force, and what it makes of the first result."""
    now = opened.analysis.rules.model_dump()
    own = own_rules(opened)
    before = _first(opened, opened.analysis.rules)
    found = []
    for name, rule in RULES.items():
        choices = []
        for value, words in rule.choices.items():
            text = before if value == now[name] else _first(opened, HouseRules.model_validate({**now, name: value}))
            choices.append(
                {
                    "value": json.dumps(value),
                    "words": words,
                    "chosen": value == now[name],
                    "makes": text if text != before or value == now[name] else "the same here",
                }
            )
        if choices:
            found.append({"name": name, "title": rule.title, "choices": choices, "own": name in own})
    first = next(iter(opened.definition.results.values()), None)
    return {"rules": found, "result": first.label if first else "", "measured": _measured(opened)}


def own_rules(opened: Opened) -> tuple[str, ...]:
    """The rules that this run has changed for itself."""
    entries = opened.state.latest
    return tuple(name for name in RULES if f"rule:{name}" in entries and name in opened.state.run.rules)


def newer(opened: Opened, version: int, newest: Cupboard) -> dict[str, Any]:
    """What the newest version of the cupboard differs in from the one that the run goes by, in words."""
    behind = version != opened.run.cupboard
    return {"version": version, "changes": changes(opened.cupboard, newest) if behind else []}


def _measured(opened: Opened) -> bool:
    return opened.result is not None and not opened.result.reason


def _first(opened: Opened, rules: HouseRules) -> str:
    """The first result under ``rules``: of the readings, or, before there are enough, of the plan."""
    try:
        if _measured(opened):
            analysis = analyse(opened.program, opened.state.run, rules)
            result = next(iter(analysis.results.values()))
            verdict = judge(analysis, result)
            off = f"; {significant(verdict.percent, 2)} % off" if math.isfinite(verdict.percent) else ""
            return f"{result.measured(rules.rounding).text()}{off}".replace("-", "−")
        run = opened.state.run
        planner = catalogue.planner(opened.base, run.options, rules, run.accepted, opened.cupboard, run.headings)
        one = next(iter(planner.forecast(setup_of(run, planner)).results.values()), None)
        if one is None or one.reason or not one.u > 0:
            return ""
        return MeasuredValue(value=one.value, u=one.u, unit=one.unit, rule=rules.rounding).text()
    except CavrelError:
        return ""
