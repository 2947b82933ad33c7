"""Graphs of a run for the page: what the analysis holds, handed to the drawing layer with its marks, axes and titles."""

import math
from collections.abc import Collection
from dataclasses import dataclass, replace

import numpy as np

from cavrel.core.analysis import ResultAnalysis, Values, uncertainty
from cavrel.core.analysis.curve import law_curve, raw_columns
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.document import result_text
from cavrel.core.fit.extremes import extremes
from cavrel.core.fit.models import Tangent
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.units import Unit
from cavrel.graph import fitted as drawn_line
from cavrel.graph import numberline, points
from cavrel.graph.points import Axis, Mark
from cavrel.graph.scale import fit_scale
from cavrel.present.texts import one_line
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True)
class FitGraphs:
    """Both graphs of Fit.

    ``raw``: as read, None where the line's own axes are that.
    ``law``: with the law's curve in it.
    ``line``: on the fit's axes.
    ``times``: how much larger the error bars along x and y are drawn.
    ``hidden``: they hide behind the dots.
    ``read_off``: what a gradient triangle and the extreme lines say, sentences.
    """

    raw: str | None
    law: bool
    line: str
    times: tuple[int, int]
    hidden: bool
    read_off: tuple[str, ...] = ()


def _states(opened: RunView, series: str) -> dict[int, str]:
    """Rows (from 1) that are left out or suspected."""
    states: dict[int, str] = {}
    for finding in opened.findings:
        slot = finding.slot
        if finding.level != "note" and slot is not None and slot.series == series:
            states[slot.row] = "suspect"
    for slot in map(Slot.read, opened.state.left_out):
        if slot is not None and slot.series == series and not slot.name:
            states[slot.row] = "out"
    return states


def _marks(
    opened: RunView,
    series: str,
    x: np.ndarray,
    y: np.ndarray,
    u_x: np.ndarray,
    u_y: np.ndarray,
    axes: tuple[Axis, Axis],
    scales: tuple[Unit, Unit],
) -> list[Mark]:
    """Points in the units of their axes, from values in SI."""
    along, up = scales
    x, y, u_x, u_y = along.from_si(x), up.from_si(y), u_x / along.factor, u_y / up.factor
    states, words, names = _states(opened, series), opened.analysis.marks(series), signs(opened, series)
    marks = []
    for i in range(len(x)):
        if not (math.isfinite(x[i]) and math.isfinite(y[i])):
            continue
        state = states.get(i + 1, "read")
        said = ", ".join(
            f"{a.symbol} {significant(float(v), 4)} {a.unit}".strip() for a, v in zip(axes, (x[i], y[i]), strict=True)
        )
        word = {"out": ", left out", "suspect": ", suspected"}.get(state, "")
        marks.append(
            Mark(
                x=float(x[i]),
                y=float(y[i]),
                u_x=float(u_x[i]),
                u_y=float(u_y[i]),
                at=f"{series}.{i + 1}",
                label=f"Row {i + 1}: {said}{', ' + words[i] if words[i] in names else ''}{word}",
                state=state,
                sign=names.index(words[i]) if words[i] in names else 0,
            )
        )
    return marks


def signs(opened: RunView, series: str) -> list[str]:
    """The words for a table's rows that occur in it, in the order of their signs."""
    outcome, found = opened.definition.series[series].outcome, set(opened.analysis.marks(series))
    return [word for word in outcome.choices if word in found] if outcome is not None else []


def fit_axes(opened: RunView, fit: FitAnalysis) -> tuple[Axis, Axis]:
    """The axes of a fit."""
    body, step = opened.definition.fits[fit.name], opened.program.fits[fit.name]
    return (
        Axis(body.x_label, one_line(body.x) if body.x else "row", step.x_unit.pretty),
        Axis(body.y_label, one_line(body.y), step.y_unit.pretty),
    )


def fit_marks(opened: RunView, fit: FitAnalysis) -> list[Mark]:
    """The readings on a fit's axes."""
    series = opened.program.fits[fit.name].series
    step = opened.program.fits[fit.name]
    scales = step.x_unit, step.y_unit
    return _marks(opened, series, fit.x, fit.y, fit.u_x, fit.u_y, fit_axes(opened, fit), scales)


