"""What stands in the margin: suspicions, checks that fail, fits that do not hold. Nothing here alters a reading."""

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core import compare, units
from cavrel.core.analysis import Analysis
from cavrel.core.components import resolution_u
from cavrel.core.fitted import FitAnalysis
from cavrel.core.flag import Flag
from cavrel.core.formula.evaluate import Environment
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.montecarlo import MonteCarlo
from cavrel.core.reading import Reading, decimals_of
from cavrel.core.rounding import MINUS, fixed, significant
from cavrel.core.sheet import InputReadings
from cavrel.core.steps import Input
from cavrel.core.straighten import LineMeaning

Array = NDArray[np.float64]

STANDS_APART = 6.0
"""A trial this many robust standard deviations from its fellows' median is remarked on, and more where few deviations tell how large
one is."""
MISCOUNTED = 4.5
"""A timing this far out is remarked on where the distance is a whole lap."""
_FEW = 4.0
_ODD_POINT = 0.001
_BENT = 0.001
_ALPHA_FIT = 0.001
_OFF_ORIGIN = 0.001


def remarks(analysis: Analysis, meanings: Mapping[str, LineMeaning] | None = None) -> tuple[Flag, ...]:
    """Everything worth saying about ``analysis``, readings first, then fits. ``meanings``: what the law says of each line."""
    flags: list[Flag] = []
    for fault in analysis.sheet.faults:
        entry = analysis.program.input_of[fault.key]
        flags.append(
            Flag(
                "unreadable",
                "caution",
                _at(entry, fault.row, fault.trial),
                f"{_where(entry, fault.row, fault.trial)} is not a number",
                f"{fault.what[0].upper()}{fault.what[1:]}. It is kept as you wrote it and not computed with.",
                seen=fault.text,
            )
        )
    for readings in analysis.sheet.inputs:
        flags += _understood(readings)
        flags += _decimals(readings)
        flags += _implausible(analysis, readings)
        flags += _apart(analysis, readings)
    flags += _checks(analysis)
    flags += compare.apart(analysis)
    flags += _predictions(analysis)
    for fit in analysis.fits.values():
        flags += _fit(analysis, fit, (meanings or {}).get(fit.name))
    if len(analysis.program.definition.series) > 1:
        flags = [_in_table(analysis, flag) for flag in flags]
    # Two fits over one table see the same odd row: it is said once.
    return tuple({(flag.code, flag.at): flag for flag in reversed(flags)}.values())[::-1]


def _in_table(analysis: Analysis, flag: Flag) -> Flag:
    """Where an experiment has several tables, a remark on a row says which."""
    series = analysis.program.definition.series.get(flag.at.partition(".")[0])
    if series is None:
        return flag
    return replace(flag, title=f"{series.short}, {flag.title[0].lower()}{flag.title[1:]}")


def _at(entry: Input, row: int, trial: int) -> str:
    return f"quantities.{entry.name}" if entry.series is None else f"{entry.key}.{row}.{trial}"


def _where(entry: Input, row: int, trial: int) -> str:
    if entry.series is None:
        return entry.label
    return f"Row {row}, trial {trial}" if entry.repeats > 1 else f"Row {row}, {entry.label.lower()}"


def _understood(readings: InputReadings) -> list[Flag]:
    """Readings that can be meant in two ways, and numbers of things or events that are no whole number."""
    spec = readings.spec
    flags = []
    for place, reading in readings.readings.items():
        at, title, out = _at(spec, *place), _where(spec, *place), _out(spec, *place)
        wanted = decimals_of(spec.gauge.least_count, reading.unit) if spec.gauge and spec.gauge.least_count else None
        if reading.doubt and wanted != reading.decimals:
            flags.append(
                Flag("two-ways", "caution", at, f"{title}: {reading.text}?", reading.doubt, out, seen=reading.text)
            )
        number = reading.unit.from_si(reading.value)
        if not (spec.count or spec.whole) or (number >= 0 and number == int(number)):
            continue
        thing = "A count" if spec.count else "A number of things"
        say = f"{thing} is a whole number from nought up. Look at what was written."
        flags.append(Flag("not-counted", "caution", at, f"{title}: {reading.text}?", say, out, seen=reading.text))
    return flags


