"""What stands in the margin: suspicions, checks that fail, fits that do not hold. Nothing here alters a reading."""

from collections.abc import Mapping
from dataclasses import replace

from cavrel.core.analysis import Analysis
from cavrel.core.findings import compare
from cavrel.core.findings.fits import of_fit
from cavrel.core.findings.flag import Flag
from cavrel.core.findings.readings import of_readings
from cavrel.core.findings.results import monte_carlo_remarks, of_results
from cavrel.core.findings.straighten import LineMeaning

__all__ = ["monte_carlo_remarks", "remarks"]


def remarks(analysis: Analysis, meanings: Mapping[str, LineMeaning] | None = None) -> tuple[Flag, ...]:
    """Everything worth saying about ``analysis``, readings first, then results and fits. ``meanings``: what the law says of each line."""
    flags = [*of_readings(analysis), *of_results(analysis), *compare.apart(analysis)]
    for fit in analysis.fits.values():
        flags += of_fit(analysis, fit, (meanings or {}).get(fit.name))
    if len(analysis.program.definition.series) > 1:
        flags = [_in_table(analysis, flag) for flag in flags]
    # Two fits over one table see the same odd row: it is said once.
    return tuple({(flag.code, flag.at): flag for flag in reversed(flags)}.values())[::-1]


def _in_table(analysis: Analysis, flag: Flag) -> Flag:
    """Where an experiment has several tables, a remark on a row says which."""
    series = analysis.program.definition.series.get(flag.at.partition(".")[0])
    if series is None:
        return flag
    return replace(flag, title=f"{series.short}, {flag.title[0].lower()}{flag.title[1:]}")
