"""Set points of a plan: as written, as pegs on a scale, evenly spaced, and which of them cannot stand."""

import math
from dataclasses import dataclass

import numpy as np

from cavrel.core.errors import CavrelError
from cavrel.core.formula.evaluate import Environment
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.logbook.run import trials
from cavrel.core.plan.changes import texts_of
from cavrel.core.quantity.reading import read
from cavrel.core.simulate.settable import settable, step_of
from cavrel.graph import set_point_scale
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class SetPoints:
    """The set points of a column.

    ``key``: ``series.column``.
    ``label``, ``unit``: of the column.
    ``texts``: as written, one a row.
    ``planned``: they are the bench's own, not the definition's suggestion.
    ``low``, ``high``, ``step``: what is allowed and what can be set, in its unit; NaN where anything is.
    ``drawing``: pegs on a scale.
    ``axes``: (what, texts) of evenly spaced set points, in the column itself and along another axis; and of the same in another order.
    ``outside``: why some cannot stand, empty where all can.
    """

    key: str
    label: str
    unit: str
    texts: tuple[str, ...]
    planned: bool
    low: float
    high: float
    step: float
    drawing: str
    axes: tuple[tuple[str, str], ...]
    outside: str


@optional("set points", list)
def set_points(opened: RunView) -> list[SetPoints]:
    """Every column that is set, with its pegs."""
    found = []
    for key, spec in opened.program.input_of.items():
        if not spec.chosen or spec.series is None or spec.series in opened.state.run.plan.without:
            continue
        planned = opened.state.run.plan.settings.get(key)
        texts = list(planned) if planned else _taken(opened, key) or _usual(opened, key)
        values = []
        for text in texts:
            try:
                values.append(read(text, spec.unit.text, spec.difference).value)
            except CavrelError:
                values.append(math.nan)
        array = np.array(values, float)
        low, high = _allowed(opened, key, array)
        good = _good(opened, key, array)
        factor = spec.unit
        shown = [factor.from_si(v) for v in values]
        finite = [v for v in shown if math.isfinite(v)]
        bottom, top = factor.from_si(low), factor.from_si(high)
        least = spec.gauge.least_count or 0.0 if spec.gauge is not None else 0.0
        step = (step_of(spec, opened.analysis.nominal) or least) / factor.factor
        step = step or 10.0 ** math.floor(math.log10(max(top - bottom, 1e-12)) - 2)
        drawing = ""
        if finite and len(finite) <= set_point_scale.MOST and top > bottom:
            span = max(finite) - min(finite) or abs(finite[0]) or 1.0
            left, right = max(bottom, min(finite) - 0.35 * span), min(top, max(finite) + 0.5 * span)
            points = [
                set_point_scale.Peg(text=text, value=value, outside=not fine)
                for text, value, fine in zip(texts, shown, good, strict=True)
                if math.isfinite(value)
            ]
            drawing = set_point_scale.pegs(points, left, right, step, factor.pretty, spec.label)
        bad = [text for text, fine in zip(texts, good, strict=True) if not fine]
        body = opened.definition.series[spec.series].columns[spec.name]
        outside = ""
        if bad:
            outside = (
                f"{', '.join(bad[:4])} {factor.pretty}: outside {typeset(parse(body.range or ''))}."
                if body.range
                else ""
            )
        found.append(
            SetPoints(
                key=key,
                label=spec.label,
                unit=factor.pretty,
                texts=tuple(texts),
                planned=bool(planned),
                low=bottom,
                high=top,
                step=step,
                drawing=drawing,
                axes=(*_evenly(opened, key, array), *_orders(texts, array)),
                outside=outside,
            )
        )
    return found


def _taken(opened: RunView, key: str) -> list[str]:
    """What the bench has set already, in order."""
    series, column = key.split(".")
    return [
        text for cell in opened.state.run.series.get(series, {}).get(column, []) if (text := trials(cell)[0].strip())
    ]


def _usual(opened: RunView, key: str) -> list[str]:
    """What the definition suggests for a column, as it would be written."""
    if key not in opened.program.suggestions:
        return []
    with np.errstate(all="ignore"):
        numbers = opened.analysis.suggested(key)
    return texts_of(opened.analysis, key, np.asarray(numbers)) if np.isfinite(numbers).all() else []