def _decimals(readings: InputReadings) -> list[Flag]:
    """Readings written with other decimals than the instrument gives; one remark for each column and kind."""
    spec = readings.spec
    if spec.exact or spec.gauge is None or spec.gauge.least_count is None:
        return []
    found: dict[str, list[tuple[tuple[int, int], Reading]]] = {"fewer": [], "more": []}
    for place, reading in readings.readings.items():
        if np.isnan(readings.values[place[0] - 1, place[1] - 1]) or reading.stated is not None:
            continue
        wanted = decimals_of(spec.gauge.least_count, reading.unit)
        if reading.decimals != wanted:
            found["fewer" if reading.decimals < wanted else "more"].append((place, reading))
    flags = []
    for kind, places in found.items():
        if not places:
            continue
        (row, trial), reading = places[-1]
        wanted = decimals_of(spec.gauge.least_count, reading.unit)
        others = "" if len(places) == 1 else f" So do {len(places) - 1} others here."
        given = f"{spec.gauge.label} gives {_count(wanted, 'decimal')}" + (
            f" in {reading.unit.pretty}" if reading.unit.text else ""
        )
        if kind == "fewer":
            right = fixed(reading.unit.from_si(reading.value), wanted)
            say = f"The {given}. If you read {right}, write {right}.{others}"
        else:
            say = f"The {given}; the last figures of {reading.text} were guessed.{others}"
        title = f"{_where(spec, row, trial)}: {'a decimal is missing' if kind == 'fewer' else 'too many decimals'}"
        flags.append(Flag(f"decimals-{kind}", "note", _at(spec, row, trial), title, say, seen=reading.text))
    return flags


def _count(number: int, word: str) -> str:
    words = {0: "no", 1: "one", 2: "two", 3: "three", 4: "four"}
    return f"{words.get(number, str(number))} {word}{'' if number == 1 else 's'}"


def _implausible(analysis: Analysis, readings: InputReadings) -> list[Flag]:
    """Readings outside the plausible range that the definition gives, trial by trial."""
    spec = readings.spec
    if spec.plausible is None or not readings.readings:
        return []
    # The trials take the place of the batch: the range is then judged for each of them in one call.
    values = {**analysis.nominal, spec.key: readings.values.T}
    with np.errstate(all="ignore"):
        verdict = np.broadcast_to(spec.plausible(Environment(values, analysis.sheet.keep)), readings.values.T.shape).T
    flags = []
    for row, trial in np.argwhere(verdict == 0):
        reading = readings.readings[(int(row) + 1, int(trial) + 1)]
        symbol, place = spec.label, (int(row) + 1, int(trial) + 1)
        source = analysis.program.definition
        body = source.quantities[spec.name] if spec.series is None else source.series[spec.series].columns[spec.name]
        flags.append(
            Flag(
                "implausible",
                "caution",
                _at(spec, *place),
                f"{_where(spec, *place)}: {reading.text}?",
                f"{symbol} is expected within {_range_words(body.range or '')}. Look at the decimal mark, the unit and the digits; "
                "if it is right, let it stand.",
                trial_out=_out(spec, *place),
                seen=reading.text,
            )
        )
    return flags


def _range_words(text: str) -> str:
    return typeset(parse(text))


def _out(spec: Input, row: int, trial: int) -> tuple[str, str, int, int] | None:
    return None if spec.series is None else (spec.series, spec.name, row, trial)


