"""Fields in the texts of a report, such as ``{g}``: numbers and verdicts that follow the run instead of being written down once."""

import math
import re

from cavrel.core.document import result_text
from cavrel.core.quantity.rounding import percent
from cavrel.present import departures
from cavrel.service.run_view import RunView

_FIELD = re.compile(r"\{([A-Za-z][A-Za-z0-9_]*)(?:\.([a-z]+))?\}")
KINDS = {
    "": "its value",
    "percent": "its percent error",
    "verdict": "its verdict",
    "agrees": "whether it agrees, in a sentence",
    "sources": "where its uncertainty comes from",
}
"""What of a result a field may stand for: ``{g}``, ``{g.percent}`` and so on."""
DEPARTURES = "departures"


def filled(opened: RunView, text: str) -> str:
    """``text`` with every field that is known in place of its name; any other braces stay as they were typed."""

    def value(match: re.Match[str]) -> str:
        name, kind = match[1], match[2] or ""
        if (name, kind) == (DEPARTURES, ""):
            return "; ".join(departures.deviations(opened)) or "none"
        if name not in opened.analysis.results or kind not in KINDS:
            return match[0]
        return of_result(opened, name, kind)

    return _FIELD.sub(value, text)


def of_result(opened: RunView, name: str, kind: str) -> str:
    """What a field of a result says now."""
    result = opened.analysis.results[name]
    if result.reason:
        return "(no value yet)"
    if kind == "":
        return result_text(opened.analysis, result)
    verdict = opened.verdict(result)
    if kind == "percent":
        return f"{percent(abs(verdict.percent))} %" if math.isfinite(verdict.percent) else "(nothing to compare with)"
    if kind == "verdict":
        return f"{verdict.head} {verdict.text}"
    if kind == "sources":
        shares = [f"{s.source} ({100 * s.share:.0f} %)" for s in result.budget[:3] if s.share > 0.01]
        return _and(shares) if shares else "no known source"
    other = "the value found in another way" if verdict.measured else "the accepted value"
    ends = {
        "agrees": f"It agrees with {other} within its uncertainty.",
        "wide": f"It is too uncertain to tell whether it agrees with {other}.",
        "doubtful": "Whether it agrees remains in doubt.",
        "disagrees": f"It does not agree with {other}; look for a systematic error.",
    }
    return ends.get(verdict.kind, "There is no value to compare it with.")


def _and(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"
