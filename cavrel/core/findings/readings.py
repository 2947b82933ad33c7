"""What is odd about readings: decimals, sizes, trials that stand apart, counts that cannot be."""

import math
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.reading_places import place_of, place_words, trial_out
from cavrel.core.findings.trials import of_trials
from cavrel.core.formula.evaluate import Environment
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.quantity.reading import Reading, decimals_of
from cavrel.core.quantity.rounding import fixed
from cavrel.core.quantity.value import amount_text

Array = NDArray[np.float64]


def of_readings(analysis: Analysis) -> list[Finding]:
    """Everything worth saying about single readings."""
    findings = _unreadable(analysis)
    for readings in analysis.sheet.inputs:
        findings += _understood(readings, analysis.rules.decimal == "comma")
        findings += _overlaps(readings)
        findings += _decimals(readings)
        findings += _implausible(analysis, readings)
        findings += _over_range(readings)
        findings += of_trials(analysis, readings)
    return findings


def _unreadable(analysis: Analysis) -> list[Finding]:
    findings = []
    for fault in analysis.sheet.faults:
        entry = analysis.program.input_of[fault.key]
        findings.append(
            Finding(
                code="unreadable",
                level="caution",
                at=place_of(entry, fault.row, fault.trial),
                title=f"{place_words(entry, fault.row, fault.trial)} is not a number",
                say=f"{fault.what[0].upper()}{fault.what[1:]}. It is kept as typed and not used in the computation.",
                seen=fault.text,
            )
        )
    return findings


def _overlaps(readings: InputReadings) -> list[Finding]:
    """Intervals, typed from and to, of which one begins before another ends: what was counted in both is counted twice."""
    spans = sorted((r.ends, place) for place, r in readings.readings.items() if r.ends is not None)
    findings = []
    for ((_, end), (row, first)), ((begin, _), (other, trial)) in pairwise(spans):
        if row != other and begin < end and not math.isclose(begin, end, rel_tol=1e-9):
            findings.append(
                Finding(
                    code="overlap",
                    level="danger",
                    at=place_of(readings.spec, other, trial),
                    title=f"Rows {row} and {other} overlap",
                    say=f"“{readings.readings[row, first].text}” ends after “{readings.readings[other, trial].text}” begins, so what happened "
                    "in both is counted twice. Correct where one of them begins or ends.",
                    seen=readings.readings[other, trial].text,
                )
            )
    return findings


def _understood(readings: InputReadings, comma: bool) -> list[Finding]:
    """Readings that can be meant in two ways, and numbers of things or events that are no whole number. ``comma``: the course's decimal mark
    is one, so that nobody is asked what it meant."""
    spec = readings.spec
    findings = []
    for place, reading in readings.readings.items():
        say = []
        if reading.doubt and not comma:
            gauge = readings.gauge_at(*place)
            wanted = decimals_of(gauge.least_count, reading.unit) if gauge and gauge.least_count else None
            if wanted != reading.decimals:
                say.append(("two-ways", reading.doubt))
        if spec.count or spec.whole:
            number = reading.unit.from_si(reading.value)
            if not (number >= 0 and number == int(number)):
                thing = "A count" if spec.count else "A number"
                say.append(("not-counted", f"{thing} must be a whole number, zero or larger. Check what was typed."))
        for code, words in say:
            findings.append(
                Finding(
                    code=code,
                    level="caution",
                    at=place_of(spec, *place),
                    title=f"{place_words(spec, *place)}: {reading.text}?",
                    say=words,
                    trial_out=trial_out(spec, *place),
                    seen=reading.text,
                )
            )
    return findings


