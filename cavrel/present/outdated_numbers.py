"""Numbers in a bench's own words that were a result when they were written, and are none any more."""

import math
import re
from collections import OrderedDict
from dataclasses import dataclass
from threading import Lock

from cavrel.core.quantity.rounding import fixed
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView, compute

_NUMBER = re.compile(r"(?<![\w.,])[-−]?\d+(?:\.\d+)?(?!\.?\d)")
_SILENT = frozenset({"report", "note", "stands", "marking", "signed", "tick", "words", "timing"})
"""Entries that move no result."""
_FEWEST = 2
"""Figures that a number has at least before it is taken for a result: 9 may be anything."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Moved:
    """A number that a text still gives.

    ``start``, ``end``: where it stands in the text.
    ``number``: as written.
    ``label``: of what it was.
    ``now``: what that is now, to as many decimals.
    """

    start: int
    end: int
    number: str
    label: str
    now: str


@optional("numbers that have changed", list)
def moved(opened: RunView, part: str, text: str) -> list[Moved]:
    """The numbers of an own ``text`` that equalled a result, its uncertainty or its percentage when it was saved, and have moved since."""
    entry = opened.state.latest.get(f"report:{part}")
    if entry is None or not _NUMBER.search(text):
        return []
    at = next((i for i, one in enumerate(opened.entries) if one.id == entry.id), None)
    if at is None or all(one.kind in _SILENT for one in opened.entries[at + 1 :]):
        return []
    then, now = _kept.of(opened, at), _numbers(opened)
    found = []
    for match in _NUMBER.finditer(text):
        share = text[match.end() :].lstrip()[:1] == "%"
        old = _same(match[0], {key: value for key, value in then.items() if (key[1] == "percent") == share})
        if old is None:
            continue
        decimals = len(match[0].partition(".")[2])
        current = now.get(old, math.nan)
        said = fixed(current, decimals) if math.isfinite(current) else "no number"
        if said.replace("−", "-") != match[0].replace("−", "-"):
            name, what = old
            label = opened.definition.results[name].label
            what_words = {"value": "", "u": ", its uncertainty", "percent": ", its percent error"}[what]
            found.append(
                Moved(start=match.start(), end=match.end(), number=match[0], label=f"{label}{what_words}", now=said)
            )
    return found


def _same(number: str, known: dict[tuple[str, str], float]) -> tuple[str, str] | None:
    """What a number of a text was, to its last digit."""
    figures = number.lstrip("-−0.").replace(".", "")
    if len(figures) < _FEWEST:
        return None
    value, half = float(number.replace("−", "-")), 0.5 * 10.0 ** -len(number.partition(".")[2])
    near = [key for key, other in known.items() if abs(other - value) <= half * (1 + 1e-9)]
    return near[0] if near else None


def _numbers(opened: RunView) -> dict[tuple[str, str], float]:
    """Values, uncertainties and percentages of all results, as they are shown."""
    found = {}
    for name, result in opened.analysis.results.items():
        if result.reason:
            continue
        found[name, "value"] = result.unit.from_si(result.value)
        if math.isfinite(result.u) and result.u > 0:
            found[name, "u"] = result.u / result.unit.factor
        share = opened.verdict(result).percent
        if math.isfinite(share):
            found[name, "percent"] = abs(share)
    return found


class _Kept:
    """What results were after an entry, of the texts that were looked at last: an entry never changes."""

    def __init__(self, most: int) -> None:
        self._most, self._lock = most, Lock()
        self._held: OrderedDict[tuple[int, int, str], dict[tuple[str, str], float]] = OrderedDict()

    def of(self, opened: RunView, at: int) -> dict[tuple[str, str], float]:
        key = opened.run.id, opened.entries[at].id, opened.run.made_of
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        then = _numbers(compute(opened.run, opened.base, opened.entries[: at + 1], opened.laboratory))
        with self._lock:
            self._held[key] = then
            while len(self._held) > self._most:
                self._held.popitem(last=False)
        return then


_kept = _Kept(256)