def _apart(analysis: Analysis, readings: InputReadings) -> list[Flag]:
    """Trials that stand apart from their fellows, judged by a scatter that one bad trial cannot inflate."""
    spec, values = readings.spec, readings.values
    present = ~np.isnan(values)
    k = present.sum(axis=1)
    if spec.exact or not (k > 2).any():
        return []
    middle = np.array([np.median(row[~np.isnan(row)]) if n else np.nan for row, n in zip(values, k, strict=True)])
    typical = [_deviations(row[~np.isnan(row)]) for row, n in zip(values, k, strict=True) if n > 2]
    deviations = np.concatenate(typical)
    declared = 0.0
    if spec.gauge is not None:
        declared = math.hypot(spec.gauge.reaction or 0.0, spec.gauge.placement or 0.0)
    if len(deviations) < 6 and not declared:
        return []
    robust = float(np.median(deviations))
    many = k > 2
    if many.sum() > 2:
        # The median deviation of a few trials is itself loose; the middle one of the rows' own scatters is as little moved by one bad row.
        robust = max(robust, float(np.median(np.nanstd(values[many], axis=1, ddof=1))))
    step = np.nanmax(np.where(present, readings.step, 0.0)) if spec.gauge is None else (spec.gauge.least_count or 0.0)
    scale = max(robust, declared if len(deviations) < 6 else 0.4 * declared, float(resolution_u(step, analysis.rules)))
    flags = []
    for i, j in np.argwhere(present & (k > 2)[:, None]):
        others = values[i][present[i] & (np.arange(values.shape[1]) != j)]
        distance = float(values[i, j] - np.median(others))
        # Of three trials one bad one drags the median of the other two along; the row's own median keeps the good ones clear.
        # Rounding alone may make a difference of one step of the scale.
        size = min(abs(distance), abs(values[i, j] - middle[i]))
        few = 1 + _FEW / len(deviations)
        lap = _miscount(analysis, spec, distance, float(np.median(others)), 0.75 * scale)
        # A whole lap's worth is told from chance at a smaller distance than just any one.
        if scale > 0 and size > (MISCOUNTED if lap else STANDS_APART) * few * scale + step:
            flags.append(
                _apart_flag(analysis, readings, int(i) + 1, int(j) + 1, distance, float(np.median(others)), scale)
            )
    return flags


_TO_DEVIATION = {3: 1.445, 4: 2.060, 5: 1.464, 6: 1.898, 7: 1.465, 8: 1.778, 9: 1.471, 10: 1.704}
"""By the number of trials: what turns the median distance from the trials' own median into a standard deviation, for normal noise (drawn
200 000 times; from ten on the values of 9 and 10 serve)."""


def _deviations(trials: Array) -> Array:
    """Distances of ``trials`` ``(k,)`` from their median, each scaled to stand for a standard deviation; the median trial itself, at no
    distance, left out."""
    k = len(trials)
    distances = np.sort(np.abs(trials - np.median(trials)))
    return np.asarray(distances[k % 2 :] * _TO_DEVIATION[k if k <= 10 else 9 + (k + 1) % 2])


def _apart_flag(
    analysis: Analysis, readings: InputReadings, row: int, trial: int, distance: float, fellows: float, scale: float
) -> Flag:
    spec = readings.spec
    reading = readings.readings[(row, trial)]
    own = spec.unit
    decimals = (
        decimals_of(spec.gauge.least_count, own) if spec.gauge and spec.gauge.least_count else max(reading.decimals, 0)
    )
    size = fixed(abs(distance) / own.factor, decimals)
    side = "below" if distance < 0 else "above"
    first = f"{reading.text} {own.pretty if reading.text.strip()[-1].isdigit() else ''}".strip()
    say = f"{first} is {size} {own.pretty} {side} its fellows"
    out, seen = _out(spec, row, trial), reading.text
    title = f"{_where(spec, row, trial)} stands apart"
    miscount = _miscount(analysis, spec, distance, fellows, scale)
    if miscount:
        counted, wanted, lap, apart = miscount
        return Flag(
            "miscount",
            "caution",
            _at(spec, row, trial),
            title,
            f"{say}, {apart}’s worth. Were {counted} {lap} counted for {wanted}?",
            trial_out=out,
            seen=seen,
        )
    return Flag(
        "stands-apart",
        "caution",
        _at(spec, row, trial),
        title,
        f"{say}, {significant(abs(distance) / scale, 2)} times the usual scatter.",
        out,
        seen=seen,
    )


def _miscount(
    analysis: Analysis, spec: Input, distance: float, fellows: float, scale: float
) -> tuple[int, int, str, str] | None:
    """Whether a timing of N laps is off by a whole lap or two: (counted, wanted, the laps' plural, the word for what is missing)."""
    if spec.timer is None or spec.unit.dimension != units.unit("s").dimension:
        return None
    steps = analysis.program.definition.steps
    laps = next((analysis.laps(i) for i, step in enumerate(steps) if step.timer == spec.timer), math.nan)
    if not laps >= 2:
        return None
    lap = fellows / laps
    missed = round(distance / lap)
    if missed == 0 or abs(missed) > 3 or abs(distance - missed * lap) > max(4 * scale, 0.15 * lap):
        return None
    words = {1: f"one {spec.timer.lap}", 2: f"two {spec.timer.plural}", 3: f"three {spec.timer.plural}"}
    return int(laps) + missed, int(laps), spec.timer.plural, words[abs(missed)]


