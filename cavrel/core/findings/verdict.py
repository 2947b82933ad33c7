"""Judging a result: how far off, how many standard uncertainties, and a sentence that keeps the two apart."""

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace

from scipy import special

from cavrel.core.analysis import Analysis, ResultAnalysis
from cavrel.core.findings.finding import Finding
from cavrel.core.quantity.rounding import percent, significant
from cavrel.core.quantity.value import amount_text


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """How a result stands to what it is compared with.

    ``percent``: percent error against an accepted value, percent difference from another measured one; signed or not by house rule; NaN where
    there is no reference to take a share of.
    ``z``: signed, (value - other) / u of the difference.
    ``kind``: ``agrees``, ``wide`` (agrees because almost anything would), ``doubtful``, ``disagrees``, ``side``, ``none`` (nothing to compare).
    ``head``: its word; ``text``: the rest of the sentence.
    ``side``: for a result whose definition says what it means to lie below or above the other value, the likelier of the two with its
    probability.
    ``measured``: the other value was measured too, so that ``percent`` is a difference and not an error.
    """

    percent: float
    z: float
    kind: str
    head: str
    text: str
    side: tuple[str, float] | None = None
    measured: bool = False

    @property
    def percent_name(self) -> str:
        """What ``percent`` is called."""
        return "percent difference" if self.measured else "percent error"


def verdict_of(analysis: Analysis, result: ResultAnalysis) -> Verdict:
    """Compare a result with its accepted value, or with another measured one.

    Agreement is judged by the expanded uncertainty of the difference, 95 %, with the difference's own effective degrees of freedom
    (JCGM 100:2008, G.3); the percentage is reported next to it and never decides.
    """
    rules, other = analysis.rules, result.compared
    if result.reason:
        return Verdict(percent=math.nan, z=math.nan, kind="none", head="Not yet.", text=_sentence(result.reason))
    if other is None:
        return Verdict(
            percent=math.nan,
            z=math.nan,
            kind="none",
            head="Nothing to compare with.",
            text="This result has no accepted value.",
        )
    if not math.isfinite(other.accepted.value):
        waits = [f"“{name}”" if name in _labels(analysis) else name for name in other.waits] or ["its other value"]
        text = f"The value to compare with still needs {_listed(waits)}."
        return Verdict(
            percent=math.nan,
            z=math.nan,
            kind="none",
            head="Nothing to compare with yet.",
            text=text,
            measured=other.measured,
        )
    difference = result.value - other.accepted.value
    off = _percent(analysis, result, difference)
    shown = off if rules.percent_error == "signed" else abs(off)
    words = _Words(analysis, result, difference, off)
    body = analysis.program.definition.results[result.name]
    dof = other.dof if rules.student else math.inf
    if (body.below or body.above) and other.u > 0:
        return _side(body.below, body.above, difference / other.u, dof)
    if not result.linear:
        return words.by_interval(shown)
    if not other.u > 0:
        alone = "without an uncertainty the comparison has no meaning. Repeat a reading, or enter the instrument."
        text = f"{words.off()}, but {alone}"
        return Verdict(
            percent=shown, z=math.nan, kind="none", head="No uncertainty.", text=text, measured=other.measured
        )
    z = difference / other.u
    kind, head, text = words.of(z, other.coverage_factor, dof)
    return Verdict(percent=shown, z=z, kind=kind, head=head, text=text, measured=other.measured)


DOUBTS = {
    "curved": "the points bend away from its line",
    "scatter": "the points scatter more than their error bars allow",
    "intercept": "its line misses the origin, through which the law sends it",
    "off-line": "a point that it rests on lies off the line",
}
"""Tests on the way to a result, and what failing one means for it."""


OPEN = {
    "implausible": "one of its readings lies outside the usual range",
    "implausible-result": "it lies outside its usual range",
    "over-range": "one of its readings is larger than the instrument can show",
    "unreadable": "one of its readings is not a number",
    "not-counted": "one of its counts is not a whole number",
    "two-ways": "one of its numbers can be read in two ways",
    "miscount": "one of its timings may be miscounted",
    "stands-apart": "a trial behind it is a possible outlier",
    "parity": "readings contradict each other",
    "verification": "the comparison with a standard exceeds its limit",
    "contradicting": "the values in its mean contradict each other",
}
"""Remarks that are open until a person answers them, and what each means for a result that rests on what it is about."""


