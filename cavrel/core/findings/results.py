"""What is odd about results: rules that do not hold, verdicts, ranges, predictions, distributions."""

import math
from collections.abc import Mapping

from cavrel.core.analysis import Analysis, ResultAnalysis
from cavrel.core.analysis.distribution import MonteCarlo
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.verdict import verdict_of
from cavrel.core.quantity.value import amount_text
from cavrel.core.words import within

POWER_OF_TEN = 0.04
"""A result is said to be a power of ten off where the logarithm of its ratio to the accepted value lies within this of a whole number."""


def of_results(analysis: Analysis) -> list[Finding]:
    """Everything worth saying about rules, results and predictions."""
    findings = _checks(analysis)
    for result in analysis.results.values():
        if not result.reason:
            findings += _size(analysis, result) or _verdict(analysis, result)
    return [*findings, *_predictions(analysis)]


def _size(analysis: Analysis, result: ResultAnalysis) -> list[Finding]:
    """A result whose size cannot be right, most often for a unit mistaken in a whole column."""
    body, at = analysis.program.definition.results[result.name], f"results.{result.name}"
    label, text, other = body.label, result.measured(analysis.rules.rounding).value_text(), result.accepted
    ratio = result.value / other.value if other and other.value and math.isfinite(other.value) else math.nan
    decades = math.log10(ratio) if ratio > 0 else math.nan
    whole = round(decades) if math.isfinite(decades) else 0
    exact = abs(decades - whole) < POWER_OF_TEN
    # What a result may lie far below or above is no expectation of its size: cork floats, and is a tenth of water.
    expected = not (body.below or body.above)
    if whole and ((expected and exact) or result.plausible is False):
        times = f"10{str(abs(whole)).translate(_RAISED)} times" if abs(whole) > 1 else "ten times"
        side = "too large" if whole > 0 else "too small"
        say = f"{text} is {'' if exact else 'about '}{times} {side}. "
        say += "A wrong unit for a whole column does that: centimetres for millimetres, grams for kilograms."
        return [Finding(code="power-of-ten", level="caution", at=at, title=f"{label}: a power of ten off", say=say)]
    if result.plausible is False:
        say = f"{text} lies outside all known values. Check the units of the columns, the decimal marks and the counts."
        return [Finding(code="implausible-result", level="caution", at=at, title=f"{label}: {text}?", say=say)]
    return []


_RAISED = str.maketrans("0123456789", "⁰¹²³⁴⁵⁶⁷⁸⁹")


def _verdict(analysis: Analysis, result: ResultAnalysis) -> list[Finding]:
    """A result that does not agree with its accepted value; two measured values are spoken of in `compare`."""
    found = verdict_of(analysis, result)
    if found.measured or found.kind not in ("disagrees", "doubtful"):
        return []
    label = analysis.program.definition.results[result.name].label
    level = "caution" if found.kind == "disagrees" else "note"
    head = f"{found.head[0].lower()}{found.head[1:]}".rstrip(".")
    return [
        Finding(code=found.kind, level=level, at=f"results.{result.name}", title=f"{label}: {head}", say=found.text)
    ]


def _checks(analysis: Analysis) -> list[Finding]:
    findings = []
    for index, holds in analysis.checks.items():
        # On an empty sheet a rule has nothing to speak of.
        if holds is False and analysis.begun(f"check#{index}"):
            check = analysis.program.definition.checks[index]
            findings.append(
                Finding(
                    code=f"check-{index}", level=check.level, at=check.at, title="A rule is violated", say=check.say
                )
            )
    return findings


def _predictions(analysis: Analysis) -> list[Finding]:
    """Predictions for an x outside what was measured."""
    findings = []
    for found in analysis.predictions.values():
        if found.outside:
            label = analysis.program.definition.predict[found.name].label
            say = (
                f"{label} is extrapolated. The interval is valid only if the same law holds there: "
                "measure closer to it, or test the prediction."
            )
            findings.append(
                Finding(
                    code="extrapolated",
                    level="caution",
                    at=f"predict.{found.name}",
                    title="Outside the measured range",
                    say=say,
                )
            )
    return findings


def monte_carlo_findings(analysis: Analysis, drawn: Mapping[str, MonteCarlo]) -> tuple[Finding, ...]:
    """Where the distributions say something else than the linear budget (JCGM 101:2008, 8.1), or the draws are too few to tell."""
    findings = []
    for name, found in drawn.items():
        at, label = f"results.{name}", analysis.program.definition.results[name].label
        if found.lost:
            say = f"{found.lost} of {found.draws} draws give no value of {within(label)}: near these readings its formula is undefined."
            findings.append(
                Finding(code="draws-lost", level="caution", at=at, title="Some draws have no result", say=say)
            )
        if not found.stable:
            findings.append(
                Finding(
                    code="unstable",
                    level="note",
                    at=at,
                    title="More draws needed",
                    say=f"The interval of {within(label)} still changes in its last digit.",
                )
            )
        elif not found.agrees:
            unit = analysis.results[name].unit
            limit = amount_text(found.tolerance, unit, 1, True)
            say = (
                f"The 95 % interval by distributions differs from the linear one by more than {limit}. "
                "The model is not linear, or a distribution is skewed: use the distribution."
            )
            findings.append(
                Finding(
                    code="not-linear",
                    level="caution",
                    at=at,
                    title="The linear approximation is not good enough",
                    say=say,
                )
            )
    return tuple(findings)