def _live_fit(opened: RunView) -> FitAnalysis | None:
    for entry in reversed(opened.entries):
        slot = Slot.read(entry.slot)
        for name, step in opened.program.fits.items():
            if slot is not None and step.series == slot.series and step.x is not None:
                return opened.analysis.fits[name]
    return opened.fit


def small(opened: RunView) -> str | None:
    """The small live graph: of the first fit over the table last written in."""
    fit = _live_fit(opened)
    if fit is None:
        return None
    x_axis, y_axis = fit_axes(opened, fit)
    marks = fit_marks(opened, fit)
    return points.small(marks, x_axis, y_axis, points.described(f"{y_axis.symbol} against {x_axis.symbol}", marks))


def fit_graphs(
    opened: RunView, fit: FitAnalysis, draw: Collection[str] = (), size: tuple[float, float] = (470.0, 540.0)
) -> FitGraphs:
    """The raw curve and the straight line. ``draw``: what stands in the graph next to the line, by the names of `fit_choices.DRAWN`; ``size``: its
    width and height."""
    x_axis, y_axis = fit_axes(opened, fit)
    marks = fit_marks(opened, fit)
    parts = [*_lines_of_words(opened, fit), *(company(opened, fit) if "parts" in draw else [])]
    fitted: drawn_line.FittedLine | None = None
    read_off: list[str] = []
    if fit.drawable and fit.diagnostics is not None:
        finite = np.array([m.x for m in marks])
        first, last = points.span(np.array([*finite, *(m.x for part in parts for m in part.marks)]))
        # As the graph itself does for counted rows.
        scale = fit_scale(first, last if x_axis.symbol != "row" else last + 0.5, 0.0, 1.0, 6)
        low = scale.low
        if fit.shape is not None and fit.shape.positive:
            low = max(low, 0.8 * float(finite.min()))  # a power law with a negative exponent has no value at zero
        grid = np.linspace(low, scale.high, 60)
        step = opened.program.fits[fit.name]
        y, u = (
            _tangent(fit, step.x_unit.to_si(grid))
            if isinstance(fit.shape, Tangent)
            else fit.at(step.x_unit.to_si(grid))
        )
        y, u = step.y_unit.from_si(y), u / step.y_unit.factor
        k = uncertainty.coverage_factor(
            fit.diagnostics.dof if fit.source == "scatter" else math.inf, opened.analysis.rules.student
        )
        by_row = {slot.row: m for m in marks if (slot := Slot.read(m.at)) is not None}
        found = fit.diagnostics
        own = (1 / np.sqrt(found.weights) if fit.known else np.zeros(len(fit.rows))) / step.y_unit.factor
        residuals = [
            (by_row[int(row) + 1], float(residual), float(u))
            for row, residual, u in zip(fit.rows, found.residuals / step.y_unit.factor, own, strict=True)
        ]
        touch = None
        if isinstance(fit.shape, Tangent):
            touch = float(step.x_unit.from_si(fit.shape.x0)), float(step.y_unit.from_si(fit.parameters["value"].value))
        fitted = drawn_line.FittedLine(grid, y, k * u, residuals, touch=touch)
        if "intercept" in fit.parameters:
            fitted, read_off = _by_hand(opened, fit, fitted, draw)
        single = fit.single_u() / step.y_unit.factor
        if "single" in draw and math.isfinite(single):
            fitted = replace(fitted, single=k * np.hypot(u, single))
            read_off.append(
                "If the line is right, 95 % of single readings lie between the dotted lines. The shaded band is for the line itself."
            )
        elif "single" in draw:
            read_off.append(
                "The scatter of single readings is unknown: there are too few of them, and they state no uncertainty."
            )
    title = points.described(
        f"{y_axis.word} {y_axis.symbol} against {x_axis.word} {x_axis.symbol}".strip(), marks, _line_words(opened, fit)
    )
    if parts:
        title += "; with " + ", ".join(
            points.described(part.name, part.marks) if part.marks else f"the line of {part.name}" for part in parts
        )
    key = signs(opened, opened.program.fits[fit.name].series)
    line, times, hidden = drawn_line.straight_line(marks, x_axis, y_axis, fitted, title, parts, key, *size)
    raw, law = _raw(opened, fit)
    return FitGraphs(raw, law, line, times, hidden, tuple(read_off))


