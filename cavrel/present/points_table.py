"""The points of a graph as a table: what stands on its axes, how far each lies from the line, and the logarithms that the other school draws."""

import math
from dataclasses import dataclass

from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.quantity import units
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.units import Unit
from cavrel.graph.points import Axis, Mark
from cavrel.present import graphs
from cavrel.service.run_view import RunView

_ONE = units.unit("")
MOST = 200
"""So many points are listed, those that are left out before others: a page with thousands is read by nobody, and the tables leave as CSV."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ListedPoint:
    """One row: its ``label`` for who hears the page, the slot ``at`` that takes it out, whether it is ``out``, and its ``cells``."""

    label: str
    at: str
    out: bool
    cells: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Listed:
    """A table of points: (name, unit) of each column in ``heads``, ``points`` as far as they are listed, ``many`` of them in all, and how many
    of those are left ``out``."""

    heads: tuple[tuple[str, str], ...]
    points: tuple[ListedPoint, ...]
    many: int
    out: int


def listed(opened: RunView, fit: FitAnalysis) -> Listed:
    """The points of ``fit``. Where a power law is fitted to the same table, its columns' logarithms stand next to them."""
    step = opened.program.fits[fit.name]
    across, up = graphs.fit_axes(opened, fit)
    marks = graphs.fit_marks(opened, fit)
    off = _residuals(fit)
    heads = [(across.symbol, across.unit), (up.symbol, up.unit)]
    if off:
        heads.append(("off the line", up.unit))
    power = _power(opened, fit)
    logged: dict[str, Mark] = {}
    if power is not None:
        logged = {mark.at: mark for mark in graphs.fit_marks(opened, power)}
        heads += [_ln(axis) for axis in graphs.fit_axes(opened, power)]
    points = []
    out = [mark for mark in marks if mark.state == "out"]
    shown = marks
    if len(marks) > MOST:
        wanted = {mark.at for mark in [*out, *(mark for mark in marks if mark.state != "out")][:MOST]}
        shown = [mark for mark in marks if mark.at in wanted]
    for mark in shown:
        cells = [_said(opened, mark.x, mark.u_x), _said(opened, mark.y, mark.u_y)]
        row = int(mark.at.rpartition(".")[2]) - 1
        if off:
            cells.append(_off(off, row, step.y_unit, mark.u_y))
        if power is not None:
            other = logged.get(mark.at)
            cells += [_logarithm(opened, v, u) for v, u in _both(other)] if other else ["", ""]
        points.append(ListedPoint(label=mark.label, at=mark.at, out=mark.state == "out", cells=tuple(cells)))
    return Listed(heads=tuple(heads), points=tuple(points), many=len(marks), out=len(out))


def _power(opened: RunView, fit: FitAnalysis) -> FitAnalysis | None:
    """The power law through the same table, the other school's way to the exponent."""
    series = opened.program.fits[fit.name].series
    for name, other in opened.analysis.fits.items():
        if opened.program.fits[name].series == series and opened.program.fits[name].model == "power":
            return other
    return None


def _residuals(fit: FitAnalysis) -> dict[int, float]:
    """By row from 0, SI."""
    if not fit.made or fit.diagnostics is None:
        return {}
    return dict(zip(fit.rows.tolist(), fit.diagnostics.residuals.tolist(), strict=True))


def _both(mark: Mark) -> tuple[tuple[float, float], tuple[float, float]]:
    return (mark.x, mark.u_x), (mark.y, mark.u_y)


def _ln(axis: Axis) -> tuple[str, str]:
    return f"ln {axis.symbol}", f"{axis.symbol} in {axis.unit}" if axis.unit else ""


def _said(opened: RunView, value: float, u: float) -> str:
    """A number in the unit of its column, with its u where it has one."""
    if u > 0 and math.isfinite(u):
        return opened.analysis.measured(value, u, _ONE).bare()
    return significant(value, 6)


def _logarithm(opened: RunView, value: float, u: float) -> str:
    """ln of a number, empty where it has none; its u is u/x to first order (JCGM 100 5.1.3)."""
    return _said(opened, math.log(value), u / value) if value > 0 else ""


def _off(residuals: dict[int, float], row: int, unit: Unit, u: float) -> str:
    """How far a row lies from the line, to a digit more than its u calls for; empty for one that no line takes."""
    if row not in residuals:
        return ""
    off = residuals[row] / unit.factor
    sign = "−" if off < 0 else "+"
    if not (u > 0 and math.isfinite(u)):
        return sign + significant(abs(off), 3)
    return f"{sign}{abs(off):.{min(max(0, 1 - math.floor(math.log10(u))), 12)}f}"
