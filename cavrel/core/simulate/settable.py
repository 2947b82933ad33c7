"""What a column can be set to: what there is, its steps, and round numbers between."""

import math
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from cavrel.core.definition.steps import Input
from cavrel.core.formula.evaluate import Environment

Array = NDArray[np.float64]


def step_of(spec: Input, values: Mapping[str, Array]) -> float:
    """By what a column can be set, SI, under the ``values`` ``(1, rows)`` of a sheet; zero where the definition says nothing."""
    if spec.step is None:
        return 1.0 if spec.whole else 0.0
    with np.errstate(all="ignore"):
        size = float(np.ravel(spec.step(Environment(values, {})))[0])
    return size if size > 0 and math.isfinite(size) else 0.0


def settable(spec: Input, values: Array, step: float, start: float) -> Array:
    """``values`` ``(rows,)``, SI, as they can be set: at ``step`` counted from ``start``, or, where there is none, to round numbers no finer than
    its instrument shows."""
    if step:
        return np.asarray(start + np.round((values - start) / step) * step)
    gaps = np.abs(np.diff(values))
    if not (gaps > 0).any():
        return values
    # In the unit it is set in: 52.7 cm is no round number, and neither is it one in metres.
    factor = spec.unit.factor
    size = float(gaps[gaps > 0].min()) / factor / 5
    power = 10.0 ** math.floor(math.log10(size))
    nice = max(n * power for n in (1, 2, 5) if n * power <= size * (1 + 1e-9))
    least = ((spec.gauge.step if spec.gauge.dial else spec.gauge.least_count) or 0.0) / factor if spec.gauge else 0.0
    if least and nice < least:
        nice = least
    shown = np.array([spec.unit.from_si(v) for v in values.tolist()])
    return np.array([spec.unit.to_si(round(v / nice) * nice) for v in shown.tolist()])


def resized(spec: Input, usual: Array, rows: int, step: float, alone: bool) -> Array:
    """Settings ``(rows,)``, SI, more or fewer than ``usual`` ``(n,)``. ``alone``: no other column of its table is set.

    Fewer are some of them. More lie between them, or go on beyond the last where nothing lies between; what there is only a list of, and what
    is set together with something else, is set once more from the first row on.
    """
    many = len(usual)
    if rows <= many:
        return np.asarray(usual[np.round(np.linspace(0, many - 1, rows)).astype(int)])
    if spec.listed or not alone or many < 2 or len(np.unique(usual)) < many:
        return np.asarray(usual[np.arange(rows) % many])
    between = settable(spec, np.interp(np.linspace(0, many - 1, rows), np.arange(many), usual), step, float(usual[0]))
    if len(np.unique(between)) == rows or not step:
        return between
    steps = np.diff(usual)
    gap = float(steps[0]) if np.allclose(steps, steps[0]) else math.copysign(step, float(steps[-1]))
    return np.concatenate([usual, usual[-1] + gap * np.arange(1, rows - many + 1)])