CHECK_FIRST = "Check first."


def check_first(verdict: Verdict, says: str) -> Verdict:
    """Agreement that is not to be believed while something is open."""
    text = f"{verdict.text} But {says}: check that before you trust the agreement."
    return replace(verdict, kind="doubtful", head=CHECK_FIRST, text=text)


def checked_verdict(analysis: Analysis, result: ResultAnalysis, findings: Iterable[Finding]) -> Verdict:
    """The verdict, with what ``findings`` say of the way there: agreement by a line that failed a test is none to rely on."""
    verdict = verdict_of(analysis, result)
    if verdict.kind != "agrees":
        return verdict
    behind = [name for name in analysis.fits if rests_on(analysis, result, name)]
    tables = {analysis.program.fits[name].series for name in behind}
    doubts = [
        DOUBTS[f.code]
        for f in findings
        if f.level == "caution" and f.code in DOUBTS and (f.fit in behind or (not f.fit and f.series in tables))
    ]
    if not doubts:
        left = [OPEN[f.code] for f in findings if f.code in OPEN and _concerns(analysis, result, f)]
        return check_first(verdict, _listed(list(dict.fromkeys(left)))) if left else verdict
    says = _listed(list(dict.fromkeys(doubts)))
    text = f"{verdict.text} Yet {says}: resolve that before you trust the agreement."
    return replace(verdict, kind="doubtful", head="Agrees, but not cleanly.", text=text)


def _concerns(analysis: Analysis, result: ResultAnalysis, finding: Finding) -> bool:
    """Whether a remark is about a reading that a result rests on, about the result itself, or about the run."""
    if finding.result:
        return finding.result == result.name
    slot = finding.slot
    if slot is None:
        series = finding.at.removeprefix("series.")
        return series == finding.at or any(
            need.startswith(f"{series}.") for need in analysis.program.needs[result.name]
        )
    needs = analysis.program.needs[result.name]
    return slot.key in needs if slot.name else any(need.startswith(f"{slot.series}.") for need in needs)


def rests_on(analysis: Analysis, result: ResultAnalysis, fit: str) -> bool:
    """Whether a result follows from a fit: from everything that the fit needs."""
    needs = analysis.program.needs
    return bool(needs[fit]) and needs[fit] <= needs[result.name]


def _labels(analysis: Analysis) -> set[str]:
    return {entry.label for entry in analysis.program.inputs}


