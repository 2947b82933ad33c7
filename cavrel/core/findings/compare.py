"""Two ways to one number that disagree."""

from cavrel.core.analysis import Analysis, ResultAnalysis
from cavrel.core.findings.finding import Finding
from cavrel.core.quantity.rounding import significant

FAR_APART = 2.0
"""Two values further apart than so many expanded uncertainties of their difference are asked about: chance does that to one comparison in
ten thousand. The verdict speaks sooner."""


def apart(analysis: Analysis) -> list[Finding]:
    """A remark for every result that disagrees with what the same run says in another way."""
    findings = []
    for result in analysis.results.values():
        other, body = result.compared, analysis.program.definition.results[result.name]
        if other is None or not other.measured or result.reason or body.below or body.above:
            continue
        accepted = other.accepted
        difference = result.value - accepted.value
        if not other.u > 0 or not abs(difference) > FAR_APART * other.coverage_factor * other.u:
            continue
        times = significant(abs(difference) / other.u, 2)
        say = (
            f"{body.label} comes out as {_shown(result, result.value)}, but {_other(analysis, result)} says "
            f"{_shown(result, accepted.value)}: {times} standard uncertainties apart. Both cannot be right."
        )
        findings.append(
            Finding(code="apart", level="caution", at=f"results.{result.name}", title="Two ways disagree", say=say)
        )
    return findings


def _shown(result: ResultAnalysis, value: float) -> str:
    return f"{significant(result.unit.from_si(value), 3)} {result.unit.pretty}".strip()


def _other(analysis: Analysis, result: ResultAnalysis) -> str:
    """What the other value is called: its own label where it is a result or a reading, else its formula's words."""
    own = analysis.program.definition.results[result.name].accepted or ""
    definition = analysis.program.definition
    for table in (definition.results, definition.quantities):
        if own in table:
            label = table[own].label
            return label[0].lower() + label[1:]
    return "the other way"
