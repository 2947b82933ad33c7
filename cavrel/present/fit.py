"""What Fit shows: the raw curve, the straight line, and what slope and intercept mean."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from cavrel.core.analysis import one_more
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.definition import Fit
from cavrel.core.definition.headings import Heading
from cavrel.core.document import result_document
from cavrel.core.errors import CavrelError
from cavrel.core.fit.models import Tangent
from cavrel.core.formula import mathml
from cavrel.core.formula.nodes import Binary, Name, Node, Number
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.quantity.reading import read
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.value import amount_text
from cavrel.core.words import counted, within
from cavrel.graph.points import enlarged
from cavrel.present import axes, derivation_steps, graphs, notes, points_table
from cavrel.present.fit_choices import DRAWN, Wanted
from cavrel.present.notes import Note
from cavrel.present.texts import one_line
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class Reading:
    """The reading of a line.

    ``equation``: y = slope · x + intercept with the law's terms tinted, MathML.
    ``from_law``: the law says what its terms stand for.
    ``slope``: as text.
    ``intercept``: as text.
    ``intercept_says``: whether it is what the law says, in words.
    ``follows``: (formula, text) of each result that the line gives.
    """

    equation: str
    from_law: bool
    slope: str
    intercept: str
    intercept_says: str
    follows: list[tuple[str, str]]


def _reading(opened: RunView, fit: FitAnalysis) -> Reading:
    body = opened.definition.fits[fit.name]
    assert body.x is not None
    meaning = opened.meanings.get(fit.name)
    slope = mathml.row(meaning.slope) if meaning else "<mtext>slope</mtext>"
    intercept = mathml.row(meaning.intercept) if meaning else "<mtext>intercept</mtext>"
    if meaning and isinstance(meaning.slope, Binary) and meaning.slope.op in "+-":
        slope = f"<mo>(</mo>{slope}<mo>)</mo>"
    equation = mathml.math(
        f'{mathml.row(parse(body.y))}<mo>=</mo><mrow class="tint-slope">{slope}</mrow><mo>·</mo>{mathml.factor(parse(body.x))}'
        f'<mo>+</mo><mrow class="tint-intercept">{intercept}</mrow>',
        label=f"{typeset(parse(body.y))} = slope times {typeset(parse(body.x))} plus intercept",
    )
    texts = dict(_parameters(opened, fit))
    return Reading(
        equation=equation,
        from_law=meaning is not None,
        slope=texts["slope"],
        intercept=texts["intercept"],
        intercept_says=_intercept_says(opened, fit),
        follows=derivation_steps.steps(opened, fit),
    )


def _parameters(opened: RunView, fit: FitAnalysis) -> list[tuple[str, str]]:
    """Every parameter of a fit with its value as text."""
    return [
        (name, "longer than these readings can tell" if name in fit.unbounded else _parameter(opened, fit, name))
        for name in fit.parameters
    ]


def _parameter(opened: RunView, fit: FitAnalysis, name: str) -> str:
    found = fit.parameters[name]
    return opened.analysis.measured(found.value, found.u, found.unit).text()


def _intercept_says(opened: RunView, fit: FitAnalysis) -> str:
    """Whether the intercept is what the law says, in words of degree, and what it would mean."""
    meaning = opened.meanings.get(fit.name)
    intercept = fit.parameters["intercept"]
    if opened.analysis.rules.origin == "forced":
        return "forced through the origin by house rule"
    if meaning is not None and meaning.intercept != Number(0.0):
        return f"stands for {typeset(meaning.intercept)}{_named(opened, meaning.intercept)}"
    size = abs(intercept.value) / intercept.u if intercept.u > 0 else math.nan
    if meaning is None:
        return "" if not size < 2.6 else "zero within its uncertainty"
    if any(f.code == "intercept" and f.fit == fit.name for f in opened.findings):
        return f"not zero, although the law says so{_offset(opened, fit)}"
    if size < 1:
        return "zero within its uncertainty, as the law says"
    if size < 2.6:
        return f"compatible with zero: z = {size:.1f}"
    return f"probably not zero: z = {size:.1f}{_offset(opened, fit)}" if size < math.inf else "the law says zero"


def _named(opened: RunView, node: Node) -> str:
    """The label and the value of what an intercept stands for, where that is one thing."""
    if not isinstance(node, Name):
        return ""
    for table in (opened.definition.results, opened.definition.quantities):
        if node.name in table:
            label = table[node.name].label
            return f", {within(label)}"
    return ""


def _offset(opened: RunView, fit: FitAnalysis) -> str:
    """What an intercept that should be none would mean: an amount added to every abscissa, where that is a column as read."""
    body, slope = opened.definition.fits[fit.name], fit.parameters["slope"]
    column = opened.definition.series[body.series].columns.get(body.x or "")
    if column is None or not slope.value:
        return ""
    unit = opened.analysis.values[f"{body.series}.{body.x}"].unit
    offset = fit.parameters["intercept"].value / slope.value
    way = "small" if offset > 0 else "large"
    return f"; as if every {one_line(body.x or '')} were {amount_text(abs(offset), unit, 2, True)} too {way}"


def _notes(opened: RunView, fit: FitAnalysis | None, times: tuple[int, int], drawn_small: bool) -> list[Note]:
    about_fit = [f for f in opened.findings if f.fit or f.code in ("off-line", "miscount", "stands-apart")]
    found_notes = [*map(notes.of_finding, about_fit), *notes.left_out(opened)]
    found = fit.diagnostics if fit is not None else None
    if (
        fit is not None
        and found is not None
        and found.dof > 0
        and not any(f.fit or f.code == "off-line" for f in about_fit)
    ):
        if found.chi2 is not None:
            text = f"χ² is {significant(found.chi2, 2)} for {counted(found.dof, 'degree')} of freedom. The residuals show no curvature and no runs."
        else:
            text = "The points scatter evenly about it. The residuals show no curvature and no runs."
        mean = opened.definition.fits[fit.name].model == "mean"
        word = "Straight" if "intercept" in fit.parameters else "The values agree" if mean else "The curve holds"
        found_notes.append(
            Note(tone="good", title=f"{word} within errors" if found.chi2 is not None else word, text=text)
        )
    if fit is not None and fit.made and fit.source == "scatter":
        found_notes.append(
            Note(
                tone="caution",
                title="Uncertainty from scatter",
                text=f"{_of_what(opened, fit)} from the scatter of the points, which is larger than the error bars, or the only uncertainty known.",
            )
        )
    if fit is not None and fit.weighted:
        found_notes.append(
            Note(
                tone="caution",
                title="Weighted mean",
                text="A value with half the uncertainty counts four times as much.",
            )
        )
    if fit is not None and fit.counted:
        text = "Each count has a standard deviation equal to the square root of the count predicted by the curve (Poisson likelihood)."
        found_notes.append(Note(tone="good", title="Fitted as counts", text=text))
    if fit is not None and fit.made and times[1] == 1 and drawn_small:
        text = "At this scale they are smaller than the dots; the residuals below show them to scale."
        found_notes.append(Note(tone="caution", title="Error bars too small to see", text=text))
    if said := enlarged(times):
        title = f"{said[0].upper()}{said[1:]}"
        text = "To scale they would be smaller than the dots. The residuals below show them to scale."
        found_notes.append(Note(tone="caution", title=title, text=text))
    return [*found_notes, *notes.notes_of_bench(opened)]


def _of_what(opened: RunView, fit: FitAnalysis) -> str:
    """Whose uncertainty, as the subject of a sentence."""
    names = list(fit.parameters)
    if opened.definition.fits[fit.name].model == "mean":
        return "The mean takes its uncertainty"
    if names == ["slope", "intercept"]:
        return "Slope and intercept take their uncertainty"
    return "The slope takes its uncertainty" if names == ["slope"] else "The curve’s parameters take their uncertainty"


def _pills(opened: RunView) -> list[tuple[str, str]]:
    """(fit, what it is called) for the choice of graphs: its axes, or its label where two fits share them."""
    axes = {
        name: f"{typeset(parse(body.y))}{f' against {typeset(parse(body.x))}' if body.x else ''}"
        for name, body in opened.definition.fits.items()
    }
    shared = {said for said in axes.values() if list(axes.values()).count(said) > 1}
    tables = {body.series for name, body in opened.definition.fits.items() if axes[name] in shared}
    found = []
    for name, body in opened.definition.fits.items():
        table = opened.definition.series[body.series].short if axes[name] in shared and len(tables) > 1 else ""
        by_word = any(other.marked for other in opened.definition.fits.values() if other.series == body.series)
        words = ", ".join(body.marked) or ("all rows" if table or axes[name] in shared else "") if by_word else ""
        found.append((name, ": ".join(s for s in (table, words) if s) or axes[name]))
    return found


def _own_lines(opened: RunView, fit: FitAnalysis | None) -> dict[str, Any] | None:
    """The press that gives each word of a fit's table a line of its own, or takes these away; None where its rows have fewer than two words."""
    if fit is None:
        return None
    series = opened.definition.fits[fit.name].series
    now = opened.state.run.headings.get(series, Heading())
    words = graphs.signs(opened, series)
    if len(words) < 2 and not now.lines:
        return None
    on = set(words) <= set(now.with_lines)
    body = now.model_copy(update={"lines": "" if on else ", ".join(words)}).model_dump(
        mode="json", exclude_defaults=True
    )
    return {"slot": f"heading:{series}", "body": body, "on": on}


