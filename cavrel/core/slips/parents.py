"""One reading off by an amount that no digit explains: the amount that fits best, and what its freedom costs."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.quantity.value import amount_text
from cavrel.core.slips import carry, evidence
from cavrel.core.slips.evidence import Features
from cavrel.core.slips.hypothesis import Cell, Hypothesis
from cavrel.core.slips.readings import One, Readings

Array = NDArray[np.float64]

MOST = 40
"""So many readings are tried, those that stand out most."""
ROW = -1
"""In the place of a trial: all readings of a row."""
WHOLE_ROW = 0.25
"""Share of a row whose readings are all off alike, over that of one reading: it takes as many mistakes as there are trials, or one of the setting."""
_SPREAD = 1.5
"""Noise is larger than declared by this on average, and so is the freedom of an amount."""


def sought(analysis: Analysis, readings: Readings) -> tuple[list[Hypothesis], Array]:
    """Every reading off by the amount that fits best, and by how much each is likelier than the sheet as it stands."""
    ones = [one for one in readings.ones if not one.spec.whole or one.spec.series is not None][:MOST]
    several = [one for one in ones if one.trial == 0 and one.spec.series is not None and readings.many(one) > 1]
    ones += [replace(one, trial=ROW) for one in several]
    if not ones:
        return [], np.zeros(0)
    values = np.array([one.value for one in ones])
    u = np.array([_u(analysis, one) for one in ones])
    step = np.maximum(3 * u, 0.02 * np.abs(values))
    amount = np.zeros(len(ones))
    width = u
    for _ in range(2):
        tried = np.concatenate([amount - step, amount, amount + step])
        low, middle, high = squares(carry.features(analysis, _moved(readings, ones * 3, tried)))[1:].reshape(3, -1)
        bend = (low - 2 * middle + high) / step**2
        slope = (high - low) / (2 * step)
        known = (bend > 0) & np.isfinite(bend) & np.isfinite(slope)
        moved = np.where(known, -slope / np.where(known, bend, 1.0), 0.0)
        amount = amount + np.clip(moved, -20 * step, 20 * step)
        width = np.where(known, np.sqrt(2 / np.where(known, bend, 1.0)), width)
        step = np.maximum(width, 0.1 * np.abs(amount - 0.0) * (np.abs(moved) > step))
    features = carry.features(analysis, _moved(readings, ones, amount))
    likelihood = evidence.likelihood(features)
    size = np.maximum(np.abs(amount), width)
    span = np.log(np.maximum(np.abs(values) * 10 / np.maximum(u, 1e-300), 10.0))
    price = np.log(width * _SPREAD * math.sqrt(2 * math.pi) / (2 * size * span))
    gain = np.nan_to_num(likelihood[1:] - likelihood[0] + np.minimum(price, 0.0), nan=-50.0)
    hypotheses = []
    for one, by in zip(ones, amount.tolist(), strict=True):
        unit = one.spec.unit.difference
        much = amount_text(abs(by), unit, 2)
        hypotheses.append(
            Hypothesis(
                family="off",
                at=one.at if one.trial != ROW else f"{one.spec.key}.{one.row + 1}",
                say=f"{'the row is' if one.trial == ROW else 'it is'} about {much} too {'large' if by < 0 else 'small'}",
                do="read it again",
                share=WHOLE_ROW if one.trial == ROW else 1.0,
                **_change(readings, one, by, one.written(one.value + by) if one.trial != ROW else ""),
            )
        )
    return hypotheses, np.asarray(gain)


def squares(features: Features) -> Array:
    """Everything of a sheet that is squared, ``(H,)``."""
    total = features.distance_of_differences.copy()
    tables: dict[str, Array] = {}
    for fit in features.fits.values():
        own = fit.squares if fit.known else fit.squares * fit.dof / max(float(fit.squares[0]), 1e-300)
        tables[fit.series] = np.maximum(tables[fit.series], own) if fit.series in tables else own
    for own in tables.values():
        total = total + own
    for repeats in features.repeats.values():
        total = total + repeats.squares
    return np.asarray(total)


def _moved(readings: Readings, ones: list[One], amounts: Array) -> list[Hypothesis]:
    return [
        Hypothesis(family="off", at=one.at, say="", do="", **_change(readings, one, by))
        for one, by in zip(ones, amounts.tolist(), strict=True)
    ]


def _change(readings: Readings, one: One, by: float, text: str = "?") -> dict[str, Any]:
    """The cell, or the column with its row moved, ``by`` SI."""
    if one.trial != ROW:
        return {"cells": (Cell(one.spec.key, one.row, one.trial, one.value + by, text),)}
    values = readings.entries[one.spec.key].values.copy()
    values[one.row] += by
    return {"columns": {one.spec.key: values}}


def _u(analysis: Analysis, one: One) -> float:
    entry = next(e for e in analysis.sheet.inputs if e.spec.key == one.spec.key)
    u = math.sqrt(evidence.declared(entry, analysis.rules))
    known = float(analysis.values[one.spec.key].u[one.row]) if one.spec.key in analysis.values else math.nan
    u = max(u, known if math.isfinite(known) else 0.0)
    return u if u > 0 else max(abs(one.value) * 1e-3, 1e-12)
