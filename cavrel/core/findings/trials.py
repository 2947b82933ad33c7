"""Possible outliers among trials, and counts that cannot be."""

import math

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.components import resolution_u
from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.definition.steps import Input
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.reading_places import place_of, place_words, trial_out
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of
from cavrel.core.quantity.rounding import fixed, significant

Array = NDArray[np.float64]


STANDS_APART = 6.0
"""A trial this many robust standard deviations from the other trials' median is remarked on, and more where few deviations tell how large
one is."""
MISCOUNTED = 4.5
"""A timing this far out is remarked on where the distance is a whole lap."""
_FEW = 4.0


def of_trials(analysis: Analysis, readings: InputReadings) -> list[Finding]:
    """Possible outliers among the trials of a row, by a scatter that one bad trial cannot inflate."""
    spec, values = readings.spec, readings.values
    present = ~np.isnan(values)
    k = present.sum(axis=1)
    if spec.exact or spec.count or not (k > 1).any():
        return []
    if not (k > 2).any():
        return _two_apart(analysis, readings)
    many = k > 2
    middle = _medians(values, k)
    deviations = _deviations(values[many], middle[many], k[many])
    declared = 0.0
    if spec.gauge is not None:
        declared = _most_declared(readings)
    if len(deviations) < 6:
        return _few_apart(analysis, readings)
    robust = float(np.median(deviations))
    if many.sum() > 2:
        # The median deviation of a few trials is itself loose; the middle one of the rows' own scatters is as little moved by one bad row.
        robust = max(robust, float(np.median(_spread(values[many], k[many]))))
    step = np.nanmax(np.where(present, readings.step, 0.0)) if spec.gauge is None else _coarsest(readings)
    scale = max(robust, 0.4 * declared, float(resolution_u(step, analysis.rules)))
    few = 1 + _FEW / len(deviations)
    findings = []
    # No trial nearer to its row's median than this can stand apart by any of the rules below.
    with np.errstate(invalid="ignore"):
        far = np.abs(values - middle[:, None]) > MISCOUNTED * few * scale + step
    for i, j in np.argwhere(present & (k > 2)[:, None] & far):
        others = values[i][present[i] & (np.arange(values.shape[1]) != j)]
        distance = float(values[i, j] - np.median(others))
        # Of three trials one bad one drags the median of the other two along; the row's own median keeps the good ones clear.
        # Rounding alone may make a difference of one step of the scale.
        size = min(abs(distance), abs(values[i, j] - middle[i]))
        lap = _miscount(analysis, spec, distance, float(np.median(others)), 0.75 * scale)
        # A whole lap's worth is told from chance at a smaller distance than just any one.
        if scale > 0 and size > (MISCOUNTED if lap else STANDS_APART) * few * scale + step:
            findings.append(
                _apart_finding(analysis, readings, int(i) + 1, int(j) + 1, distance, float(np.median(others)), scale)
            )
    return findings


def _most_declared(readings: InputReadings) -> float:
    """Placing and reaction by the least certain instrument that a column was read with, SI."""
    return float(np.hypot(readings.by_gauge("reaction"), readings.by_gauge("placement")).max(initial=0.0))


def _coarsest(readings: InputReadings) -> float:
    """The largest least count of those, SI."""
    return float(readings.by_gauge("least_count").max(initial=0.0))


FAR_BY_INSTRUMENT = 12.0
"""Two or three readings of one thing so many times what their instrument declares apart, and by more than `FAR_SHARE` of themselves, are
asked about: their own scatter is no measure."""
FAR_SHARE = 0.05


def _declared(analysis: Analysis, readings: InputReadings) -> float:
    """What one reading may be off by the instrument's own word, SI."""
    gauge = readings.spec.gauge
    steps = readings.step[np.isfinite(readings.step)]
    step = _coarsest(readings) if gauge is not None and gauge.least_count else float(steps.max()) if len(steps) else 0.0
    own = _most_declared(readings) if gauge is not None else 0.0
    return math.hypot(own, float(resolution_u(step, analysis.rules)))


def _far(distance: float, size: float, declared: float) -> bool:
    return declared > 0 and distance > FAR_BY_INSTRUMENT * declared and distance > FAR_SHARE * abs(size)


def _few_apart(analysis: Analysis, readings: InputReadings) -> list[Finding]:
    """Of a few readings of one thing, one far from the others by what the instrument declares."""
    findings, declared = [], _declared(analysis, readings)
    for i, row in enumerate(readings.values):
        known = np.flatnonzero(~np.isnan(row))
        if len(known) < 3:
            continue
        middle = float(np.median(row[known]))
        worst = int(known[np.argmax(np.abs(row[known] - middle))])
        others = row[known[known != worst]]
        distance = float(row[worst] - np.median(others))
        lap = _miscount(analysis, readings.spec, distance, float(np.median(others)), declared)
        far = _far(abs(distance), middle, declared) or (lap is not None and abs(distance) > MISCOUNTED * declared)
        # The others agree among themselves: it is this one that stands apart.
        if far and np.ptp(others) < 0.3 * abs(distance):
            findings.append(
                _apart_finding(analysis, readings, i + 1, worst + 1, distance, float(np.median(others)), declared)
            )
    return findings