def content(opened: RunView, wanted: Wanted) -> tuple[dict[str, Any], list[Note]]:
    """What the page shows within its frame, and its margin. Raises KeyError for a fit or a table that the experiment does not have."""
    if not wanted.series:
        return _content(opened, wanted.fit, wanted)
    try:
        other, name = axes.on_own_axes(opened, wanted.series, wanted.x, wanted.y, wanted.touch.strip())
    except CavrelError as fault:
        first = next((n for n, b in opened.definition.fits.items() if b.series == wanted.series), "")
        shown, found = _content(opened, first, wanted)
        axis = "y" if fault.place.endswith(".y") else "x" if fault.place.endswith(".x") else "axes"
        return {**shown, "typed": wanted, "refused": f"{axis}: {fault.what}"}, found
    first = next((n for n, b in opened.definition.fits.items() if b.series == wanted.series and b.x), "")
    shown, found = _content(other, name, wanted)
    strip = axes.stamps(opened, opened.analysis.fits[first]) if first else []
    return {**shown, "typed": wanted, "stamps": strip, "pills": _pills(opened)}, found


def _content(opened: RunView, wanted: str, asked: Wanted) -> tuple[dict[str, Any], list[Note]]:
    wanted = wanted or (opened.fit.name if opened.fit else "")
    fit = opened.analysis.fits[wanted] if wanted else None
    drawn = graphs.fit_graphs(opened, fit, asked.draw.split(".")) if fit is not None else None
    body = opened.definition.fits[fit.name] if fit is not None else None
    title = "Nothing to fit"
    if body is not None:
        across = body.x_label or (typeset(parse(body.x)) if body.x else "row")
        title = f"{body.y_label or typeset(parse(body.y))} against {across}"
        title = title[0].upper() + title[1:]
        if body.model == "mean":
            title = f"{opened.definition.series[body.series].short}: {typeset(parse(body.y))}, row by row"
    reading = _reading(opened, fit) if fit is not None and fit.made and "intercept" in fit.parameters else None
    can = [key for key in DRAWN if reading is not None and key != "parts"]
    if fit is not None and graphs.company(opened, fit):
        can.append("parts")
    content = {
        "pills": _pills(opened),
        "fit": fit,
        "body": body,
        "drawn": drawn,
        "title": title,
        "reading": reading,
        "parameters": _parameters(opened, fit) if fit is not None and fit.made else [],
        "listed": points_table.listed(opened, fit) if fit is not None else None,
        "stamps": axes.stamps(opened, fit) if fit is not None else [],
        "by_hand": [(DRAWN[key], asked.address(key), key in asked.draw.split(".")) for key in can],
        "touch": _touch(opened, fit, asked),
        "tangent": _tangent_address(opened, fit, body, asked),
        "own_lines": _own_lines(opened, fit),
        "at": _at(opened, fit, asked.at) if fit is not None and fit.drawable and body and body.x else None,
        "asked": asked,
        "typed": None,
        "refused": "",
    }
    return content, _notes(opened, fit, drawn.times if drawn else (1, 1), drawn.hidden if drawn else False)


