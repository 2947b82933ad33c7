"""What stands in the margin: remarks, checks that fail, fits that do not hold. Nothing here alters a reading."""

from collections.abc import Mapping
from dataclasses import replace

from cavrel.core.analysis import Analysis
from cavrel.core.findings import compare
from cavrel.core.findings.assumed import of_dead_times
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.fits import of_fit
from cavrel.core.findings.meaning import LineMeaning
from cavrel.core.findings.outcomes import of_outcomes
from cavrel.core.findings.parity import of_identities, of_verifications
from cavrel.core.findings.readings import of_readings
from cavrel.core.findings.results import monte_carlo_findings, of_results

__all__ = ["findings_of", "monte_carlo_findings"]


def findings_of(analysis: Analysis, meanings: Mapping[str, LineMeaning] | None = None) -> tuple[Finding, ...]:
    """Everything worth saying about ``analysis``, readings first, then results and fits. ``meanings``: what the law says of each line."""
    findings = [
        *of_readings(analysis),
        *of_results(analysis),
        *compare.disagreements(analysis),
        *compare.contradicting(analysis),
    ]
    findings += [
        *of_identities(analysis),
        *of_verifications(analysis),
        *of_dead_times(analysis),
        *of_outcomes(analysis),
    ]
    for fit in analysis.fits.values():
        findings += of_fit(analysis, fit, (meanings or {}).get(fit.name))
    if len(analysis.program.definition.series) > 1:
        findings = [_in_table(analysis, finding) for finding in findings]
    # Two fits over one table see the same odd row: it is said once.
    return tuple({(finding.code, finding.at): finding for finding in reversed(findings)}.values())[::-1]


def _in_table(analysis: Analysis, finding: Finding) -> Finding:
    """Where an experiment has several tables, a remark on a row says which."""
    series = analysis.program.definition.series.get(finding.series)
    if series is None:
        return finding
    return replace(finding, title=f"{series.short}, {finding.title[0].lower()}{finding.title[1:]}")
