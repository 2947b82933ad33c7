"""The rail: the stages of one run, each with a live line of its state."""

import math
from dataclasses import dataclass

from cavrel.core.findings.judge import judge
from cavrel.core.logbook.progress import progress
from cavrel.core.quantity.rounding import percent
from cavrel.core.words import counted
from cavrel.present.texts import one_line
from cavrel.service.opened import Opened


@dataclass(frozen=True, slots=True)
class Stage:
    """``state``: done, begun, or waiting; ``line``: its state in words."""

    key: str
    title: str
    line: str
    state: str


def stages(opened: Opened) -> list[Stage]:
    """The stages that exist, in the order of the work."""
    come = progress(opened.state)
    measure = Stage(
        "measure",
        "Measure",
        f"{come.taken} of {counted(come.wanted, 'reading')}",
        "done" if come.done else "begun" if come.taken else "waiting",
    )
    return [measure, _straighten(opened), _judge(opened)]


def _straighten(opened: Opened) -> Stage:
    fit = opened.fit
    if fit is None:
        return Stage("straighten", "Straighten", "nothing to fit", "waiting")
    if not fit.made:
        ready = len(fit.rows)
        return Stage("straighten", "Straighten", f"{counted(ready, 'row')} ready" if ready else "too early", "waiting")
    body = opened.definition.fits[fit.name]
    series = opened.program.fits[fit.name].series
    about = (f"fits.{fit.name}", f"{series}.")
    doubts = [f for f in opened.findings if f.level != "note" and f.at.startswith(about)]
    across = f" against {one_line(body.x)}" if body.x else ""
    good = "straight" if "intercept" in fit.parameters else "fits"
    word = "look again" if doubts else good if len(fit.rows) > 3 else f"{len(fit.rows)} points"
    return Stage(
        "straighten",
        "Straighten",
        f"{one_line(body.y)}{across}, {word}",
        "begun" if doubts else "done",
    )


def _judge(opened: Opened) -> Stage:
    result = opened.result
    if result is None or result.reason:
        return Stage("judge", "Judge", "too early", "waiting")
    verdict = judge(opened.analysis, result)
    line = result.measured(opened.analysis.rules.rounding).bare()
    if math.isfinite(verdict.percent):
        line += f", {percent(verdict.percent)}\u00a0%"
    doubts = any(f.level != "note" and f.at.startswith("results.") for f in opened.findings)
    good = verdict.kind in ("agrees", "none", "side") and not doubts
    return Stage("judge", "Judge", line, "done" if good else "begun")