def _checks(analysis: Analysis) -> list[Flag]:
    flags = []
    for index, holds in analysis.checks.items():
        if holds is False:
            check = analysis.program.definition.checks[index]
            flags.append(Flag(f"check-{index}", check.level, check.at, "Against the rule", check.say))
    return flags


def _predictions(analysis: Analysis) -> list[Flag]:
    """Predictions for an x outside what was measured."""
    flags = []
    for found in analysis.predictions.values():
        if found.outside:
            label = analysis.program.definition.predict[found.name].label
            say = (
                f"{label} is read off the curve where nothing was measured. The interval holds only if the same law holds there: "
                "measure nearer, or test the prediction."
            )
            flags.append(Flag("extrapolated", "caution", f"predict.{found.name}", "Outside the measured range", say))
    return flags


def monte_carlo_remarks(analysis: Analysis, drawn: Mapping[str, MonteCarlo]) -> tuple[Flag, ...]:
    """Where the distributions say something else than the linear budget (JCGM 101:2008, 8.1), or the draws are too few to tell."""
    flags = []
    for name, found in drawn.items():
        at, label = f"results.{name}", analysis.program.definition.results[name].label
        if found.lost:
            say = f"{found.lost} of {found.draws} draws give no value of {label.lower()}: its formula leaves its domain near these readings."
            flags.append(Flag("draws-lost", "caution", at, "Some draws have no result", say))
        if not found.stable:
            flags.append(
                Flag(
                    "unstable",
                    "note",
                    at,
                    "More draws needed",
                    f"The interval of {label.lower()} still moves in its last figure.",
                )
            )
        elif not found.agrees:
            unit = analysis.results[name].unit
            limit = f"{significant(found.tolerance / unit.factor, 1)} {unit.pretty}".strip()
            say = (
                f"The 95 % interval by distributions differs from the linear one by more than {limit}. "
                "The model bends, or a distribution is lopsided: believe the distributions."
            )
            flags.append(Flag("not-linear", "caution", at, "The linear budget is not enough", say))
    return tuple(flags)


def _foreseen(analysis: Analysis, fit: FitAnalysis, at: str) -> list[Flag]:
    """What the bench foresaw of the graph, against what the definition expects."""
    said = analysis.run.expected.get(fit.name)
    right = analysis.program.definition.fits[fit.name].expect
    if said is None or right is None:
        return []
    if said == right:
        return [Flag("foreseen", "note", at, f"You foresaw: {said}", "So it is.")]
    return [
        Flag("not-foreseen", "note", at, f"You foresaw: {said}", f"The law says {right}. What made the difference?")
    ]