def _good(opened: RunView, key: str, values: np.ndarray) -> list[bool]:
    """Which of ``values`` ``(n,)``, SI, lie in the column's plausible range; all where it has none."""
    spec = opened.program.input_of[key]
    if spec.plausible is None or not len(values):
        return [True] * len(values)
    given = {**opened.analysis.nominal, key: values[None, :]}
    with np.errstate(all="ignore"):
        verdict = np.broadcast_to(spec.plausible(Environment(given, {})), (1, len(values)))[0]
    return [bool(v == 1.0) or math.isnan(v) for v in verdict.tolist()]


def _allowed(opened: RunView, key: str, values: np.ndarray) -> tuple[float, float]:
    """The range, SI, in which set points of a column may lie: found by trying, for a range is a formula."""
    spec = opened.program.input_of[key]
    finite = values[np.isfinite(values)]
    size = float(np.abs(finite).max(initial=0.0)) or 1.0
    grid = np.concatenate([-size * np.geomspace(100, 1e-3, 200), [0.0], size * np.geomspace(1e-3, 100, 800)])
    good = np.array(_good(opened, key, grid)) if spec.plausible is not None else (grid >= 0) & (grid <= 2 * size)
    inside = np.flatnonzero(good)
    if not len(inside):
        return float(grid[0]), float(grid[-1])
    first, last = int(inside[0]), int(inside[-1])
    low = _edge(opened, key, float(grid[first - 1]), float(grid[first])) if first else float(grid[0])
    high = _edge(opened, key, float(grid[last + 1]), float(grid[last])) if last + 1 < len(grid) else float(grid[-1])
    return low, high


def _edge(opened: RunView, key: str, outside: float, inside: float) -> float:
    """Where a range ends between a value outside and one inside it, by halving."""
    if opened.program.input_of[key].plausible is None:
        return inside
    for _ in range(36):
        middle = (outside + inside) / 2
        if _good(opened, key, np.array([middle]))[0]:
            inside = middle
        else:
            outside = middle
    return inside


def _orders(texts: list[str], values: np.ndarray) -> list[tuple[str, str]]:
    """The same set points in another order: on purpose out of it, so that what drifts with time does not look like what goes with the
    setting; or in order again."""
    if len(texts) < 4 or not np.isfinite(values).all():
        return []
    rising = [texts[i] for i in np.argsort(values, kind="stable")]
    half = (len(rising) + 1) // 2
    mixed = [text for pair in zip(rising[:half], [*rising[half:], ""], strict=False) for text in pair if text]
    return [
        (words, " ".join(made)) for words, made in (("in random order", mixed), ("in order", rising)) if made != texts
    ]


def _evenly(opened: RunView, key: str, values: np.ndarray) -> list[tuple[str, str]]:
    """As many set points between the least and the greatest, evenly in the column, and evenly in a fit's x where that is a formula of the
    column alone."""
    finite = values[np.isfinite(values)]
    spec = opened.program.input_of[key]
    if len(finite) < 3 or np.ptp(finite) == 0 or spec.listed:
        return []
    low, high, many = float(finite.min()), float(finite.max()), len(finite)
    found = [("evenly spaced", np.linspace(low, high, many))]
    for step in opened.program.fits.values():
        if step.series != spec.series or step.run_x is None or step.x is None:
            continue
        grid = np.linspace(low, high, 400)
        given = {**{k: v for k, v in opened.analysis.nominal.items() if "." not in k}, key: grid[None, :]}
        try:
            with np.errstate(all="ignore"):
                along = np.broadcast_to(step.run_x(Environment(given, {})), (1, 400))[0]
        except KeyError:
            continue  # it rests on readings
        ways = np.diff(along)
        if (
            not np.isfinite(along).all()
            or not ((ways > 0).all() or (ways < 0).all())
            or np.allclose(ways, ways[0], rtol=1e-6)
        ):
            continue
        even = np.linspace(along[0], along[-1], many)
        order = 1 if along[-1] > along[0] else -1
        found.append((f"even in {typeset(step.x)}", np.interp(order * even, order * along, grid)))
    least = step_of(spec, opened.analysis.nominal)
    if least:  # no finer than what there is to hang or to wait for
        found = [(words, settable(spec, points, least, float(finite[0]))) for words, points in found]
    return [(words, " ".join(texts_of(opened.analysis, key, points))) for words, points in found]
