"""House rules of one run: what each choice would make of its first result, and what a newer laboratory would change."""

import json
import math
from collections import OrderedDict
from typing import Any

from cavrel import bounded, catalogue
from cavrel.core.analysis import analyse
from cavrel.core.definition.rules import RULES, HouseRules, Rule
from cavrel.core.document.forecast import setup_of
from cavrel.core.errors import CavrelError
from cavrel.core.findings.verdict import verdict_of
from cavrel.core.laboratory import Laboratory
from cavrel.core.laboratory.changes import changes
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.value import MeasuredValue
from cavrel.present import decimals
from cavrel.service.opening import open_run
from cavrel.service.run_view import RunView
from cavrel.store.pool import Pool, open_pool

_OFFERED: dict[str, list[Any]] = {"acceptable": [1.0, 5.0, 10.0], "g": [9.8, 9.81, 9.80665]}
"""Values of rules that are numbers, as schools have them; what is in force is offered too."""


def rules_of(opened: RunView) -> dict[str, Any]:
    """Every house rule with its choices: words, whether it is in force, and what it makes of the first result."""
    now = opened.analysis.rules.model_dump()
    own = own_rules(opened)
    before = _first(opened, opened.analysis.rules)
    found = []
    for name, rule in RULES.items():
        choices = []
        for value, words in _choices(name, rule, now[name]):
            text = before if value == now[name] else _first(opened, HouseRules.model_validate({**now, name: value}))
            if name == "decimal":
                text = decimals.example(before, value)
            if name == "acceptable":
                text = _passes(opened, value)
            choices.append(
                {
                    "value": json.dumps(value),
                    "words": words,
                    "chosen": value == now[name],
                    "makes": text
                    if text != before or value == now[name] or name in ("acceptable", "decimal")
                    else "no change",
                }
            )
        found.append({"name": name, "title": rule.title, "choices": choices, "own": name in own})
    first = next(iter(opened.definition.results.values()), None)
    return {"rules": found, "result": first.label if first else "", "measured": _measured(opened)}


TASK = bounded.Task(name="cavrel.present.rules:rules_here", what="this comparison of rules", seconds=60, megabytes=600)
_MOST = 64
_known: OrderedDict[tuple[object, ...], dict[str, Any]] = OrderedDict()


def rules_apart(pool: Pool, opened: RunView) -> dict[str, Any]:
    """The same, computed in a process of its own, for it takes some forty analyses, and remembered until the run changes. Raises
    bounded.Over."""
    run = opened.run
    key = (run.id, run.made_at, run.newest, run.made_of, run.digest)
    found = _known.get(key)
    if found is None:
        found = _known[key] = bounded.run(TASK, pool.conninfo, run.id)
        while len(_known) > _MOST:
            _known.popitem(last=False)
    return found


def rules_here(url: str, run: int) -> dict[str, Any]:
    """The rules of a run by its number, empty where it cannot be had."""
    with open_pool(url, size=1) as pool:
        opened = open_run(pool, run)
    return rules_of(opened) if opened is not None else {"rules": [], "result": "", "measured": False}


def _choices(name: str, rule: Rule, now: Any) -> list[tuple[Any, str]]:
    """(value, words) of what can be chosen."""
    if rule.choices:
        return list(rule.choices.items())
    offered = [now, *(value for value in _OFFERED[name] if value != now)]
    unit = {"acceptable": " %", "g": " m/s²"}[name]
    return [(v, rule.choice(v) if isinstance(v, dict) else f"{v:.10g}{unit}") for v in offered]


def _passes(opened: RunView, most: float) -> str:
    """Whether the first result would pass with ``most`` percent; empty where it is compared with nothing yet."""
    off = verdict_of(opened.analysis, opened.result).percent if opened.result is not None else math.nan
    if not math.isfinite(off):
        return ""
    return f"{significant(abs(off), 2)} % off: {'passes' if abs(off) <= most else 'does not pass'}"


def own_rules(opened: RunView) -> tuple[str, ...]:
    """The rules that this run has changed for itself."""
    entries = opened.state.latest
    return tuple(name for name in RULES if f"rule:{name}" in entries and name in opened.state.run.rules)


def newer(opened: RunView, version: int, newest: Laboratory) -> dict[str, Any]:
    """What the newest version of the laboratory differs in from the one that the run goes by, in words."""
    outdated = version != opened.run.laboratory
    return {"version": version, "changes": changes(opened.laboratory, newest) if outdated else []}


def _measured(opened: RunView) -> bool:
    return opened.result is not None and not opened.result.reason


def _first(opened: RunView, rules: HouseRules) -> str:
    """The first result under ``rules``: of the readings, or, before there are enough, of the plan."""
    try:
        if _measured(opened):
            analysis = analyse(opened.program, opened.state.run, rules)
            result = next(iter(analysis.results.values()))
            verdict = verdict_of(analysis, result)
            off = f"; {significant(verdict.percent, 2)} % off" if math.isfinite(verdict.percent) else ""
            return f"{result.measured(rules.rounding).text()}{off}".replace("-", "−")
        run = opened.state.run
        planner = catalogue.planner(opened.base, run.options, rules, run.accepted, opened.laboratory, run.headings)
        one = next(iter(planner.forecast(setup_of(run, planner)).results.values()), None)
        if one is None or one.reason or not one.u > 0:
            return ""
        return MeasuredValue(value=one.value, u=one.u, unit=one.unit, rule=rules.rounding).text()
    except CavrelError:
        return ""
