"""What Result shows: each result on its number line, the verdict in words, and where the uncertainty comes from."""

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from cavrel.core.analysis import ResultAnalysis
from cavrel.core.analysis.distribution import summarise
from cavrel.core.analysis.montecarlo import drawn
from cavrel.core.document import result_document
from cavrel.core.findings.predicted import predicted
from cavrel.core.findings.verdict import rests_on
from cavrel.core.quantity.rounding import percent, significant
from cavrel.core.quantity.value import amount_text
from cavrel.core.words import counted
from cavrel.graph import numberline, shape
from cavrel.present import (
    graphs,
    notes,
    other_ways,
    part_corrections,
    result_lines,
    row_comparison,
    standard_check,
    suspects,
)
from cavrel.present.notes import Note
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView

Others = Sequence[tuple[str, dict[str, Any]]]
"""(label, results by name) of the other benches, each result with value, u and dimension in SI."""


def _others(others: Others, result: ResultAnalysis) -> list[tuple[str, float, float]]:
    """The same result from the other benches of the course, as (label, value, u)."""
    found = []
    for label, known in others:
        same = known.get(result.name)
        if same is not None and same["dimension"] == result.unit.dimension.si():
            found.append((label, float(same["value"]), float(same["u"])))
    return found


def _card(opened: RunView, result: ResultAnalysis, others: Others) -> dict[str, Any]:
    """Everything the page says of one result."""
    body = opened.definition.results[result.name]
    verdict = opened.verdict(result)
    value = result.measured(opened.analysis.rules.rounding)
    lines: list[dict[str, Any]] = []
    for source in result.budget:
        if len(lines) == 6 or (lines and source.share < 5e-4):
            break
        lines.append(
            {
                "source": source.source,
                "share": source.share,
                "percent": _share(source.share),
                "bar": numberline.bar(source.share),
                "halved": f"if halved: {value.uncertainty(source.u_if_halved)}" if source.share >= 0.1 else "",
            }
        )
    fitted = [fit for fit in opened.analysis.fits.values() if fit.made and rests_on(opened.analysis, result, fit.name)]
    factor = significant(result.coverage_factor, 3) if math.isfinite(result.coverage_factor) else ""
    freedom = (
        counted(round(result.dof), "degree", "degrees") + " of freedom"
        if math.isfinite(result.dof) and result.dof < 200
        else "many degrees of freedom"
    )
    return {
        "name": result.name,
        "body": body,
        "result": result,
        "verdict": verdict,
        "number": value.bare() if result.spread is None else value.digits(result.spread),
        "unit": result.unit.pretty,
        "line": _line(opened, result, _others(others, result)),
        "alone": verdict.kind == "none" and result.accepted is None,
        "budget": lines,
        "rest": len(result.budget) - len(lines),
        "improve": _improve(opened, result),
        "interval": value.interval(*result.interval),
        "combined": _combined(opened, result),
        "basis": _basis(opened, result, max((len(fit.rows) for fit in fitted), default=0)),
        "k": factor,
        "freedom": freedom,
        "percent": percent(verdict.percent) if math.isfinite(verdict.percent) else "",
        "percent_name": verdict.percent_name,
        "predicted": _predicted(opened, result),
        "otherwise": row_comparison.found(opened).get(result.name, ""),
        "ways": other_ways.ways(opened, result.name) if result.name in _answers(opened) else [],
        "reconciled": other_ways.reconciling(opened, result),
        "z": f"{verdict.z:+.1f}".replace("-", "−") if math.isfinite(verdict.z) else "",
    }


def _answers(opened: RunView) -> tuple[str, ...]:
    """The results that answer the aim."""
    return opened.definition.answers or opened.definition.led[:1]


def _predicted(opened: RunView, result: ResultAnalysis) -> dict[str, str] | None:
    """What the bench predicted of it in Plan, marked; None where it predicted nothing."""
    text = opened.state.run.plan.foreseen.get(result.name)
    if not text:
        return None
    found = predicted(text, result, opened.analysis.rules.acceptable)
    word = {"right": "As predicted", "wrong": "Not as predicted", "close": "Too close to tell", "open": ""}[found.kind]
    return {"text": text, "kind": found.kind, "word": word, "say": found.say}