def _tangent(fit: FitAnalysis, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The tangent itself over ``x`` ``(n,)`` and its standard uncertainty: the parabola it touches is drawn nowhere."""
    assert isinstance(fit.shape, Tangent)
    away = np.stack([x - fit.shape.x0, np.ones(len(x))])
    return fit.theta[:2] @ away, uncertainty.combined(fit.parts[:, :2] @ away)


def _lines_of_words(opened: RunView, fit: FitAnalysis) -> list[drawn_line.OtherPoints]:
    """The lines of the other words of the same table, on the same axes."""
    step, body, found = opened.program.fits[fit.name], opened.definition.fits[fit.name], list[drawn_line.OtherPoints]()
    for name, other in opened.definition.fits.items():
        line = opened.analysis.fits[name]
        alike = (other.series, other.x, other.y) == (body.series, body.x, body.y)
        if name == fit.name or not other.marked or not alike or not line.drawable:
            continue
        x = np.linspace(*points.span(step.x_unit.from_si(line.x[line.rows])), 40)
        y = step.y_unit.from_si(line.at(step.x_unit.to_si(x))[0])
        found.append(drawn_line.OtherPoints(name=", ".join(other.marked), marks=(), x=x, y=y))
    return found


def _line_words(opened: RunView, fit: FitAnalysis) -> str:
    """The fitted curve in words: what it is, and its parameters."""
    if not fit.drawable or fit.shape is None:
        return ""
    values = (
        f"{name} {opened.analysis.measured(found.value, found.u, found.unit).text()}"
        for name, found in fit.parameters.items()
        if math.isfinite(found.value)
    )
    return ", ".join([fit.shape.title, *values])


def company(opened: RunView, fit: FitAnalysis) -> list[drawn_line.OtherPoints]:
    """The other parts of the run that stand on the same axes, in this one's units: curves through other tables with the same kinds of x and
    y."""
    step = opened.program.fits[fit.name]
    found: list[drawn_line.OtherPoints] = []
    for name, other in opened.analysis.fits.items():
        own = opened.program.fits[name]
        alike = own.x_unit.dimension == step.x_unit.dimension and own.y_unit.dimension == step.y_unit.dimension
        seen = {step.series, *(part.marks[0].at.split(".")[0] for part in found)}
        if own.series in seen or not alike or (own.x is None) != (step.x is None):
            continue
        scales = step.x_unit, step.y_unit
        marks = _marks(opened, own.series, other.x, other.y, other.u_x, other.u_y, fit_axes(opened, fit), scales)
        if not marks:
            continue
        x = y = np.array([])
        if other.drawable:
            span = np.linspace(*points.span(np.array([m.x for m in marks])), 40)
            at, _ = other.at(step.x_unit.to_si(span))
            x, y = span, step.y_unit.from_si(at)
        found.append(drawn_line.OtherPoints(name=opened.definition.series[own.series].label, marks=marks, x=x, y=y))
    return found


def _by_hand(
    opened: RunView, fit: FitAnalysis, fitted: drawn_line.FittedLine, draw: Collection[str]
) -> tuple[drawn_line.FittedLine, list[str]]:
    """The line with what schools draw next to it, and what is read off."""
    step = opened.program.fits[fit.name]
    along, up, unit = step.x_unit, step.y_unit, fit.parameters["slope"].unit
    said = []
    if "triangle" in draw:
        first, last = points.span(along.from_si(fit.x[fit.rows]))
        ticks = [t for t in fit_scale(first, last, 0.0, 1.0, 6).ticks() if first <= t <= last]
        ends = (ticks[0], ticks[-1]) if len(ticks) > 1 else (first, last)
        read = np.interp(ends, fitted.x, fitted.y)
        # As near as a paper's small squares: a twentieth of what is between two numbers on the axis.
        square = fit_scale(*points.span(fitted.y), 0.0, 1.0, 6).step / 20
        heights = (round(float(read[0]) / square) * square, round(float(read[1]) / square) * square)
        fitted = replace(fitted, triangle=drawn_line.Triangle(ends, heights))
        corners = [f"({significant(a, 4)}, {significant(b, 4)})" for a, b in zip(ends, heights, strict=True)]
        gradient = (heights[1] - heights[0]) / (ends[1] - ends[0])
        said.append(
            f"Read off at {corners[0]} and {corners[1]}: {significant(heights[1] - heights[0], 4)} over {significant(ends[1] - ends[0], 4)} "
            f"is {significant(gradient, 3)} {unit.pretty}".strip()
            + "."
        )
    if "extremes" in draw:
        x, y = fit.x[fit.rows], fit.y[fit.rows]
        both = extremes(x, y, fit.u_x[fit.rows], fit.u_y[fit.rows], fit.parameters["slope"].value >= 0)
        if both is None:
            said.append("No line passes through all error boxes, so no steepest or shallowest line can be drawn.")
        else:
            grid = along.to_si(fitted.x)
            lines = [up.from_si(slope * grid + intercept) for slope, intercept in both]
            fitted = replace(fitted, extremes=lines)
            low, high = sorted(unit.from_si(float(slope)) for slope, _ in both)
            half = (high - low) / 2
            said.append(
                f"Shallowest {significant(low, 4)}, steepest {significant(high, 4)} {unit.pretty}".strip()
                + f": half their difference is {significant(half, 2)}."
            )
    return fitted, said


def _raw(opened: RunView, fit: FitAnalysis) -> tuple[str | None, bool]:
    """The readings as they were taken, where that is another picture, and whether the law is drawn in it."""
    columns = raw_columns(opened.analysis, fit)
    body = opened.definition.fits[fit.name]
    if columns is None or (body.x, body.y) == tuple(c.split(".")[1] for c in columns):
        return None, False
    x, y = (opened.analysis.values[c] for c in columns)
    axes = _column_axis(opened, x), _column_axis(opened, y)
    marks = _marks(opened, body.series, x.value, y.value, x.u, y.u, axes, (x.unit, y.unit))
    title = points.described(f"As measured: {_called(axes[1])} against {_called(axes[0])}", marks)
    curve = law_curve(opened.analysis, fit)
    shown = (x.unit.from_si(curve[0]), y.unit.from_si(curve[1])) if curve is not None else None
    return points.raw_curve(marks, *axes, shown, title), shown is not None


def _called(axis: Axis) -> str:
    """An axis in words, for who hears the graph: its label, or its symbol."""
    return axis.word or axis.symbol


def _column_axis(opened: RunView, values: Values) -> Axis:
    series, name = values.key.split(".")
    label = opened.definition.series[series].columns[name].label
    return Axis(label.lower() if len(label) < 18 else "", one_line(name), values.unit.pretty)


def _alike(opened: RunView, one: str, other: str) -> bool:
    """Whether two results are two ways to one value: one the weighted mean of the other, or both compared with one accepted value."""
    first, second = opened.definition.results[one], opened.definition.results[other]
    if one == other:
        return False
    if other in first.combine or one in second.combine:
        return True
    return first.accepted is not None and first.accepted == second.accepted and first.unit == second.unit


def has_company(opened: RunView, result: str) -> bool:
    """Whether another result of this run stands for the same value."""
    return any(_alike(opened, result, name) and not r.reason for name, r in opened.analysis.results.items())


def number_line(opened: RunView, result: ResultAnalysis, others: list[tuple[str, float, float]]) -> str:
    """The number line of a result: itself, this run's other results of the same kind, and ``others`` as (label, value, u), SI."""
    unit = result.unit
    body = opened.definition.results[result.name]
    own_u = result.u if result.linear else abs(result.interval[1] - result.interval[0]) / 4
    entries = [numberline.Entry(body.method or body.label, unit.from_si(result.value), own_u / unit.factor, True)]
    for name, other in opened.analysis.results.items():
        if _alike(opened, result.name, name) and not other.reason and other.linear:
            own = opened.definition.results[name]
            entries.append(numberline.Entry(own.method or own.label, unit.from_si(other.value), other.u / unit.factor))
    entries += [numberline.Entry(label, unit.from_si(value), u / unit.factor) for label, value, u in others]
    accepted = None
    if result.accepted is not None and math.isfinite(result.accepted.value):
        value = unit.from_si(result.accepted.value)
        label = f"accepted {significant(value, 4)} ({result.accepted.label})"
        if result.compared and result.compared.measured:
            label = f"compared with {significant(value, 4)} from this run"
        accepted = (value, result.accepted.u / unit.factor, label)
    title = f"{body.label}: {result_text(opened.analysis, result)} on a number line with {len(entries)} values"
    for entry in entries[1:]:
        measured = opened.analysis.measured(unit.to_si(entry.value), unit.factor * entry.u, unit)
        title += f"; {entry.label} {measured.text()}"
    return numberline.number_line(entries, accepted, unit.pretty, title)