def _listed(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def _percent(analysis: Analysis, result: ResultAnalysis, difference: float) -> float:
    """Signed percentage of the reference; NaN where that is zero or lies on a scale with a zero of its own."""
    other = result.compared
    assert other is not None
    reference = other.accepted.value
    if other.measured and analysis.rules.difference == "mean":
        reference = (result.value + other.accepted.value) / 2
    # A sum that ought to be zero may come to a rounding error instead, of which nothing is a share.
    if result.unit.offset or abs(reference) <= 1e-9 * abs(difference):
        return math.nan
    return 100 * difference / abs(reference)


class _Words:
    """The sentences of a verdict."""

    def __init__(self, analysis: Analysis, result: ResultAnalysis, difference: float, percentage: float) -> None:
        self.analysis, self.result, self.difference, self.percentage = analysis, result, difference, percentage
        assert result.compared is not None
        self.other = result.compared
        unit = result.unit
        self.size = amount_text(abs(difference), unit, 2, True)

    def off(self) -> str:
        """The difference of the two: in percent, or in units where there is no percentage."""
        words = "{} difference" if self.other.measured else "{} off"
        if math.isfinite(self.percentage):
            return words.format(f"{percent(abs(self.percentage))} %")
        why = "no percentage of zero" if not self.other.accepted.value and not self.result.unit.offset else ""
        return words.format(self.size) + (f" ({why})" if why else "")

    def small(self) -> bool:
        """Whether the percentage is what a first course calls acceptable."""
        return abs(self.percentage) <= self.analysis.rules.acceptable

    def of(self, z: float, k: float, dof: float) -> tuple[str, str, str]:
        size = abs(z)
        difference = f"{self.off()}, {_times(size)} standard uncertainties"
        if size <= k:
            if (wide := self.wide(k)) is not None:
                return "wide", "Too uncertain to tell.", f"{self.off()}: no contradiction, but only because {wide}."
            chance = (
                float(2 * special.stdtr(dof, -size)) if math.isfinite(dof) else float(special.erfc(size / math.sqrt(2)))
            )
            often = "common" if chance > 0.3 else "not unusual" if chance > 0.1 else "rare by chance"
            if not self.scaled():
                alone = "whether the uncertainty is small depends on the size of the quantities compared"
                return "agrees", "Zero within its uncertainty.", f"{difference}: such a difference is {often}; {alone}."
            return (
                "agrees",
                "Agrees.",
                f"{difference}: such a difference is {often}. The measurement is precise enough for this to be a real test.",
            )
        if size <= 1.5 * k:
            return (
                "doubtful",
                "Doubtful.",
                f"{difference}: such a difference is rare by chance. Look for a systematic error before trusting either value.",
            )
        if self.small():
            text = f"Only {self.off()}, yet {_times(size)} standard uncertainties: a systematic error, or an uncertainty left out."
            return "disagrees", "Does not agree.", text
        return (
            "disagrees",
            "Does not agree.",
            f"{difference}: look for a mistake first (unit, count, factor), then for a systematic error.",
        )

    def scaled(self) -> bool:
        """Whether the other value is a scale for how small an uncertainty is: zero is none."""
        return bool(self.other.accepted.value) or bool(self.result.unit.offset)

    def wide(self, k: float) -> str | None:
        """Whose width makes the agreement empty, in words; None where it means something."""
        reference = self.other.accepted.value
        if self.other.measured and self.analysis.rules.difference == "mean":
            reference = (self.result.value + reference) / 2
        if self.result.unit.offset or not reference:
            return None
        width = 100 * k * self.other.u / abs(reference)
        if width <= self.analysis.rules.acceptable:
            return None
        own, others = self.result.u, self.other.accepted.u
        whose = "the result" if own >= others else "the other value" if self.other.measured else "the accepted value"
        return f"{whose} is known to no better than ±{percent(width)} %, which agrees with almost any value"

    def by_interval(self, shown: float) -> Verdict:
        """Where the law of propagation is no answer, the interval of the distributions decides."""
        low, high = self.result.interval
        value = self.other.accepted.value
        measured = self.other.measured
        if not (math.isfinite(low) and math.isfinite(high)):
            text = "The readings are too uncertain for this formula: it is undefined for many values within their uncertainties."
            return Verdict(
                percent=shown, z=math.nan, kind="wide", head="Too uncertain to tell.", text=text, measured=measured
            )
        scale = f"{self.result.measured(self.analysis.rules.rounding).interval(low, high)} with 95 %"
        margin = 2 * self.other.accepted.u
        if low - margin <= value <= high + margin:
            text = f"{self.off()}: inside {scale}. The interval is wide and skewed, so this says little."
            return Verdict(
                percent=shown, z=math.nan, kind="wide", head="Too uncertain to tell.", text=text, measured=measured
            )
        return Verdict(
            percent=shown,
            z=math.nan,
            kind="disagrees",
            head="Does not agree.",
            text=f"{self.off()}: outside {scale}.",
            measured=measured,
        )


def _side(below: str, above: str, z: float, dof: float) -> Verdict:
    """Which side of the other value the result lies on, and how sure that is: Student's distribution of the difference."""
    chance = float(special.stdtr(dof, abs(z))) if math.isfinite(dof) else float(special.ndtr(abs(z)))
    words = below if z < 0 else above
    sure = "more than 99.9 %" if chance > 0.999 else f"{100 * chance:.0f} %"
    return Verdict(
        percent=math.nan,
        z=z,
        kind="side",
        head=f"{words}.",
        text=f"By these readings, with a probability of {sure}. Test it.",
        side=(words, chance),
    )


def _times(size: float) -> str:
    """How many standard uncertainties, for a sentence: ``0.1``, ``3.1``, ``18``."""
    return f"{size:.1f}" if size < 9.95 else significant(size, 2)


def _sentence(reason: str) -> str:
    return reason[0].upper() + reason[1:] + "."