def _basis(opened: RunView, result: ResultAnalysis, rows: int) -> str:
    """What a result rests on, counted."""
    seen = [opened.analysis.values[key] for key in opened.program.needs[result.name]]
    taken = sum(int(values.trials.sum()) for values in seen if values.trials is not None)
    readings = counted(taken, "reading")
    return f"from {counted(rows, 'row')}, {readings}" if rows else f"from {readings}"


def _line(opened: RunView, result: ResultAnalysis, others: list[tuple[str, float, float]]) -> str | None:
    """The number line, where there is anything to stand next to the value."""
    if result.reason:
        return None
    if result.accepted is None and not others and not graphs.has_company(opened, result.name):
        return None
    return graphs.number_line(opened, result, others)


def _share(share: float) -> str:
    return f"{100 * share:.0f}" if share >= 0.095 else f"{100 * share:.1f}" if share >= 0.00095 else "<0.1"


def _combined(opened: RunView, result: ResultAnalysis) -> str:
    """How a mean of other results weighs them, in words; empty for any other result."""
    if len(result.weights) < 2:
        return ""
    shares = [
        f"{opened.definition.results[name].label} {100 * weight:.0f} %" for name, weight in result.weights.items()
    ]
    if max(result.weights.values()) - min(result.weights.values()) < 1e-9:
        why = (
            "by house rule"
            if opened.analysis.rules.combine == "plain"
            else "because they differ by more than their uncertainties"
        )
        return f"Unweighted mean, {why}."
    return f"Weighted mean: {', '.join(shares)}."


def _empty_trials(opened: RunView, key: str) -> int:
    """Trials ruled but not taken, in rows of a column that were begun."""
    values = opened.analysis.values.get(key)
    spec = opened.program.input_of.get(key)
    if values is None or values.trials is None or spec is None or spec.series is None:
        return 0
    ruled = opened.state.trials.get(key, 1)
    return sum(max(ruled - taken, 0) for taken in values.trials.tolist() if taken)


def _improve(opened: RunView, result: ResultAnalysis) -> str:
    """What to do first, in a sentence."""
    if not result.budget:
        return ""
    first = result.budget[0]
    gain = result.measured(opened.analysis.rules.rounding).uncertainty(first.u_if_halved)
    sentence = f"{first.source[0].upper()}{first.source[1:]} contributes {_share(first.share)} % of u². Halving it would give {gain}."
    empty = _empty_trials(opened, first.subject) if first.kind in ("repeatability", "reaction") else 0
    if empty:
        sentence += f" Start with the {counted(empty, 'trial')} still empty in the table."
    elif first.kind in ("repeatability", "reaction"):
        sentence += " That takes four times as many trials, or twice the count in each timing."
    elif first.kind == "placement":
        sentence += " That takes the mean of four separate placements."
    elif first.kind == "counting":
        sentence += " That takes counting four times as long."
    elif first.kind == "resolution":
        sentence += " That takes a finer scale, or a larger object."
    elif first.kind in ("zero", "calibration"):
        sentence += " Repeating does not help; calibrating the instrument against a better one does."
    elif first.kind == "scatter":
        sentence += " That takes four times as many rows; finding what makes them scatter helps more."
    return sentence


def notes_of(opened: RunView) -> list[Note]:
    """The margin."""
    found = []
    for finding in notes.findings(opened, ("disagrees", "doubtful"), "caution"):
        note = notes.of_finding(finding)
        found.append(replace(note, acts=tuple(a for a in note.acts if a.act != "go")))
    small = []
    for name, result in opened.analysis.results.items():
        verdict = opened.verdict(result)
        if verdict.kind == "agrees" and abs(verdict.percent) < opened.analysis.rules.acceptable:
            apart = f"{percent(abs(verdict.percent))} % {'difference' if verdict.measured else 'off'}"
            small.append(f"{opened.definition.results[name].label} {apart}")
    if small:
        limit = significant(opened.analysis.rules.acceptable, 2)
        text = (
            f"{'; '.join(small)}. That is acceptable in a first course. Whether it agrees depends on the uncertainty."
        )
        found.append(Note(tone="good", title=f"Under {limit} %", text=text))
    return [*found, *notes.left_out(opened), *notes.notes_of_bench(opened)]


