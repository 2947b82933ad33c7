"""The rail: the stages of one run, each with a live line of its state."""

import math
from collections.abc import Callable
from dataclasses import dataclass

from cavrel.core.logbook.progress import planned_rows as plan_rows
from cavrel.core.logbook.progress import progress
from cavrel.core.quantity.rounding import percent, significant
from cavrel.core.words import counted
from cavrel.present import drafts
from cavrel.present.optional import optional
from cavrel.present.texts import one_line
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True)
class Stage:
    """``state``: done, begun, or waiting; ``line``: its state in words."""

    key: str
    title: str
    line: str
    state: str


@dataclass(frozen=True, slots=True)
class NextStep:
    """Where a stage leads. ``key``, ``title``: of the next stage; ``missing``: what this one still lacks, in words."""

    key: str
    title: str
    missing: tuple[str, ...]


def next_step(opened: RunView, stage: str) -> NextStep | None:
    """The one button at the end of a stage; None after the last, and on pages that are no stage."""
    order = [one.__name__.removeprefix("_") for one in STAGES]
    if not opened.definition.fits:
        order.remove("fit")
    if stage not in order[:-1]:
        return None
    key = order[order.index(stage) + 1]
    return NextStep(key, key.capitalize(), tuple(part for part in _missing(opened, stage) if part))


@optional("what a stage still lacks", list)
def _missing(opened: RunView, stage: str) -> list[str]:
    doubts = sum(1 for f in opened.findings if f.level != "note")
    to_check = f"{counted(doubts, 'remark')} to check" if doubts else ""
    state, definition = opened.state, opened.definition
    if stage == "plan":
        unread = len(definition.cautions) - sum(1 for place in state.ticks if place.startswith("caution."))
        told = bool(state.run.expected) or any(state.run.plan.foreseen.values())
        return [f"{counted(unread, 'caution')} to read" if unread else "", "" if told else "a prediction"]
    if stage == "measure":
        come = progress(state)
        return [counted(come.wanted - come.taken, "reading") if not come.done else "", to_check]
    if stage == "fit":
        waiting = [one for one in opened.analysis.fits.values() if not one.made]
        return [f"{counted(len(waiting), 'fit')} without enough rows" if waiting else "", to_check]
    waits = [one for one in opened.analysis.results.values() if one.reason]
    return [f"{counted(len(waits), 'result')} without a value" if waits else "", to_check]


def stages(opened: RunView) -> list[Stage]:
    """The stages that exist, in the order of the work."""
    if "stages" not in opened.shown:
        opened.shown["stages"] = [_standing(opened, stage) for stage in STAGES]
    found: list[Stage] = opened.shown["stages"]
    return found


def _standing(opened: RunView, stage: Callable[[RunView], Stage]) -> Stage:
    """One stage; where its state cannot be computed, that is its state."""
    key = stage.__name__.removeprefix("_")
    unknown = Stage(key, key.capitalize(), "cannot be computed", "begun")
    return optional(f"the state of {key.capitalize()}", lambda: unknown)(stage)(opened)


def _plan(opened: RunView) -> Stage:
    definition, state = opened.definition, opened.state
    first = next((name for name in definition.series if name not in state.run.plan.without), None)
    if first is None:
        line = counted(sum(1 for q in definition.quantities.values() if q.formula is None), "quantity")
    else:
        rows = plan_rows(state, first, definition.series[first])
        many = max(
            (
                state.trials[f"{first}.{c}"]
                for c, body in definition.series[first].columns.items()
                if body.column_role.wanted
            ),
            default=1,
        )
        line = counted(rows, definition.series[first].row) + (f" × {many}" if many > 1 else "")
    unread = len(definition.cautions) - sum(1 for place in state.ticks if place.startswith("caution."))
    if unread:
        return Stage(
            "plan", "Plan", f"{line}, {counted(unread, 'caution')} unread", "begun" if state.ticks else "waiting"
        )
    return Stage("plan", "Plan", line, "done")


def _measure(opened: RunView) -> Stage:
    come = progress(opened.state)
    line = f"{come.taken} of {counted(come.wanted, 'reading')}"
    return Stage("measure", "Measure", line, "done" if come.done else "begun" if come.taken else "waiting")


def _fit(opened: RunView) -> Stage:
    fit = opened.fit
    if fit is None:
        return Stage("fit", "Fit", "nothing to fit", "waiting")
    if not fit.made:
        ready = len(fit.rows)
        return Stage("fit", "Fit", f"{counted(ready, 'row')} ready" if ready else "no rows yet", "waiting")
    body = opened.definition.fits[fit.name]
    series = opened.program.fits[fit.name].series
    doubts = [f for f in opened.findings if f.level != "note" and (f.fit == fit.name or f.series == series)]
    across = f" against {one_line(body.x)}" if body.x else ""
    good = "straight" if "intercept" in fit.parameters else "fits"
    word = "check the fit" if doubts else good if len(fit.rows) > 3 else f"{len(fit.rows)} points"
    return Stage(
        "fit",
        "Fit",
        f"{one_line(body.y)}{across}, {word}",
        "begun" if doubts else "done",
    )


def _result(opened: RunView) -> Stage:
    result = opened.result
    if result is None or result.reason:
        return Stage("result", "Result", "not yet", "waiting")
    verdict = opened.verdict(result)
    value = result.measured(opened.analysis.rules.rounding)
    # The rail stands on every page and after every save: it waits for no distribution to be drawn.
    line = value.bare() if result.linear else significant(value.number, 2)
    if math.isfinite(verdict.percent):
        line += f", {percent(verdict.percent)}\u00a0%"
    doubts = any(f.level != "note" for f in opened.findings)
    good = verdict.kind in ("agrees", "none", "side") and not doubts
    return Stage("result", "Result", line, "done" if good else "begun")


def _report(opened: RunView) -> Stage:
    signed = max((int(slot.partition(":")[2]) for slot in opened.state.latest if slot.startswith("signed:")), default=0)
    if not signed and not any(opened.state.run.report.values()):
        return Stage("report", "Report", "not started", "waiting")
    written = drafts.parts(opened).values()
    missing, open_drafts = sum(not p.text for p in written), sum(bool(p.text) and not p.own for p in written)
    own = len(written) - missing - open_drafts
    if signed:
        given = opened.state.marking.get(f"{signed}.given", {}).get("on")
        return Stage("report", "Report", f"version {signed} {'returned' if given else 'submitted'}", "done")
    if not own:
        return Stage("report", "Report", "not started", "waiting")
    left = [counted(open_drafts, "draft") if open_drafts else "", f"{missing} missing" if missing else ""]
    line = ", ".join(part for part in left if part) or "written"
    return Stage("report", "Report", line, "begun" if missing or open_drafts else "done")


STAGES = (_plan, _measure, _fit, _result, _report)
"""The rail, in the order of the work; the key of each is the name of its page."""
