"""The report of a run: every number live from the analysis, every text the bench's own or marked as a draft, every gap said.

What it holds is plain data, so that a signed one can be kept as it was and shown again by the same templates.
"""

import math
from dataclasses import asdict
from typing import Any

from cavrel import __version__
from cavrel.catalogue import pictures
from cavrel.core.findings.predicted import predicted
from cavrel.core.formula import mathml
from cavrel.core.formula.parse import parse_law
from cavrel.core.formula.text import typeset
from cavrel.core.logbook import effective
from cavrel.core.logbook.run import traces as trials_of
from cavrel.core.quantity.rounding import percent
from cavrel.core.slips.cards import place
from cavrel.core.words import counted
from cavrel.graph.points import enlarged
from cavrel.present import derivation_steps, gauges, graphs, row_comparison, standard_check, texts, traces
from cavrel.present.departures import deviations
from cavrel.present.drafts import parts
from cavrel.present.print_tables import Ruled, quantities, tables
from cavrel.service.run_view import RunView

SIMULATED = "Simulated readings."
ON_PAPER = 340.0, 320.0
"""Width and height of a graph whose letters are as large as the text when two of it stand side by side on a page."""


def caption(opened: RunView, text: str) -> str:
    """A caption, which says where its readings come from when that is no apparatus."""
    return f"{text.rstrip('.')}. {SIMULATED}" if opened.simulated else text


def _plain(opened: RunView, table: Ruled) -> dict[str, Any]:
    return {
        "caption": caption(opened, table.caption),
        "head": [list(h) for h in table.head],
        "names": {str(i): list(name) for i, name in table.letters.items() if table.head[i][0] != "mean"},
        "rows": table.rows,
        "out": {str(n): reason for n, reason in table.out.items()},
        "formulas": [list(pair) for pair in table.formulas],
        "letters": sum(max(len(row[i]) for row in table.rows) for i in range(len(table.head))),
    }


def _held(opened: RunView) -> list[dict[str, Any]]:
    """What is compared with a standard, as tables of the report."""
    return [
        {
            "caption": caption(opened, f"{h.label}. {h.says}"),
            "head": [
                ["", ""],
                ["standard", h.unit],
                ["measured", h.unit],
                ["standard − measured", h.unit],
                ["difference", "%"],
            ]
            + ([["limit", ""]] if h.limit else []),
            "rows": [list(row[:5]) + ([row[5]] if h.limit else []) for row in h.rows],
            "out": {},
        }
        for h in standard_check.held(opened)
    ]


def _figures(opened: RunView) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    for name, fit in opened.analysis.fits.items():
        if not fit.made or opened.definition.fits[name].x is None:
            continue
        x, y = graphs.fit_axes(opened, fit)
        drawn = graphs.fit_graphs(opened, fit, size=ON_PAPER)
        found.append(
            {
                "caption": caption(
                    opened, f"Figure {len(found) + 1}. {y.word or y.symbol} against {x.word or x.symbol}"
                ),
                "drawn": drawn.line,
                "enlarged": enlarged(drawn.times),
                "steps": [[says, text] for says, text in derivation_steps.steps(opened, fit)],
                "parameters": [
                    [mathml.math(mathml.name(p)), opened.analysis.measured(found_.value, found_.u, found_.unit).text()]
                    for p, found_ in fit.parameters.items()
                    if math.isfinite(found_.value)
                ],
            }
        )
    return found


def results(opened: RunView) -> list[dict[str, Any]]:
    """Every result with its comparison, budget and what was predicted, or why it has no value."""
    found: list[dict[str, Any]] = []
    for name, result in opened.analysis.results.items():
        body = opened.definition.results[name]
        if result.reason:
            found.append({"name": name, "label": body.label, "missing": result.reason})
            continue
        verdict = opened.verdict(result)
        other = result.accepted
        said = opened.state.run.plan.foreseen.get(name, "")
        came = predicted(said, result, opened.analysis.rules.acceptable) if said else None
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
                "verdict": {"kind": verdict.kind, "head": verdict.head, "text": verdict.text},
                "budget": [
                    [s.source, f"{100 * s.share:.0f} %" if s.share >= 0.095 else f"{100 * s.share:.1f} %"]
                    for s in result.budget[:5]
                    if s.share >= 1e-3
                ],
                "otherwise": row_comparison.found(opened).get(name, ""),
                "foreseen": said,
                "came": came.say if came is not None else "",
            }
        )
    return found


_CONTRADICT = ("apart", "parity", "contradicting", "verification")
"""Findings that say that two things this run says cannot both be right."""


def _conventions(opened: RunView) -> list[list[str]]:
    """What was chosen of the experiment's conventions: (of what, choice)."""
    chosen = opened.state.run.options
    return [
        [option.label, option.choices[chosen.get(name, option.default)].label]
        for name, option in opened.base.options.items()
        if chosen.get(name, option.default) in option.choices
    ]


def _zeros(opened: RunView) -> list[list[str]]:
    """What instruments read at zero, which is subtracted: (instrument, as typed)."""
    zeros = opened.analysis.sheet.zeros
    return [[opened.program.gauges[name].label, opened.state.run.zeros[name].strip()] for name in zeros]