def _decimals(readings: InputReadings) -> list[Finding]:
    """Readings written with other decimals than the instrument gives; one remark for each column and kind."""
    spec = readings.spec
    # What is given, set or counted has the digits that it was given, set or counted with.
    chosen = spec.exact or spec.chosen or spec.whole or spec.count
    if chosen or spec.gauge is None or spec.gauge.least_count is None:
        return []
    found: dict[str, list[tuple[tuple[int, int], Reading]]] = {"fewer": [], "more": []}
    counted = ~np.isnan(readings.values)
    unit, wanted = spec.unit, decimals_of(spec.gauge.least_count, spec.unit)
    for place, reading in readings.readings.items():
        gauge = readings.gauge_at(*place) if readings.earlier else spec.gauge
        if gauge is None or not gauge.least_count:
            continue
        if (
            reading.unit is not unit or readings.earlier
        ):  # of one typed with a unit of its own, or read with another instrument
            unit, wanted = reading.unit, decimals_of(gauge.least_count, reading.unit)
        odd = reading.decimals != wanted and reading.stated is None
        if odd and counted[place[0] - 1, place[1] - 1]:
            found["fewer" if reading.decimals < wanted else "more"].append((place, reading))
    findings = []
    for kind, places in found.items():
        if not places:
            continue
        (row, trial), reading = places[-1]
        gauge = readings.gauge_at(row, trial)
        assert gauge is not None and gauge.least_count
        wanted = decimals_of(gauge.least_count, reading.unit)
        others = "" if len(places) == 1 else f" So do {len(places) - 1} others here."
        several = gauge.label.endswith("s") and not gauge.label.endswith("ss")
        given = f"{gauge.label} {'give' if several else 'gives'} {_count(wanted, 'decimal')}" + (
            f" in {reading.unit.pretty}" if reading.unit.text else ""
        )
        if kind == "fewer":
            right = fixed(reading.unit.from_si(reading.value), wanted)
            say = f"The {given}. If you read {right}, write {right}.{others}"
        else:
            say = f"The {given}; the last digits of {reading.text} cannot be read on it.{others}"
        title = f"{place_words(spec, row, trial)}: {'a decimal is missing' if kind == 'fewer' else 'too many decimals'}"
        findings.append(
            Finding(
                code=f"decimals-{kind}",
                level="note",
                at=place_of(spec, row, trial),
                title=title,
                say=say,
                seen=reading.text,
            )
        )
    return findings


def _count(number: int, word: str) -> str:
    words = {0: "no", 1: "one", 2: "two", 3: "three", 4: "four"}
    return f"{words.get(number, str(number))} {word}{'' if number == 1 else 's'}"


def _implausible(analysis: Analysis, readings: InputReadings) -> list[Finding]:
    """Readings outside the plausible range that the definition gives, trial by trial."""
    spec = readings.spec
    if spec.plausible is None or np.isnan(readings.values).all():
        return []
    # The trials take the place of the batch: the range is then judged for each of them in one call.
    values = {**analysis.nominal, spec.key: readings.values.T}
    with np.errstate(all="ignore"):
        verdict = np.broadcast_to(spec.plausible(Environment(values, analysis.sheet.keep)), readings.values.T.shape).T
    findings = []
    for row, trial in np.argwhere(verdict == 0):
        symbol, place = spec.label, (int(row) + 1, int(trial) + 1)
        text = readings.text(*place)
        source = analysis.program.definition
        body = source.quantities[spec.name] if spec.series is None else source.series[spec.series].columns[spec.name]
        findings.append(
            Finding(
                code="implausible",
                level="caution",
                at=place_of(spec, *place),
                title=f"{place_words(spec, *place)}: {text}?",
                say=f"{symbol} is expected within {_range_words(body.range or '')}. Check the decimal mark, the unit and the digits; "
                "if it is right, keep it.",
                trial_out=trial_out(spec, *place),
                seen=text,
            )
        )
    return findings


def _over_range(readings: InputReadings) -> list[Finding]:
    """Readings larger than their instrument can show."""
    spec = readings.spec
    if spec.gauge is None or (spec.gauge.full_scale is None and not readings.earlier):
        return []
    findings = []
    limits = (
        readings.by_gauge("full_scale")
        if readings.earlier
        else np.full_like(readings.values, spec.gauge.full_scale or 0.0)
    )
    beyond = (limits > 0) & (np.abs(readings.values - spec.unit.offset) > limits * (1 + 1e-9))
    for row, trial in np.argwhere(beyond):
        gauge, limit = readings.gauge_at(int(row) + 1, int(trial) + 1), float(limits[row, trial])
        assert gauge is not None
        place = (int(row) + 1, int(trial) + 1)
        text, most = readings.text(*place), amount_text(limit, spec.unit, 4, True)
        findings.append(
            Finding(
                code="over-range",
                level="caution",
                at=place_of(spec, *place),
                title=f"{place_words(spec, *place)}: {text}?",
                say=f"The {gauge.label} shows at most {most}. Check the digits and the unit, or choose a larger range.",
                trial_out=trial_out(spec, *place),
                seen=text,
            )
        )
    return findings


def _range_words(text: str) -> str:
    return typeset(parse(text))
