"""The report of a run: every number live from the analysis, every text the bench's own or marked as a draft, every gap said."""

import math
from dataclasses import dataclass
from typing import Any

from cavrel.catalogue import pictures
from cavrel.core.findings.foretold import foretold
from cavrel.core.findings.judge import judged
from cavrel.core.formula import mathml
from cavrel.core.formula.parse import parse_law
from cavrel.core.logbook import in_force
from cavrel.core.logbook.kinds.reporting import SECTIONS
from cavrel.core.quantity.rounding import percent
from cavrel.core.words import counted
from cavrel.present import gauges, graphs, notes, texts, worked
from cavrel.service.opened import Opened


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """A part that is written.

    ``name``: of the part.
    ``title``: its heading.
    ``text``: the bench's own, else the draft; empty where there is neither.
    ``draft``: what Cavrel would write, empty where it knows nothing.
    ``own``: the bench wrote it or took the draft.
    ``asks``: what belongs here, where nothing stands.
    """

    name: str
    title: str
    text: str
    draft: str
    own: bool
    asks: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Ruled:
    """A table as it is printed. ``head``: (what, unit) of each column; ``rows``: texts; ``out``: rows left out, with the reason, by number."""

    caption: str
    head: list[tuple[str, str]]
    rows: list[list[str]]
    out: dict[int, str]


_ASKS = {
    "aim": "What was to be found out, in a sentence.",
    "theory": "The law and what it foretells.",
    "procedure": "What was done, as commands, and where it departed from the plan.",
    "discussion": "What the numbers mean: how they compare, what the budget says, what the graph shows.",
    "errors": "What may have gone wrong, judged by its share of the uncertainty.",
    "precautions": "What was done to keep readings sound.",
    "conclusion": "The result in a sentence, and whether to believe it.",
}


def parts(opened: Opened) -> dict[str, Part]:
    """Every written part by its name, answers to the questions included."""
    drafts = _drafts(opened)
    said = opened.state.run.report
    found = {}
    for name, title in SECTIONS.items():
        found[name] = Part(
            name=name,
            title=title,
            text=said.get(name, drafts.get(name, "")),
            draft=drafts.get(name, ""),
            own=name in said,
            asks=_ASKS[name],
        )
    for i, question in enumerate(opened.definition.questions):
        name = f"answer.{i}"
        found[name] = Part(
            name=name,
            title=question.ask,
            text=said.get(name, ""),
            draft="",
            own=name in said,
            asks="Answer in a few sentences.",
        )
    return found


def _drafts(opened: Opened) -> dict[str, str]:
    """What Cavrel would write: from the definition, the logbook and the analysis, and never more than they know."""
    definition = opened.definition
    return {
        "aim": definition.aim,
        "theory": definition.theory,
        "procedure": _procedure(opened),
        "errors": _errors(opened),
        "precautions": " ".join(p.say for p in definition.precautions),
        "discussion": _discussion(opened),
        "conclusion": _conclusion(opened),
    }


def _procedure(opened: Opened) -> str:
    lines = [f"{i}. {step.do}" for i, step in enumerate(opened.definition.steps, 1)]
    departed = deviations(opened)
    if departed:
        lines += ["", "Departures from the plan: " + "; ".join(departed) + "."]
    return "\n".join(lines)


def deviations(opened: Opened) -> list[str]:
    """What was left out or corrected, as clauses."""
    found = []
    for slot, entry in opened.state.left_out.items():
        reason = str(in_force(entry)[1].get("reason", ""))
        where = notes.where(opened, slot)
        found.append(
            f"{where[0].lower()}{where[1:]} left out ({reason})"
            if reason
            else f"{where[0].lower()}{where[1:]} left out"
        )
    for slot, correction in opened.state.corrections.items():
        where = notes.where(opened, slot)
        why = f" ({correction.reason})" if correction.reason else ", no reason given"
        found.append(f"{where[0].lower()}{where[1:]} corrected to {correction.text or 'nothing'}{why}")
    return found


def _errors(opened: Opened) -> str:
    lines = []
    result = opened.result
    if result is not None and not result.reason and result.budget:
        shares = [f"{s.source} ({100 * s.share:.0f} %)" for s in result.budget[:3] if s.share > 0.01]
        if shares:
            lines.append(f"Most of the uncertainty of {_label(opened, result.name)} comes from {_and(shares)}.")
    lines += [e.say for e in opened.definition.error_sources]
    return " ".join(lines)


def _discussion(opened: Opened) -> str:
    said = []
    for name, result in opened.analysis.results.items():
        if result.reason:
            continue
        verdict = judged(opened.analysis, result, opened.findings)
        if verdict.kind != "none":
            said.append(f"{opened.definition.results[name].label}: {verdict.head} {verdict.text}")
    return "\n".join(said)


def _conclusion(opened: Opened) -> str:
    result = opened.result
    if result is None or result.reason:
        return ""
    verdict = judged(opened.analysis, result, opened.findings)
    value = result.measured(opened.analysis.rules.rounding).text()
    beside = "what this run says in another way" if verdict.measured else "the accepted value"
    ends = {
        "agrees": f"It agrees with {beside} within its uncertainty.",
        "wide": "It agrees, but it is too uncertain for that to mean much.",
        "doubtful": "Whether it agrees remains in doubt.",
        "disagrees": "It does not agree with the value beside it; something systematic remains.",
    }
    return f"{opened.definition.results[result.name].label} comes out as {value}. {ends.get(verdict.kind, '')}".strip()


def _label(opened: Opened, name: str) -> str:
    label = opened.definition.results[name].label
    return label[0].lower() + label[1:]


