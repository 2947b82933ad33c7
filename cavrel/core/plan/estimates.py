"""What few trials say of their own scatter: drawn many times, rounding included, so that the u to expect is the one that is seen."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.components import resolution_u
from cavrel.core.definition.steps import Input
from cavrel.core.simulate.truths import own_size

Array = NDArray[np.float64]

DRAWS = 800


@dataclass(frozen=True, slots=True, kw_only=True)
class Estimate:
    """The scatter of one input's repeats.

    ``repeatability``: index of the group that it gives, -1 where none was seen.
    ``resolution``: index of the group of what the last digit adds, -1 for none.
    ``squares``: ``(DRAWS, rows)`` u² of each row's mean, SI, as runs would find it.
    ``own``: ``(rows,)`` u of each row's mean by scatter among the readings to expect, SI.
    """

    repeatability: int
    resolution: int
    squares: Array
    own: Array


def estimates_of(analysis: Analysis) -> list[Estimate]:
    """One for each input that is read several times."""
    found = []
    places = {(group.subject, group.kind): i for i, group in enumerate(analysis.perturbations.groups)}
    for readings in analysis.sheet.inputs:
        spec = readings.spec
        group = places.get((spec.key, "repeatability"), -1)
        if spec.exact or spec.count or group < 0:
            continue
        rows, own = analysis.perturbations.groups[group].rows, analysis.perturbations.groups[group].u
        assert rows is not None
        many = (~np.isnan(readings.values)).sum(axis=1)[rows]
        if len(set(many.tolist())) != 1 or many[0] < 2:
            continue
        squares = _drawn(analysis, spec, analysis.nominal[spec.key][0][rows], int(many[0]))
        found.append(
            Estimate(
                repeatability=group,
                resolution=places.get((spec.key, "resolution"), -1),
                squares=squares,
                own=own,
            )
        )
    return found


def _drawn(analysis: Analysis, spec: Input, true: Array, many: int) -> Array:
    """u² of the mean of ``many`` readings of each of ``true`` ``(rows,)``: ``(DRAWS, rows)``, SI, always the same draws."""
    rules, rows = analysis.rules, len(true)
    draw = np.random.default_rng((20, *spec.key.encode()))  # the scatter of one input is no other input's
    gauge = spec.gauge
    step = gauge.least_count if gauge is not None and gauge.least_count and not gauge.dial else 0.0
    trials = draw.normal(0.0, own_size(analysis.program, spec), (DRAWS, rows, many))
    if gauge is not None and step:
        # Where between two marks a reading lies is the true value's doing, and the instrument's, whose errors all trials share.
        limit = draw.uniform(-1, 1, (DRAWS, 1))  # of what makers print, share and digits are one
        share = draw.normal(0.0, gauge.calibration or 0.0, (DRAWS, 1)) + limit * (gauge.share or 0.0)
        offset = draw.normal(0.0, gauge.zero or 0.0, (DRAWS, 1)) + limit * (gauge.offset or 0.0)
        shown = true - spec.unit.offset
        trials = step * np.rint((trials + (shown + share * shown + offset)[:, :, None]) / step)
    variance = trials.var(axis=2, ddof=1)
    if rules.repeats == "half_range":
        half = np.ptp(trials, axis=2) / 2
        by_scatter, seen = half**2, variance
    else:
        if rules.pool != "never" and rows > 1:
            variance = np.broadcast_to(variance.mean(axis=1, keepdims=True), variance.shape)
        by_scatter, seen = variance / (1 if rules.repeats == "sd" else many), variance
    declared = float(resolution_u(step, rules)) ** 2
    return np.asarray(by_scatter + np.maximum(declared - seen, 0.0))


def median_u(parts: Array, analysis: Analysis, estimates: Sequence[Estimate]) -> float:
    """The median of u, from contributions ``parts`` ``(K,)`` of the readings to expect."""
    perturbations = analysis.perturbations
    squares = parts**2
    total = np.full(DRAWS, float(squares.sum()))
    for estimate in estimates:
        span = perturbations.span(estimate.repeatability)
        sensitivity = squares[span] / estimate.own**2
        if not sensitivity.any():
            continue
        total = total - squares[span].sum() + estimate.squares @ sensitivity
        if estimate.resolution >= 0:
            total = total - squares[perturbations.span(estimate.resolution)].sum()
    return math.sqrt(max(float(np.median(total)), 0.0))