def _fit(analysis: Analysis, fit: FitAnalysis, meaning: LineMeaning | None) -> list[Flag]:
    at = f"fits.{fit.name}"
    if not fit.made:
        return [Flag("no-fit", "note", at, "No line yet", f"{fit.reason[0].upper()}{fit.reason[1:]}.")]
    if analysis.program.definition.fits[fit.name].sketch:
        return _foreseen(analysis, fit, at)
    flags: list[Flag] = []
    found = fit.diagnostics
    assert found is not None
    series = analysis.program.fits[fit.name].series
    if found.dof < 2 and fit.theta.size > 1:
        flags.append(
            Flag(
                "few-points",
                "note",
                at,
                f"Only {len(fit.rows)} points",
                "A curve through so few points cannot show that it is wrong. Add a setting.",
            )
        )
    flags += _odd_points(fit, series)
    odd = bool(flags) and flags[-1].code == "off-line"
    if found.curvature_p is not None and found.curvature_p < _BENT and not odd:
        way = "up" if found.curvature_sign > 0 else "down"
        flags.append(
            Flag(
                "curved",
                "caution",
                at,
                f"The points bend {way}",
                "A straight line leaves a curve behind. Try other axes, or look for what changed along the table.",
            )
        )
    if found.p is not None and found.p < _ALPHA_FIT and not odd:
        flags.append(
            Flag(
                "scatter",
                "caution",
                at,
                "More scatter than the error bars allow",
                f"χ² is {significant(found.chi2 or 0.0, 2)} for {found.dof} degrees of freedom. "
                "Something is less certain than stated; the scatter is used instead.",
            )
        )
    if found.p is not None and found.dof >= 3 and found.p > 1 - 1e-4:
        flags.append(
            Flag(
                "too-good",
                "note",
                at,
                "Too good to be chance",
                f"χ² is only {significant(found.chi2 or 0.0, 2)} for {found.dof} degrees of freedom. "
                "Are the uncertainties stated too wide, or readings smoothed?",
            )
        )
    if found.runs_p is not None and found.runs_p < _BENT and not any(f.code == "curved" for f in flags):
        flags.append(
            Flag(
                "runs",
                "note",
                at,
                "Residuals keep to one side",
                "Neighbouring points err together. Something drifted, or the shape is not a line.",
            )
        )
    flags += _intercept(analysis, fit, meaning, at)
    if (
        analysis.rules.fit_uncertainty == "extreme_lines"
        and fit.source != "extreme lines"
        and "intercept" in fit.parameters
    ):
        say = "Steepest and shallowest lines cannot be drawn; the slope takes the larger of scatter and error bars instead."
        flags.append(Flag("no-extremes", "note", at, "No line passes through all error boxes", say))
    return flags + _foreseen(analysis, fit, at)


def _odd_points(fit: FitAnalysis, series: str) -> list[Flag]:
    """Points too far from the line for their number (Student's t of the deleted residual, Bonferroni over the points)."""
    found = fit.diagnostics
    assert found is not None
    n, dof = len(fit.rows), found.dof
    if dof < 2:
        return []
    t = found.standardised
    if found.chi2 is None or found.chi2 > dof:
        scale = 1.0 if found.chi2 is None else found.chi2 / dof
        squares = np.minimum(t**2 / scale, dof * (1 - 1e-12))
        t = np.sign(t) * np.sqrt(squares * (dof - 1) / (dof - squares))
        p = 2 * special.stdtr(dof - 1, -np.abs(t))
    else:
        p = _two_sided(np.abs(t), found.behind)
    worst = int(np.argmin(p))
    if p[worst] * n > _ODD_POINT:
        return []
    row = int(fit.rows[worst]) + 1
    side = "above" if found.residuals[worst] > 0 else "below"
    return [
        Flag(
            "off-line",
            "caution",
            f"{series}.{row}",
            f"Row {row} stands off the line",
            f"It lies {significant(abs(float(t[worst])), 2)} standard deviations {side} the line of the others. "
            "Look at its readings and its setting again.",
            row_out=(series, row),
        )
    ]


def _two_sided(t: Array | float, dof: float) -> Array:
    """Chance of so large a deviation either way: Student's, or normal where ``dof`` is infinite."""
    if not math.isfinite(dof):
        return np.asarray(special.erfc(np.asarray(t) / math.sqrt(2)))
    return np.asarray(2 * special.stdtr(dof, -np.asarray(t)))


def _intercept(analysis: Analysis, fit: FitAnalysis, meaning: LineMeaning | None, at: str) -> list[Flag]:
    """The law sends the line through the origin, but the readings do not."""
    if meaning is None or not meaning.through_origin or "intercept" not in fit.parameters:
        return []
    intercept, found = fit.parameters["intercept"], fit.diagnostics
    assert found is not None
    if not intercept.u > 0 or found.dof < 1:
        return []
    z = intercept.value / intercept.u
    p = (
        float(2 * special.stdtr(found.dof, -abs(z)))
        if fit.source == "scatter"
        else float(_two_sided(abs(z), found.behind))
    )
    if p > _OFF_ORIGIN:
        return []
    sign = MINUS if intercept.value < 0 else "+"
    size = significant(abs(intercept.value), 2)
    return [
        Flag(
            "intercept",
            "caution",
            at,
            "The line misses the origin",
            f"It crosses at {sign}{size} {intercept.unit.pretty}, {significant(abs(z), 2)} standard uncertainties from the zero that the law wants. "
            "Look for an offset left out or taken off twice, or a zero that was not checked.",
        )
    ]
