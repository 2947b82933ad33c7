"""Judging a result: how far off, how many standard uncertainties, and a sentence that keeps the two apart."""

import math
from dataclasses import dataclass

from scipy import special

from cavrel.core.analysis import Analysis, ResultAnalysis
from cavrel.core.rounding import percent, significant


@dataclass(frozen=True, slots=True)
class Verdict:
    """``percent_error`` signed or not by house rule; ``z`` signed: (value - accepted) / u of the difference.

    ``kind``: ``agrees``, ``wide`` (agrees because almost anything would), ``doubtful``, ``disagrees``, ``none`` (nothing to compare).
    ``head`` is its word, ``text`` the rest of the sentence. ``side``: for a result whose definition says what it means to lie below or above the
    other value, the likelier of the two with its probability; its ``kind`` is ``side``.
    """

    percent_error: float
    z: float
    kind: str
    head: str
    text: str
    side: tuple[str, float] | None = None


def judge(analysis: Analysis, result: ResultAnalysis) -> Verdict:
    """Compare a result with its accepted value.

    Agreement is judged by the expanded uncertainty of the difference, 95 %, with the result's effective degrees of freedom
    (JCGM 100:2008, G.3); the percent error is reported beside it and never decides.
    """
    rules = analysis.rules
    accepted = result.accepted
    if result.reason:
        return Verdict(math.nan, math.nan, "none", "Too early.", _sentence(result.reason))
    if accepted is None:
        return Verdict(math.nan, math.nan, "none", "Nothing to compare with.", "This result has no accepted value.")
    difference = result.value - accepted.value
    reference = accepted.value
    if result.against_measured and rules.difference == "mean":
        reference = (result.value + accepted.value) / 2
    body = analysis.program.definition.results[result.name]
    if (body.below or body.above) and result.difference_u > 0:
        return _side(
            body.below, body.above, difference / result.difference_u, result.dof if rules.student else math.inf
        )
    off = 100 * difference / abs(reference) if reference else math.nan
    shown = off if rules.percent_error == "signed" else abs(off)
    if not result.difference_u > 0:
        return Verdict(
            shown,
            math.nan,
            "none",
            "No uncertainty.",
            f"{_off(off)}, but without an uncertainty nobody can say whether that is much. Repeat a reading, or declare the instrument.",
        )
    z = difference / result.difference_u
    k = result.k95
    width = 100 * k * result.difference_u / abs(reference) if reference else math.nan
    kind, head, text = _words(off, z, k, width, result.dof if rules.student else math.inf, rules.acceptable)
    return Verdict(shown, z, kind, head, text)


def _side(below: str, above: str, z: float, dof: float) -> Verdict:
    """Which side of the other value the result lies on, and how sure that is: Student's distribution of the difference."""
    chance = float(special.stdtr(dof, abs(z))) if math.isfinite(dof) else float(special.ndtr(abs(z)))
    words = below if z < 0 else above
    sure = "more than 99.9 %" if chance > 0.999 else f"{100 * chance:.0f} %"
    return Verdict(
        math.nan, z, "side", f"{words}.", f"By these readings with a probability of {sure}. Try it.", (words, chance)
    )


def _words(off: float, z: float, k: float, width: float, dof: float, acceptable: float) -> tuple[str, str, str]:
    size = abs(z)
    apart = f"{_off(off)} and {_times(size)} standard uncertainties"
    if size <= k:
        if width > acceptable:
            only = f"agrees, but only because ±{percent(width)} % would agree with almost anything"
            return "wide", "Too wide to tell.", f"{_off(off)}: it {only}."
        chance = (
            float(2 * special.stdtr(dof, -size)) if math.isfinite(dof) else float(special.erfc(size / math.sqrt(2)))
        )
        often = "often" if chance > 0.3 else "now and then" if chance > 0.1 else "seldom"
        return (
            "agrees",
            "Agrees.",
            f"{apart}: chance alone does this {often}. The uncertainty is small enough for the agreement to mean something.",
        )
    if size <= 1.5 * k:
        return (
            "doubtful",
            "Doubtful.",
            f"{apart}: chance alone hardly does this. Look for something systematic before believing either.",
        )
    if abs(off) <= acceptable:
        return (
            "disagrees",
            "Does not agree.",
            f"Only {_off(off)}, yet {_times(size)} standard uncertainties: something systematic, or an uncertainty left out.",
        )
    return (
        "disagrees",
        "Does not agree.",
        f"{apart}: look for a slip first (a unit, a count, a factor), then for something systematic.",
    )


def _times(size: float) -> str:
    """How many standard uncertainties, for a sentence: ``0.1``, ``3.1``, ``18``."""
    return f"{size:.1f}" if size < 9.95 else significant(size, 2)


def _off(off: float) -> str:
    return f"{percent(abs(off))} % off"


def _sentence(reason: str) -> str:
    return reason[0].upper() + reason[1:] + "."
