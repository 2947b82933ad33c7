"""Judge: the number line, the verdict, and where the uncertainty comes from."""

import math
from typing import Any

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue
from markupsafe import Markup

from cavrel.core.analysis import ResultAnalysis
from cavrel.core.document import result_document, result_text
from cavrel.core.judge import judge
from cavrel.core.rounding import percent, significant, with_u
from cavrel.graph import numberline
from cavrel.store import runs as run_store
from cavrel.store.pool import transaction
from cavrel.web import graphs, margin, results
from cavrel.web.margin import Note
from cavrel.web.opened import Opened, open_in
from cavrel.web.shared import frame, opened_or_404, pool, stage_page
from cavrel.web.stages import readings
from cavrel.web.texts import count

pages = Blueprint("judge", __name__)


def _others(opened: Opened, result: ResultAnalysis) -> list[tuple[str, float, float]]:
    """The same result from the other benches of the course, as (label, value, u)."""
    found = []
    with transaction(pool()) as connection:
        for run in run_store.of_course(connection, opened.run.course):
            if run.id == opened.run.id or run.experiment != opened.run.experiment:
                continue
            other = open_in(connection, run.id)
            same = other.analysis.results.get(result.name) if other else None
            if same is not None and not same.reason and same.u > 0 and same.unit.dimension == result.unit.dimension:
                found.append((f"bench {run.bench}", same.value, same.u))
    return found


def _card(opened: Opened, result: ResultAnalysis) -> dict[str, Any]:
    """Everything the page says of one result."""
    body = opened.definition.results[result.name]
    verdict = judge(opened.analysis, result)
    unit, rule = result.unit, opened.analysis.rules.rounding
    text = result_text(opened.analysis, result)
    number, _, shown_unit = text.partition("\u2009")
    low, high = unit.from_si(result.value - result.U95), unit.from_si(result.value + result.U95)
    lines = []
    for source in result.budget:
        if len(lines) == 6 or (lines and source.share < 5e-4):
            break
        halved = with_u(unit.from_si(result.value), source.u_if_halved / unit.factor, unit.text, rule)
        lines.append(
            {
                "source": source.source,
                "share": source.share,
                "percent": _share(source.share),
                "bar": Markup(numberline.bar(source.share)),
                "halved": f"halved: ± {halved.partition('±')[2].strip()}"
                if source.share >= 0.1 and "±" in halved
                else "",
            }
        )
    factor = significant(result.k95, 3) if math.isfinite(result.k95) else ""
    freedom = (
        f"{result.dof:.0f} degrees of freedom"
        if math.isfinite(result.dof) and result.dof < 200
        else "many degrees of freedom"
    )
    decimals = max(len(number.partition("±")[0].strip().partition(".")[2]), 0)
    return {
        "name": result.name,
        "body": body,
        "result": result,
        "verdict": verdict,
        "number": number,
        "unit": shown_unit,
        "line": _line(opened, result),
        "alone": verdict.kind == "none" and result.accepted is None,
        "budget": lines,
        "rest": len(result.budget) - len(lines),
        "improve": _improve(result, rule),
        "low": f"{low:.{decimals}f}".replace("-", "−"),
        "high": f"{high:.{decimals}f}".replace("-", "−"),
        "k": factor,
        "freedom": freedom,
        "percent": percent(verdict.percent_error) if math.isfinite(verdict.percent_error) else "",
        "z": f"{verdict.z:+.1f}".replace("-", "−") if math.isfinite(verdict.z) else "",
    }


def _line(opened: Opened, result: ResultAnalysis) -> Markup | None:
    """The number line, where there is anything to stand beside the value."""
    if result.reason:
        return None
    others = _others(opened, result)
    if result.accepted is None and not others and not graphs.has_company(opened, result.name):
        return None
    return graphs.judged(opened, result, others)


def _share(share: float) -> str:
    return f"{100 * share:.0f}" if share >= 0.095 else f"{100 * share:.1f}" if share >= 0.00095 else "<0.1"