def _traces(opened: RunView) -> list[dict[str, Any]]:
    """Samples that a column came from: where, the stretch that counts, what it gives, and its picture."""
    found = []
    for series, columns in opened.state.run.traces.items():
        for column, rows in columns.items():
            label = opened.definition.series[series].columns[column].label
            for row, cell in enumerate(rows, 1):
                for trial, document in enumerate(trials_of(cell), 1):
                    if document is not None:
                        shown = traces.printed(opened, f"{series}.{column}", row, document)
                        where = f"{label}, row {row}{f', trial {trial}' if trial > 1 else ''}"
                        found.append(
                            {"caption": caption(opened, f"{where}: {shown['says']}"), "drawn": shown["picture"]}
                        )
    return found


def content(opened: RunView) -> dict[str, Any]:
    """Everything the report shows, as plain data: texts, numbers as text, drawings as markup of our own."""
    definition = opened.definition
    mistakes = opened.suspected  # sought before any verdict is given
    written = {name: asdict(part) for name, part in parts(opened).items()}
    law = ""
    if definition.law:
        left, right = parse_law(definition.law)
        label = f"{typeset(left)} = {typeset(right)}"
        law = mathml.math(f"{mathml.row(left)}<mo>=</mo>{mathml.row(right)}", label=label)
    done = {place for place, tick in opened.state.ticks.items() if effective(tick)[0] == "tick"}
    return {
        "title": opened.run.title,
        "simulated": opened.simulated,
        "experiment": definition.title,
        "bench": opened.run.bench,
        "course": opened.run.course_title,
        "day": texts.day(opened.begun) if opened.entries else "",
        "roles": [f"{name} {who}" for who, name in opened.state.run.plan.roles.items()],
        "parts": written,
        "answers": [written[f"answer.{i}"] for i in range(len(definition.questions))],
        "law": law,
        "apparatus": list(definition.apparatus),
        "instruments": [
            [g["label"], g["least_count"] or "", "; ".join(filter(None, (g["says"], g["source"]))), g["reads"] or ""]
            for g in gauges.instruments(opened)
        ],
        "cautions": [[c.say, f"caution.{i}" in done] for i, c in enumerate(definition.cautions)],
        "drawing": pictures.drawing(definition.id, opened.state.run.options) or "",
        "circuit": pictures.drawing(definition.id, opened.state.run.options, "circuits") or "",
        "conventions": _conventions(opened),
        "zeros": _zeros(opened),
        "quantities": [list(pair) for pair in quantities(opened)],
        "tables": [_plain(opened, t) for t in tables(opened)] + _held(opened),
        "entries": [_plain(opened, t) for t in tables(opened, each=True)],
        "short": [_plain(opened, t) for t in tables(opened, trials=False)] + _held(opened),
        "traces": _traces(opened),
        "figures": _figures(opened),
        "contradictions": [[f.title, f.say] for f in opened.findings if f.code in _CONTRADICT],
        "results": results(opened),
        "departures": deviations(opened),
        "open": [
            *(f.title for f in opened.findings if f.level != "note"),
            *(f"Possible mistake: {place(opened.analysis, s.at)}" for s in mistakes.suspects),
        ],
        "missing": [_short(p) for p in written.values() if not p["text"]],
        "drafts": [p["title"] for p in written.values() if p["text"] and not p["own"]],
        "moved": [f"{_short(p)}: {text} ({says})" for p in written.values() for text, says in p["pieces"] if says],
        "rules": {name: str(value) for name, value in opened.analysis.rules.model_dump(mode="json").items()},
        "definition": opened.run.hash[:12],
        "basis": _basis(opened),
    }


def unsettled(content: dict[str, Any]) -> list[tuple[str, list[str]]]:
    """What a person should know before a report is submitted as it stands: (what, which), none where nothing is left to do."""
    found = [
        ("Numbers that have changed since they were written", content["moved"]),
        ("Drafts to review", content["drafts"]),
        ("Not written yet", content["missing"]),
        ("Open remarks", content["open"]),
    ]
    return [(what, list(which)) for what, which in found if which]


def _short(part: dict[str, Any]) -> str:
    """What a part is called in a list of them."""
    name = str(part["name"])
    return f"answer {int(name.partition('.')[2]) + 1}" if name.startswith("answer.") else str(part["title"])


def frozen(opened: RunView) -> dict[str, Any]:
    """What a signature stands under: the content, and all that its numbers rest on."""
    return {
        "format": "cavrel-report/1",
        "content": content(opened),
        "definition": opened.run.hash,
        "rules": opened.analysis.rules.model_dump(mode="json"),
        "entries": len(opened.entries),
        "last": opened.last,
        "cavrel": __version__,
    }


def _basis(opened: RunView) -> str:
    """What the report rests on, for its foot."""
    entries = counted(len(opened.entries), "entry of the logbook", "entries of the logbook")
    return f"{entries}; definition {opened.run.hash[:12]}; coverage 95 %."


def data(opened: RunView) -> dict[str, Any]:
    """The report's texts as data."""
    return {
        "title": opened.run.title,
        "simulated": opened.simulated,
        "bench": opened.run.bench,
        "parts": [
            {"name": p.name, "title": p.title, "text": p.text, "source": p.source, "own": p.own, "draft": p.draft}
            | {"moved": [{"number": text, "says": says} for text, says in p.pieces if says]}
            for p in parts(opened).values()
        ],
        "departures": deviations(opened),
    }
