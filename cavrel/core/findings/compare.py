"""Several ways to one number that disagree."""

from scipy import special

from cavrel.core.analysis import Analysis, ResultAnalysis
from cavrel.core.findings.finding import Finding
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.value import amount_text
from cavrel.core.words import within

FAR_APART = 2.0
"""Two values further apart than so many expanded uncertainties of their difference are asked about: chance does that to one comparison in
ten thousand. The verdict speaks sooner."""


def disagreements(analysis: Analysis) -> list[Finding]:
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
            f"{body.label} is {_shown(result, result.value)}, but {_other(analysis, result)} gives "
            f"{_shown(result, accepted.value)}: {times} standard uncertainties of difference. They cannot both be right."
        )
        findings.append(
            Finding(code="apart", level="caution", at=f"results.{result.name}", title="Two ways disagree", say=say)
        )
    return findings


CHANCE = 0.005
"""Values that a mean is taken of contradict each other where chance would scatter them so in fewer cases than this."""


def contradicting(analysis: Analysis) -> list[Finding]:
    """A remark for every mean of results that scatter by more than their uncertainties allow."""
    findings = []
    for result in analysis.results.values():
        many = len(result.weights)
        if many < 2 or result.reason or not result.birge > 1:
            continue
        if float(special.chdtrc(many - 1, (many - 1) * result.birge**2)) >= CHANCE:
            continue
        results = analysis.results
        values = [_shown(result, results[name].value) for name in result.weights]
        label = analysis.program.definition.results[result.name].label
        say = (
            f"{label} is the mean of {', '.join(values[:-1])} and {values[-1]}, which differ {significant(result.birge, 2)} times more than their "
            "uncertainties allow. Its uncertainty is widened by that factor, but at least one value is wrong: find out which before you use the mean."
        )
        findings.append(
            Finding(
                code="contradicting",
                level="caution",
                at=f"results.{result.name}",
                title="Inconsistent values in a mean",
                say=say,
            )
        )
    return findings


def _shown(result: ResultAnalysis, value: float) -> str:
    return amount_text(value, result.unit, 3)


def _other(analysis: Analysis, result: ResultAnalysis) -> str:
    """What the other value is called: its own label where it is a result or a reading, else its formula's words."""
    own = analysis.program.definition.results[result.name].accepted or ""
    definition = analysis.program.definition
    for table in (definition.results, definition.quantities):
        if own in table:
            label = table[own].label
            return within(label)
    return "the other way"