def _improve(result: ResultAnalysis, rule: str) -> str:
    """What to do first, in a sentence."""
    if not result.budget:
        return ""
    first = result.budget[0]
    unit = result.unit
    gain = (
        with_u(unit.from_si(result.value), first.u_if_halved / unit.factor, unit.text, rule).partition("±")[2].strip()
    )
    sentence = f"{first.source[0].upper()}{first.source[1:]} makes {_share(first.share)} % of u². Halve it and the result is known to ± {gain}."
    if first.kind in ("repeatability", "reaction"):
        sentence += " Four times the trials do that, or twice the count in each timing where one is timed."
    elif first.kind in ("resolution", "placement"):
        sentence += " A finer scale does that, or a larger thing to measure."
    elif first.kind in ("zero", "calibration"):
        sentence += " Repeating does not help; checking the instrument against a better one does."
    elif first.kind == "scatter":
        sentence += " More rows help slowly; finding what makes them scatter helps more."
    return sentence


def _notes(opened: Opened) -> list[Note]:
    notes = []
    for slip in opened.slips:
        flag = next(f for f in opened.flags if f.at == slip.at)
        acts = margin.of_flag(flag).acts
        moved = f"With it: {slip.before}. Without it: {slip.after}."
        notes.append(
            Note("suspect", flag.title, f"{slip.say} {moved}", slip.at, tuple(a for a in acts if a.act != "go") or acts)
        )
    notes += [margin.of_flag(flag) for flag in opened.flags if flag.code in ("apart", "extrapolated")]
    for index, holds in opened.analysis.checks.items():
        check = opened.definition.checks[index]
        if holds is False and check.level != "note":
            notes.append(Note("caution", "Against the rule", check.say, check.at))
    if opened.analysis.rules.acceptable and opened.result is not None and not opened.result.reason:
        error = judge(opened.analysis, opened.result).percent_error
        if math.isfinite(error) and abs(error) < opened.analysis.rules.acceptable:
            limit = significant(opened.analysis.rules.acceptable, 2)
            notes.append(
                Note(
                    "good",
                    f"Under {limit} %",
                    f"{percent(abs(error))} % off counts as acceptable in a first course. "
                    "It says nothing about agreement: that is for the uncertainty.",
                )
            )
    return [*notes, *margin.left_out(opened), *margin.remarks_of_bench(opened)]


def _predictions(opened: Opened) -> list[dict[str, str]]:
    """Values foretold from the fits, each with the interval of one more reading."""
    found = []
    for name, seen in opened.analysis.predictions.items():
        body, unit = opened.definition.predict[name], seen.unit
        x_unit = opened.program.fits[body.fit].x_unit
        text, interval, at = "", "", ""
        if not seen.reason:
            rule = opened.analysis.rules.rounding
            text = with_u(unit.from_si(seen.value), seen.u / unit.factor, unit.text, rule)
            low, high = (significant(unit.from_si(v), 4) for v in (seen.low, seen.high))
            interval = f"{low} to {high} {unit.pretty}"
            at = f"{significant(seen.x, 4)} {x_unit.pretty}".strip()
        found.append(
            {
                "label": body.label,
                "text": text,
                "interval": interval,
                "at": at,
                "outside": "outside what was measured" if seen.outside else "",
                "waits": seen.reason,
            }
        )
    return found


def _content(opened: Opened) -> dict[str, Any]:
    taken, _ = readings(opened)
    rows = len(opened.fit.rows) if opened.fit else 0
    every = results.overview(opened)
    return {
        "cards": [_card(opened, r) for r in opened.analysis.results.values()],
        "results": every if len(every) > 1 else [],
        "predictions": _predictions(opened),
        "basis": f"from {count(rows, 'row')}, {count(taken, 'reading')}" if rows else f"from {count(taken, 'reading')}",
    }


@pages.get("/runs/<int:run>/judge")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page("judge/page.html", opened, "judge", _notes(opened), **_content(opened))


@pages.get("/runs/<int:run>/judge.json")
def twin(run: int) -> ResponseReturnValue:
    """The results as data."""
    opened = opened_or_404(run)
    whole = result_document(opened.analysis, opened.flags, opened.slips, opened.meanings)
    return jsonify(
        title=opened.run.title,
        bench=opened.run.bench,
        results=whole["results"],
        flags=whole["flags"],
        slips=whole["slips"],
    )


def follow(opened: Opened) -> str:
    """What changes on the page after a save."""
    return render_template("judge/follow.html", **frame(opened, "judge", _notes(opened)), **_content(opened))
