"""Other axes for the same columns: a strip of small graphs, each with what a test says of it, and a graph on any axes that are typed."""

from dataclasses import dataclass, replace
from typing import Any

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.analysis.axes import LOG, axis_formula, power_of
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.definition import Definition, Fit
from cavrel.core.definition.steps import Program
from cavrel.core.errors import DefinitionError
from cavrel.core.findings import findings_of
from cavrel.core.findings.axes import Candidate, candidates
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.quantity.reading import read
from cavrel.graph import strip
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView

MOST = 9
_PREDICTED_POWERS = {
    "proportional": (1.0, 1.0),
    "linear": (1.0, 1.0),
    "inverse": (-1.0, 1.0),
    "square": (2.0, 1.0),
    "square root": (0.5, 1.0),
}
OWN = "own_axes"


@dataclass(frozen=True, slots=True, kw_only=True)
class Stamp:
    """One small graph.

    ``x``, ``y``: formulas of its axes, as the experiment's language writes them.
    ``said``: what it is called, such as T² against L.
    ``drawn``: the graph.
    ``words``: what the test says.
    ``tone``: straight, bent or open.
    ``marks``: the law’s, predicted.
    ``fit``: of the experiment that runs on these axes, empty for none.
    """

    x: str
    y: str
    said: str
    drawn: str
    words: str
    tone: str
    marks: tuple[str, ...]
    fit: str


@optional("other axes", list)
def stamps(opened: RunView, fit: FitAnalysis) -> list[Stamp]:
    """The strip for the columns behind a fit, straightest first; what the law names and what was predicted are always among them."""
    body = opened.definition.fits[fit.name]
    found = candidates(opened.analysis, fit)
    if not found:
        return []
    names = found[0].columns
    # What was predicted is a shape of the columns as read, whichever fit it was asked for.
    shapes = {
        opened.state.run.expected.get(n, "") for n, b in opened.definition.fits.items() if b.series == body.series
    }
    expected = {_PREDICTED_POWERS[shape] for shape in shapes if shape in _PREDICTED_POWERS}
    own = {
        (power_of(other.x or "", names[0]), power_of(other.y, names[1])): name
        for name, other in opened.definition.fits.items()
        if other.series == body.series and other.model in ("line", "proportional")
    }
    shown: list[Stamp] = []
    for candidate in found:
        powers = candidate.pair.x_power, candidate.pair.y_power
        marks = [*(["the law’s"] if candidate.law else []), *(["predicted"] if powers in expected else [])]
        if len(shown) >= MOST and not marks and powers not in own:
            continue
        shown.append(_stamp(candidate, tuple(marks), own.get(powers, "")))
    return shown


def _stamp(candidate: Candidate, marks: tuple[str, ...], fit: str) -> Stamp:
    pair, names = candidate.pair, candidate.columns
    said = f"{_called(names[1], pair.y_power)} against {_called(names[0], pair.x_power)}"
    tone = "open" if pair.curved_p is None else "straight" if pair.straight else "bent"
    return Stamp(
        x=candidate.x,
        y=candidate.y,
        said=said,
        drawn=strip.stamp(pair.x, pair.y, pair.slope, pair.intercept, f"{said}: {pair.words}"),
        words=pair.words,
        tone=tone,
        marks=marks,
        fit=fit,
    )


def _called(name: str, power: float) -> str:
    return f"ln {typeset(parse(name))}" if power == LOG else typeset(parse(axis_formula(name, "", power)))


def on_own_axes(opened: RunView, series: str, x: str, y: str, touch: str = "") -> tuple[RunView, str]:
    """The run with one more straight line, on axes that somebody picked or typed, and the line’s name; with ``touch``, a tangent to the points
    there. Raises CavrelError for formulas that cannot be read, and KeyError for a table that the experiment does not have."""
    if series not in opened.definition.series:
        raise KeyError(series)
    name = OWN
    while name in opened.base.fits:
        name += "_"
    for axis, formula in (("y", y), ("x", x)):
        if not formula.strip():
            raise DefinitionError(f"fits.{name}.{axis}", "name a column, or a formula of columns")
    line = Fit(series=series, x=x, y=y, model="line", label="the line on these axes")
    run = opened.state.run

    def with_line(line: Fit) -> tuple[Definition, Program]:
        base = opened.base.model_copy(update={"fits": {**opened.base.fits, name: line}})
        headings = {key: heading for key, heading in run.headings.items() if not heading.lines}
        return base, catalogue.program_of(base, run.instruments, run.options, run.accepted, headings, run.earlier())

    base, program = with_line(line)
    if touch:
        unit = program.fits[name].x_unit
        at = read(touch, unit.text).value
        where = f"{at!r}[{unit.dimension.named()}]" if unit.dimension.named() else repr(at)
        base, program = with_line(line.model_copy(update={"model": "tangent", "at": where, "label": "the tangent"}))
    analysis = analyse(program, run)
    found: Any = replace(
        opened,
        base=base,
        definition=program.definition,
        program=program,
        analysis=analysis,
        findings=tuple(f for f in findings_of(analysis) if f not in opened.answered),
        shown={},
    )
    return found, name