@optional("the predictions", list)
def _predictions(opened: RunView) -> list[dict[str, str]]:
    """Values predicted from the fits, each with the interval of one more reading."""
    found = []
    for name, seen in opened.analysis.predictions.items():
        body, unit = opened.definition.predict[name], seen.unit
        x_unit = opened.program.fits[body.fit].x_unit
        text, interval, at = "", "", ""
        if not seen.reason:
            text = opened.analysis.measured(seen.value, seen.u, unit).text()
            low, high = (significant(unit.from_si(v), 4) for v in (seen.low, seen.high))
            interval = f"{low} to {high} {unit.pretty}"
            at = amount_text(seen.x, x_unit, 4)
        found.append(
            {
                "label": body.label,
                "text": text,
                "interval": interval,
                "at": at,
                "outside": "outside the measured range" if seen.outside else "",
                "waits": seen.reason,
            }
        )
    return found


SHAPE_DRAWS = 50_000


@optional("the distribution", lambda: None)
def _shape(opened: RunView, name: str) -> dict[str, str] | None:
    """The distribution of one result, drawn from its readings'; None where it has no value."""
    result = opened.analysis.results.get(name)
    if result is None or result.reason:
        return None
    draws = drawn(opened.analysis, SHAPE_DRAWS, only={name})[name]
    found = summarise(opened.analysis, name, draws)
    if not math.isfinite(found.mean):
        return None
    unit, good = result.unit, draws[np.isfinite(draws)]
    ends = unit.from_si(found.low95), unit.from_si(found.high95)
    picture = shape.shape(
        unit.from_si(good),
        unit.from_si(result.value),
        result.u / unit.factor,
        ends,
        unit.pretty,
        f"How often {counted(SHAPE_DRAWS, 'draw')} give each value of {opened.definition.results[name].label}",
    )
    measured = opened.analysis.measured(found.mean, found.u, unit)
    says = (
        f"{SHAPE_DRAWS:,} draws of all readings from their distributions: {measured.text()}, 95 % in "
        f"{measured.interval(found.low95, found.high95)}. "
    ).replace(",", "\u2009", 1)
    if not result.linear:
        says += "The formula is not linear over these uncertainties: quote this interval rather than a ±."
    elif found.agrees:
        says += "The law of propagation agrees (dashed)."
    else:
        says += "The law of propagation (dashed) differs in the tails: use the distribution."
    return {"name": name, "drawn": picture, "says": says}


def content(opened: RunView, others: Others, wanted: str = "") -> dict[str, Any]:
    """What the page shows within its frame. ``wanted``: the result whose distribution is drawn, empty for none."""
    mistakes = suspects.cards(opened)  # sought before any verdict is given
    lines = {one.name: one for one in result_lines.overview(opened)}
    results = opened.analysis.results
    return {
        "cards": [
            _card(opened, results[name], others) | {"glance": lines[name]}
            for name in opened.definition.led
            if name in results
        ],
        "predictions": _predictions(opened),
        "carried": part_corrections.cards(opened),
        "held": standard_check.held(opened),
        "suspects": mistakes,
        "doubt": suspects.doubt(opened),
        "shape": _shape(opened, wanted) if wanted else None,
    }


def data(opened: RunView) -> dict[str, Any]:
    """The results as data."""
    whole = result_document(opened.analysis, opened.findings, opened.suspected.suspects, opened.meanings)
    shown = {k: whole[k] for k in ("results", "flags", "slips")}
    return {"title": opened.run.title, "bench": opened.run.bench, **shown, "carried": part_corrections.data(opened)}