def _two_apart(analysis: Analysis, readings: InputReadings) -> list[Finding]:
    """Two readings of one thing that cannot both be right."""
    findings, declared, spec = [], _declared(analysis, readings), readings.spec
    for i, row in enumerate(readings.values):
        known = np.flatnonzero(~np.isnan(row))
        if len(known) != 2 or not _far(float(np.ptp(row[known])), float(np.abs(row[known]).max()), declared):
            continue
        place = (i + 1, int(known[1]) + 1)
        texts = [readings.text(i + 1, int(j) + 1) for j in known]
        said = [f"{t} {spec.unit.pretty}".strip() if t.strip()[-1].isdigit() else t for t in texts]
        say = f"{said[0]} and {said[1]} cannot both be right. Take a third."
        title = f"{place_words(spec, *place)}: two that differ"
        findings.append(
            Finding(
                code="stands-apart",
                level="caution",
                at=place_of(spec, *place),
                title=title,
                say=say,
                trial_out=trial_out(spec, *place),
                seen=texts[1],
            )
        )
    return findings


_TO_DEVIATION = {3: 1.445, 4: 2.060, 5: 1.464, 6: 1.898, 7: 1.465, 8: 1.778, 9: 1.471, 10: 1.704}
"""By the number of trials: what turns the median distance from the trials' own median into a standard deviation, for normal noise (drawn
200 000 times; from ten on the values of 9 and 10 serve)."""


def _medians(values: Array, k: NDArray[np.intp]) -> Array:
    """Median of each row's ``k`` numbers ``(rows,)``, of ``values`` ``(rows, trials)`` with NaN where there is none."""
    ordered, rows = np.sort(values, axis=1), np.arange(len(values))  # NaN goes last
    return np.asarray(
        (ordered[rows, np.maximum(k - 1, 0) // 2] + ordered[rows, np.minimum(k // 2, np.maximum(k - 1, 0))]) / 2
    )


def _spread(values: Array, k: NDArray[np.intp]) -> Array:
    """Standard deviation of each row's ``k`` numbers ``(rows,)``."""
    known = ~np.isnan(values)
    mean = np.where(known, values, 0.0).sum(axis=1) / k
    away = np.where(known, values - mean[:, None], 0.0)
    return np.asarray(np.sqrt(np.einsum("rt,rt->r", away, away) / (k - 1)))


def _deviations(values: Array, middle: Array, k: NDArray[np.intp]) -> Array:
    """Distances of every row's ``k`` trials from their median ``middle`` ``(rows,)``, each scaled to stand for a standard deviation; the
    median trial itself, at no distance, left out."""
    distances = np.sort(np.abs(values - middle[:, None]), axis=1)
    scale = np.array([_TO_DEVIATION[n if n <= 10 else 9 + (n + 1) % 2] for n in k.tolist()])
    place = np.arange(values.shape[1])
    return np.asarray((distances * scale[:, None])[(place >= (k % 2)[:, None]) & (place < k[:, None])])


def _apart_finding(
    analysis: Analysis, readings: InputReadings, row: int, trial: int, distance: float, others: float, scale: float
) -> Finding:
    spec = readings.spec
    reading, text = readings.readings.get((row, trial)), readings.text(row, trial)
    own = spec.unit
    typed = max(reading.decimals, 0) if reading is not None else 4
    gauge = readings.gauge_at(row, trial)
    decimals = decimals_of(gauge.least_count, own) if gauge and gauge.least_count else typed
    size = fixed(abs(distance) / own.factor, decimals)
    side = "below" if distance < 0 else "above"
    first = f"{text} {own.pretty if text.strip()[-1].isdigit() else ''}".strip()
    say = f"{first} is {size} {own.pretty} {side} the other trials"
    out, seen = trial_out(spec, row, trial), text
    title = f"{place_words(spec, row, trial)} is a possible outlier"
    miscount = _miscount(analysis, spec, distance, others, scale)
    if miscount:
        counted, wanted, lap, missing = miscount
        return Finding(
            code="miscount",
            level="caution",
            at=place_of(spec, row, trial),
            title=title,
            say=f"{say}, {_possessive(missing)} worth. Were {counted} {lap} counted for {wanted}?",
            trial_out=out,
            seen=seen,
        )
    return Finding(
        code="stands-apart",
        level="caution",
        at=place_of(spec, row, trial),
        title=title,
        say=f"{say}, {significant(abs(distance) / scale, 2)} times the usual scatter.",
        trial_out=out,
        seen=seen,
    )


def _possessive(words: str) -> str:
    """``one swing’s``, ``two swings’``."""
    return f"{words}’" if words.endswith("s") else f"{words}’s"


def _miscount(
    analysis: Analysis, spec: Input, distance: float, others: float, scale: float
) -> tuple[int, int, str, str] | None:
    """Whether a timing of N laps is off by a whole lap or two: (counted, wanted, the laps' plural, the word for what is missing)."""
    if spec.timer is None or spec.unit.dimension != units.unit("s").dimension:
        return None
    steps = analysis.program.definition.steps
    laps = next((analysis.laps(i) for i, step in enumerate(steps) if step.timer == spec.timer), math.nan)
    if not laps >= 2:
        return None
    lap = others / laps
    missed = round(distance / lap)
    if missed == 0 or abs(missed) > 3 or abs(distance - missed * lap) > max(4 * scale, 0.15 * lap):
        return None
    words = {1: f"one {spec.timer.lap}", 2: f"two {spec.timer.plural}", 3: f"three {spec.timer.plural}"}
    return int(laps) + missed, int(laps), spec.timer.plural, words[abs(missed)]
