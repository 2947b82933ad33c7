"""What a plan promises, in words and on a number line; what would make it better; and the questions backwards."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cavrel import catalogue
from cavrel.core.document.forecast import change_of, setup_of
from cavrel.core.errors import CavrelError
from cavrel.core.plan.changes import Setup
from cavrel.core.plan.forecast import DRAWN, Expected, Forecast
from cavrel.core.plan.improvements import Improvement, Planner
from cavrel.core.quantity.reading import read
from cavrel.core.quantity.rounding import significant
from cavrel.graph import numberline
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView

SHOWN_SOURCES = 3


@dataclass(frozen=True, slots=True, kw_only=True)
class Promise:
    """What the plan promises of one result, in words and as a drawing.

    ``name``, ``label``: of the result.
    ``text``: value ± u.
    ``percent``: u in percent of it, empty where there is none.
    ``sources``: what dominates, in a sentence.
    ``line``: the number line.
    ``reason``: why nothing can be said.
    """

    name: str
    label: str
    text: str
    percent: str
    sources: str
    line: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """A change that can be taken: ``say`` in words, ``change`` the keys of a run document that make it."""

    say: str
    change: Mapping[str, Any]


def planner_of(opened: RunView) -> Planner:
    """Tries plans of this run's experiment. Raises DefinitionError where it has no simulation."""
    run = opened.state.run
    return catalogue.planner(
        opened.base, run.options, opened.analysis.rules, run.accepted, opened.laboratory, run.headings
    )


@optional("the expected result", lambda: "The expected result cannot be computed.")
def promised_of(opened: RunView) -> tuple[Setup, Forecast] | str:
    """The plan and what it promises, computed once for a run as it stands; a sentence where nothing can be said."""
    if "forecast" not in opened.shown:
        try:
            planner = planner_of(opened)
            setup = setup_of(opened.state.run, planner)
            opened.shown["forecast"] = setup, planner.forecast(setup, DRAWN)
        except CavrelError as fault:
            opened.shown["forecast"] = f"{fault.what[0].upper()}{fault.what[1:]}."
    found: tuple[Setup, Forecast] | str = opened.shown["forecast"]
    return found


def offer(before: Expected, one: Improvement) -> Offer:
    factor = before.unit.factor
    more = round(one.minutes)
    takes = f", {more} min more" if more > 0 else f", {-more} min less" if more < 0 else ""
    say = (
        f"{one.change.say}: ± {significant(before.u / factor, 2)} → ± {significant(one.expected.u / factor, 2)}{takes}"
    )
    return Offer(say=say, change=change_of(one.change.setup))


def promise(opened: RunView, one: Expected) -> Promise:
    body = opened.definition.results[one.name]
    if one.reason or not math.isfinite(one.u):
        reason = one.reason or "no standard uncertainty can be predicted"
        return Promise(name=one.name, label=body.label, text="", percent="", sources="", line="", reason=reason)
    unit = one.unit
    text = opened.analysis.measured(one.value, one.u, unit).text()
    sources = " and ".join(
        f"{source} gives {100 * share:.0f} %" if i == 0 else f"{source} {100 * share:.0f} %"
        for i, (source, share) in enumerate(one.dominated[:SHOWN_SOURCES])
        if share > 0.05
    )
    accepted = None
    reference = opened.analysis.results[one.name].accepted
    if reference is not None and math.isfinite(reference.value) and not opened.definition.results[one.name].combine:
        measured = opened.analysis.results[one.name].compared
        if measured is None or not measured.measured:
            shown = unit.from_si(reference.value)
            accepted = (shown, reference.u / unit.factor, f"accepted {significant(shown, 4)}")
    line = ""
    if one.u > 0:
        entry = numberline.Entry("", unit.from_si(one.value), one.u / unit.factor, True)
        line = numberline.number_line([entry], accepted, unit.pretty, f"{body.label}: {text} predicted", 260)
    percent = f"{significant(one.percent, 2)} %" if math.isfinite(one.percent) and one.u > 0 else ""
    return Promise(name=one.name, label=body.label, text=text, percent=percent, sources=sources, line=line, reason="")


def asked(opened: RunView, percent: str, minutes: str) -> dict[str, Any]:
    """The answer to “what would so many percent take?”, or “what can I see in so many minutes?”: ``say``, and ``offer`` where there is a
    plan to take. Raises CavrelError for what is no such number."""
    promised = promised_of(opened)
    if isinstance(promised, str):
        return {"say": promised, "offer": None}
    setup, found = promised
    planner = planner_of(opened)
    first = next((one for one in found.results.values() if not one.reason and one.u > 0), None)
    if first is None:
        return {"say": "No result of this plan has an uncertainty to predict.", "offer": None}
    label = opened.definition.results[first.name].label
    if percent:
        wanted = _amount(percent, "percent", 1e-6, 1000.0)
        if first.percent <= wanted:
            return {"say": f"{label}: this plan already gives {significant(first.percent, 2)} %.", "offer": None}
        then, better, said = planner.reaching(setup, first.name, wanted)
        reached = better.results[first.name].percent
        if reached <= wanted:
            more = round(planner.minutes(better, then) - planner.minutes(found, setup))
            takes = f", {more} min more" if more > 0 else ""
            say = f"{label} to {significant(reached, 2)} %: {'; '.join(said)}{takes}"
            return {"say": say, "offer": Offer(say="Use this plan", change=change_of(then))}
        dominated = better.results[first.name].dominated
        limit = f" {dominated[0][0]} is the limit." if dominated else ""
        say = (
            f"{label}: {wanted:g} % is not possible with these instruments; at best {significant(reached, 2)} %.{limit}"
        )
        return {"say": say, "offer": None}
    lasting = _amount(minutes, "minutes", 1.0, 1000.0)
    then, better = planner.within(setup, first.name, lasting)
    takes_now = planner.minutes(better, then)
    one = better.results[first.name]
    rows = ", ".join(f"{count} in {opened.definition.series[name].short}" for name, count in then.planned.rows.items())
    over = "" if takes_now <= lasting else f" It cannot be done in less than {takes_now:.0f} minutes."
    say = f"In {takes_now:.0f} minutes {label} to {significant(one.percent, 2)} %{f', rows: {rows}' if rows else ''}.{over}"
    return {"say": say, "offer": Offer(say="Use this plan", change=change_of(then))}


def _amount(text: str, what: str, low: float, high: float) -> float:
    try:
        value = read(text.strip().removesuffix("%").removesuffix("min").strip(), "").value
    except CavrelError as fault:
        raise CavrelError(what, fault.what) from fault
    if not low <= value <= high:
        raise CavrelError(what, f"ask for {what} from {low:g} to {high:g}")
    return value
