"""The columns behind a fit under every pair of simple axes, with what the law itself is on them."""

from dataclasses import dataclass

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.axes import Pair, axis_formula, bend_of, on_axes, pairs, power_of, tried
from cavrel.core.analysis.curve import law_curve, raw_columns
from cavrel.core.analysis.fitted import FitAnalysis

_LAW_IS_STRAIGHT = 1e-6


@dataclass(frozen=True, slots=True, kw_only=True)
class Candidate:
    """One pair of axes. ``x``, ``y``: as formulas of a definition; ``columns``: the names behind them; ``law``: the law is straight there."""

    pair: Pair
    x: str
    y: str
    columns: tuple[str, str]
    law: bool


def candidates(analysis: Analysis, fit: FitAnalysis) -> list[Candidate]:
    """Every pair that the readings of ``fit`` allow, straightest first; none where it runs over no two columns or too few rows."""
    columns = raw_columns(analysis, fit)
    body = analysis.program.definition.fits[fit.name]
    if columns is None or columns[0] == columns[1] or body.x is None or not len(fit.rows):
        return []
    x, y = (analysis.values[key] for key in columns)
    if not len(x.value) == len(y.value) == len(fit.x):
        return []
    rows = fit.rows[np.isfinite(x.value[fit.rows]) & np.isfinite(y.value[fit.rows])]
    along, up = x.unit.from_si(x.value[rows]), y.unit.from_si(y.value[rows])
    names = columns[0].split(".")[1], columns[1].split(".")[1]
    own = power_of(body.x, names[0]), power_of(body.y, names[1])
    wanted = pairs() if None in own or own in pairs() else [*pairs(), (own[0] or 0.0, own[1] or 0.0)]
    found = tried(along, up, x.own[rows] / x.unit.factor, y.own[rows] / y.unit.factor, wanted)
    by_law = _straight_by_law(analysis, fit, found, (x.unit.factor, y.unit.factor))
    return [
        Candidate(
            pair=pair,
            x=axis_formula(names[0], x.unit.text, pair.x_power),
            y=axis_formula(names[1], y.unit.text, pair.y_power),
            columns=names,
            law=(pair.x_power, pair.y_power) in by_law,
        )
        for pair in found
    ]


def _straight_by_law(
    analysis: Analysis, fit: FitAnalysis, found: list[Pair], factors: tuple[float, float]
) -> set[tuple[float, float]]:
    """The pairs on which the law itself is straight: tried on its curve, with this run's own constants in it."""
    curve = law_curve(analysis, fit)
    if curve is None:
        return set()
    # Away from the origin, where roots and reciprocals have no value or no end.
    inside = curve[0] > 0.1 * float(np.max(curve[0], initial=0.0))
    x, y = curve[0][inside] / factors[0], curve[1][inside] / factors[1]
    straight = set()
    for pair in found:
        powers = pair.x_power, pair.y_power
        with np.errstate(all="ignore"):
            seen = on_axes(x, y, powers)
            if seen is not None and len(x) > 3 and bend_of(*seen) < _LAW_IS_STRAIGHT:
                straight.add(powers)
    return straight
