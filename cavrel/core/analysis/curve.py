"""The law as a curve over the readings as they were taken."""

import math

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.analysis.points import LARGEST
from cavrel.core.errors import CavrelError
from cavrel.core.formula.evaluate import Environment, compile_node
from cavrel.core.formula.nodes import Member, Name, Node, walk
from cavrel.core.formula.parse import parse, parse_law

Array = NDArray[np.float64]


def raw_columns(analysis: Analysis, fit: FitAnalysis) -> tuple[str, str] | None:
    """The columns behind a fit's axes, as (x, y) keys: of those that its formulas name the one that was varied. None where an axis names no column,
    or several that vary and were not one of them set: of such an axis no single column shows the shape."""
    series = analysis.program.definition.series
    body = analysis.program.definition.fits[fit.name]
    found = []
    for text in (body.x or "", body.y):
        if not text:
            return None
        named = [f"{body.series}.{n.name}" for n in walk(parse(text)) if isinstance(n, Name)]
        known = list(dict.fromkeys(k for k in named if k in analysis.values))
        if not known:
            return None
        most = max(_varied(analysis, k) for k in known)
        varied = [k for k in known if _varied(analysis, k) >= VARIED * most]
        if len(varied) > 1:
            varied = [k for k in varied if series[body.series].columns[k.partition(".")[2]].column_role.chosen]
        if len(varied) != 1:
            return None
        found.append(varied[0])
    return found[0], found[1]


VARIED = 0.2
"""A column counts as varied when its relative spread is at least this share of the widest one's on the same axis."""


def _varied(analysis: Analysis, key: str) -> float:
    """The spread of a column relative to its size."""
    values = analysis.values[key].value
    known = values[np.isfinite(values)]
    largest = float(np.abs(known).max(initial=0.0))
    return float(np.ptp(known)) / largest if len(known) and largest > 0 else 0.0


def law_curve(analysis: Analysis, fit: FitAnalysis, points: int = 120) -> tuple[Array, Array] | None:
    """The law's y over x ``(points,)`` each, SI, with this run's own results in it, from zero to the largest x.

    None where the law is not solved for the column on the y axis or needs something not known yet.
    """
    columns = raw_columns(analysis, fit)
    law = analysis.program.definition.law
    if columns is None or law is None or not fit.made:
        return None
    try:
        left, right = parse_law(law)
    except CavrelError:
        return None
    series, x_name = columns[0].split(".")
    if left != Name(columns[1].split(".")[1]):
        return None
    largest = float(np.nanmax(analysis.values[columns[0]].value))
    if not largest < LARGEST:
        return None
    grid = np.linspace(0.0, 1.06 * largest, points)
    values: dict[str, Array] = {"pi": np.array([[math.pi]]), f"{series}.{x_name}": grid[None, :]}

    def key(node: Name | Member) -> str:
        name = f"{node.owner}.{node.name}" if isinstance(node, Member) else node.name
        return f"{series}.{name}" if f"{series}.{name}" in values else name

    for node in walk(right):
        if isinstance(node, Name) and key(node) not in values:
            known = _known(analysis, node.name)
            if known is None:
                return None
            values[node.name] = np.array([[known]])

    def no_rows(part: Node) -> None:
        return None

    with np.errstate(all="ignore"):
        curve = compile_node(right, key, no_rows)(Environment(values, {}))[0]
    finite = np.isfinite(curve)
    return grid[finite], curve[finite]


def _known(analysis: Analysis, name: str) -> float | None:
    if name in analysis.results and math.isfinite(analysis.results[name].value):
        return analysis.results[name].value
    if name in analysis.values and len(analysis.values[name].value) == 1:
        value = float(analysis.values[name].value[0])
        return value if math.isfinite(value) else None
    return None
