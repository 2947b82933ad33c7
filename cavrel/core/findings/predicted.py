"""What a bench predicted of a result, in its own words, against what it found."""

import math
import re
from dataclasses import dataclass

from cavrel.core.analysis import ResultAnalysis
from cavrel.core.errors import CavrelError
from cavrel.core.quantity.reading import read
from cavrel.core.quantity.rounding import percent

_NUMBER = r"[-−+]?\d+(?:[.,]\d+)?(?:\s*[×x·*]\s*10\^?[-−⁻⁺+]?[\d⁰¹²³⁴-⁹]+|[eE][-+−]?\d+)?"
_BELOW = r"\b(?:below|under|less than|smaller than|at most|up to|not above)|<|≤"
_ABOVE = r"\b(?:above|over|more than|greater than|larger than|at least|not below)|>|≥"
_SAID = re.compile(
    rf"(?P<between>between\s+|from\s+)?(?:(?P<below>{_BELOW})|(?P<above>{_ABOVE}))?\s*(?P<number>{_NUMBER})"
    rf"(?:\s*(?:and|to|–|…)\s*(?P<other>{_NUMBER}))?\s*(?P<unit>[^\s,;:()]+)?",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Predicted:
    """``kind``: ``right``, ``wrong``, ``close`` (the uncertainty does not tell), or ``open`` where no number was predicted. ``say``: why."""

    kind: str
    say: str


def predicted(text: str, result: ResultAnalysis, acceptable: float) -> Predicted:
    """Hold a bench's words against its result. A bound is kept or not by two standard uncertainties; a value is right within ``acceptable``
    percent of it; what the result's uncertainty cannot tell apart is left open.

    Only the first number of the text is taken for what was predicted.
    """
    if result.reason or not math.isfinite(result.value):
        return Predicted(kind="open", say="no result yet")
    match = _SAID.search(text)
    if match is None:
        return Predicted(kind="open", say="no number to compare")
    try:
        first = _value(match["number"], match["unit"], result)
        second = _value(match["other"], match["unit"], result) if match["other"] else None
    except CavrelError:
        return Predicted(kind="open", say="no number to compare")
    margin = _margin(result)
    if second is not None:
        low, high = sorted((first, second))
        return _checked(min(result.value - low, high - result.value), margin, "between the two", "outside the two")
    if match["below"]:
        return _checked(first - result.value, margin, "below it", "above it")
    if match["above"]:
        return _checked(result.value - first, margin, "above it", "below it")
    off = abs(result.value - first)
    if off <= abs(first) * acceptable / 100:
        return Predicted(kind="right", say=f"within {acceptable:g} %")
    if off <= margin:
        return Predicted(kind="close", say="too uncertain to tell")
    return Predicted(kind="wrong", say=f"{percent(100 * off / abs(first))} % from it" if first else "not as predicted")


def _margin(result: ResultAnalysis) -> float:
    """Two standard uncertainties, SI, or half the 95 % interval where the law of propagation is no answer."""
    low, high = result.interval
    width = 2 * result.u if result.linear else (high - low) / 2
    return width if math.isfinite(width) else math.inf


def _checked(room: float, margin: float, kept: str, broken: str) -> Predicted:
    if abs(room) <= margin:
        return Predicted(kind="close", say="too close to tell")
    return Predicted(kind="right", say=kept) if room > 0 else Predicted(kind="wrong", say=broken)


def _value(number: str, unit: str | None, result: ResultAnalysis) -> float:
    """SI, in the unit written next to it, else in the result's. Raises CavrelError."""
    plain = result.unit.text
    if unit:
        try:
            return read(f"{number} {unit.rstrip('.')}", plain).value
        except CavrelError:
            pass  # the next word of the sentence, not a unit
    return read(number, plain).value
