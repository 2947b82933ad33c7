"""House rules in words, each with what it would make of one small worked example."""

import json
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from cavrel import catalogue
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition.rules import RULES, HouseRules
from cavrel.core.findings.verdict import verdict_of
from cavrel.core.logbook.run import RunDocument
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.value import amount_text
from cavrel.present import decimals

READINGS = {
    "quantities": {
        "t": ["14.82", "14.91", "14.78", "14.95", "14.84"],
        "d": "6.3",
        "m": "50.00 ± 0.25",
        "r_b": "47.2 ± 0.3",
        "r_m": "48.6 ± 0.9",
        "g_m": "9.62 ± 0.06",
    },
    "series": {
        "stretch": {
            "F": ["1.0 ± 0.1", "2.0 ± 0.1", "3.0 ± 0.1", "4.0 ± 0.1", "5.0 ± 0.1"],
            "x": ["3.9 ± 0.2", "7.5 ± 0.2", "13.0 ± 0.8", "15.4 ± 0.2", "20.4 ± 0.2"],
        },
        "drop": {
            "h": ["50", "100", "150"],
            "t_d": [["0.33", "0.29", "0.34"], ["0.44", "0.46", "0.45"], ["0.57", "0.54", "0.56"]],
        },
    },
}
"""Of the worked example, ``catalogue/house.toml``."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Choice:
    """``value``: as JSON. ``words``: what it says. ``makes``: of the worked example. ``chosen``: in force."""

    value: str
    words: str
    makes: str
    chosen: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Shown:
    """A house rule.

    ``name``, ``title``, ``subject``: of the rule.
    ``now``: the choice in force, in words.
    ``why``: its default is what it is.
    ``example``: what is computed.
    ``choices``: none where a value is typed.
    ``makes``: of the example, by the value in force.
    ``value``: in force, as JSON.
    """

    name: str
    title: str
    subject: str
    now: str
    why: str
    example: str
    choices: tuple[Choice, ...]
    makes: str
    value: str


def shown(rules: HouseRules) -> list[Shown]:
    """Every house rule, with what each choice makes of its example while the other rules stay as they are."""
    return list(_shown(rules.model_dump_json()))


@lru_cache(maxsize=64)
def _shown(text: str) -> tuple[Shown, ...]:
    rules = json.loads(text)
    found = []
    for name, rule in RULES.items():
        choices = tuple(
            Choice(
                value=json.dumps(value),
                words=words,
                makes=_made(name, {**rules, name: value}),
                chosen=rules[name] == value,
            )
            for value, words in rule.choices.items()
        )
        found.append(
            Shown(
                name=name,
                title=rule.title,
                subject=rule.subject,
                now=rule.choice(rules[name]) + {"acceptable": " %", "g": ""}.get(name, ""),
                why=HouseRules.model_fields[name].description or "",
                example=rule.example,
                choices=choices,
                makes="" if choices else _made(name, rules),
                value=json.dumps(rules[name]),
            )
        )
    return tuple(found)


def _made(name: str, rules: Mapping[str, Any]) -> str:
    """What rules make of the example of one of them, in words."""
    # Two figures, so that a small change is seen; but for the rule that is about figures.
    analysis = worked(HouseRules.model_validate(rules if name == "rounding" else {**rules, "rounding": "two"}))
    if name in ("percent_error", "acceptable", "g"):
        verdict = verdict_of(analysis, analysis.results["g"])
        sign = "+" if analysis.rules.percent_error == "signed" and verdict.percent > 0 else ""
        off = f"{sign}{significant(verdict.percent, 2)} %".replace("-", "−")
        if name == "percent_error":
            return off
        if name == "g":
            return f"{analysis.accepted['g_local'].value:.4f} m/s²: {significant(abs(verdict.percent), 2)} % off"
        return f"{off} off, {'acceptable' if abs(verdict.percent) <= analysis.rules.acceptable else 'not acceptable'}"
    if name == "difference":
        return f"{significant(abs(verdict_of(analysis, analysis.results['R_b']).percent), 3)} %"
    if not RULES[name].shows:
        return ""
    result = analysis.results[RULES[name].shows]
    said = result.measured(analysis.rules.rounding).text()
    if name == "decimal":
        return decimals.example(said, analysis.rules.decimal)
    if name == "rounding":
        return f"{said} and {analysis.results['first'].measured(analysis.rules.rounding).text()}"
    if name == "student":
        return f"{said}; 95 %: ± {amount_text(result.expanded_uncertainty, result.unit, 2, True)}"
    return said


def worked(rules: HouseRules) -> Analysis:
    """The worked example under ``rules``."""
    document = RunDocument.model_validate({"format": "cavrel-run/1", "experiment": "house", **READINGS})
    return analyse(catalogue.program_of(catalogue.house()), document, rules)