def _and(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def tables(opened: Opened) -> list[Ruled]:
    """Every table that holds a reading, with captions and units: what was typed, and what is computed from it."""
    found = []
    for number, (name, body) in enumerate(opened.definition.series.items(), 1):
        entries = {e.spec.key: e for e in opened.analysis.sheet.inputs}
        head: list[tuple[str, str]] = [("", "")]
        columns: list[list[str]] = []
        count = opened.analysis.sheet.rows[name]
        for column, described in body.columns.items():
            key = f"{name}.{column}"
            values = opened.analysis.values[key]
            entry = entries.get(key)
            label, unit = described.label, values.unit.pretty
            if entry is not None:
                for trial in range(1, entry.values.shape[1] + 1):
                    head.append((label if trial == 1 else f"trial {trial}", unit))
                    columns.append(
                        [
                            entry.readings[r, trial].text if (r, trial) in entry.readings else ""
                            for r in range(1, count + 1)
                        ]
                    )
                if entry.values.shape[1] < 2:
                    continue
                label = "mean"
            places = texts.decimals(values)
            head.append((label, unit))
            columns.append(
                [_with_u(texts.cell(values, r, places), texts.u_cell(values, r, places)) for r in range(count)]
            )
        rows = [[str(r + 1), *(column[r] for column in columns)] for r in range(count)]
        rows = [row for row in rows if any(row[1:])]
        if rows:
            found.append(
                Ruled(
                    caption=f"Table {number}. {body.label}",
                    head=head,
                    rows=rows,
                    out=opened.analysis.run.left_out_rows(name),
                )
            )
    return found


def _with_u(value: str, u: str) -> str:
    return f"{value} ± {u}" if value and u else value


def _quantities(opened: Opened) -> list[tuple[str, str]]:
    found = []
    for name, body in opened.definition.quantities.items():
        values = opened.analysis.values[name]
        value, u = float(values.value[0]), float(values.u[0])
        if math.isfinite(value):
            found.append((body.label, opened.analysis.measured(value, u, values.unit).text()))
    return found


def _figures(opened: Opened) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    for name, fit in opened.analysis.fits.items():
        if not fit.made or opened.definition.fits[name].x is None:
            continue
        x, y = graphs.fit_axes(opened, fit)
        drawn = graphs.straightened(opened, fit)
        found.append(
            {
                "caption": f"Figure {len(found) + 1}. {y.word or y.symbol} against {x.word or x.symbol}",
                "drawn": drawn.line,
                "steps": worked.steps(opened, fit),
                "parameters": [
                    (p, opened.analysis.measured(found_.value, found_.u, found_.unit).text())
                    for p, found_ in fit.parameters.items()
                    if math.isfinite(found_.value)
                ],
            }
        )
    return found


def _results(opened: Opened) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    for name, result in opened.analysis.results.items():
        body = opened.definition.results[name]
        if result.reason:
            found.append({"name": name, "label": body.label, "missing": result.reason})
            continue
        verdict = judged(opened.analysis, result, opened.findings)
        other = result.accepted
        said = opened.state.run.plan.foreseen.get(name, "")
        came = foretold(said, result, opened.analysis.rules.acceptable) if said else None
        found.append(
            {
                "name": name,
                "label": body.label,
                "method": body.method,
                "text": result.measured(opened.analysis.rules.rounding).text(),
                "beside": opened.analysis.measured(other.value, other.u, result.unit).text()
                if other is not None
                else "",
                "source": other.source if other is not None else "",
                "percent": f"{percent(verdict.percent)} %" if math.isfinite(verdict.percent) else "",
                "percent_name": verdict.percent_name,
                "verdict": verdict,
                "budget": [
                    (s.source, f"{100 * s.share:.0f} %" if s.share >= 0.095 else f"{100 * s.share:.1f} %")
                    for s in result.budget[:5]
                    if s.share >= 1e-3
                ],
                "foreseen": said,
                "came": came.say if came is not None else "",
            }
        )
    return found


def content(opened: Opened) -> dict[str, Any]:
    """Everything the report shows."""
    definition = opened.definition
    written = parts(opened)
    law = ""
    if definition.law:
        left, right = parse_law(definition.law)
        law = mathml.math(f"{mathml.row(left)}<mo>=</mo>{mathml.row(right)}")
    missing = [p.title for p in written.values() if not p.text]
    drafts = [p.title for p in written.values() if p.text and not p.own]
    done = {place for place, tick in opened.state.ticks.items() if in_force(tick)[0] == "tick"}
    return {
        "parts": written,
        "answers": [written[f"answer.{i}"] for i in range(len(definition.questions))],
        "law": law,
        "apparatus": list(definition.apparatus),
        "instruments": [(g["label"], g["least_count"], g["says"], g["reads"]) for g in gauges.instruments(opened)],
        "cautions": [(c.say, f"caution.{i}" in done) for i, c in enumerate(definition.cautions)],
        "drawing": pictures.drawing(definition.id, opened.state.run.options),
        "circuit": pictures.drawing(definition.id, opened.state.run.options, "circuits"),
        "quantities": _quantities(opened),
        "tables": tables(opened),
        "figures": _figures(opened),
        "results": _results(opened),
        "departures": deviations(opened),
        "missing": missing,
        "drafts": drafts,
        "basis": _basis(opened),
    }


def _basis(opened: Opened) -> str:
    """What the report rests on, for its foot."""
    entries = counted(len(opened.entries), "entry of the logbook", "entries of the logbook")
    return f"{entries}; definition {opened.run.hash[:12]}; coverage 95 %."


def data(opened: Opened) -> dict[str, Any]:
    """The report's texts as data."""
    return {
        "title": opened.run.title,
        "bench": opened.run.bench,
        "parts": [
            {"name": p.name, "title": p.title, "text": p.text, "own": p.own, "draft": p.draft}
            for p in parts(opened).values()
        ],
        "departures": deviations(opened),
    }