LEAST_FOR_TANGENT = 4


def _touch(opened: RunView, fit: FitAnalysis | None, asked: Wanted) -> dict[str, Any] | None:
    """Where the tangent on the page touches: of the experiment, which an entry moves, or on axes that somebody picked. None for any other fit."""
    if fit is None or opened.program.fits[fit.name].model != "tangent":
        return None
    step, unit = opened.program.fits[fit.name], opened.program.fits[fit.name].x_unit
    x0 = fit.shape.x0 if isinstance(fit.shape, Tangent) else float("nan")
    shown = asked.touch or (f"{unit.from_si(x0):.4g}" if math.isfinite(x0) else "")
    return {
        "slot": "" if asked.series else f"heading:fits.{fit.name}",
        "text": shown,
        "unit": unit.pretty,
        "unit_text": unit.text,
        "points": step.points or len(fit.rows),
    }


def _tangent_address(opened: RunView, fit: FitAnalysis | None, body: Fit | None, asked: Wanted) -> str:
    """The address of a tangent on the axes of a fit; empty where it has no x, or is one."""
    if fit is None or body is None or body.x is None or body.model == "tangent" or len(fit.rows) < LEAST_FOR_TANGENT:
        return ""
    middle = float(np.median(opened.program.fits[fit.name].x_unit.from_si(fit.x[fit.rows])))
    return replace(
        asked, fit="", series=body.series, x=body.x, y=body.y, draw="", at="", touch=f"{middle:.3g}"
    ).address()


def _at(opened: RunView, fit: FitAnalysis, text: str) -> dict[str, str]:
    """What the line says at an abscissa that somebody typed."""
    step = opened.program.fits[fit.name]
    shown = {"text": text, "unit": step.x_unit.pretty, "value": "", "interval": "", "outside": "", "fault": ""}
    if not text.strip():
        return shown
    try:
        x = read(text.strip(), step.x_unit.text).value
    except CavrelError as fault:
        return {**shown, "fault": fault.what}
    value, interval = one_more.said(opened.analysis, fit, x, step.y_unit)
    beyond = "outside the measured range: valid only if the law holds there" if one_more.outside(fit, x) else ""
    return {**shown, "value": value, "interval": interval, "outside": beyond}


def data(opened: RunView) -> dict[str, Any]:
    """The fits and flags as data."""
    whole = result_document(opened.analysis, opened.findings, opened.suspected.suspects, opened.meanings)
    return {"title": opened.run.title, "bench": opened.run.bench, "fits": whole["fits"], "flags": whole["flags"]}
