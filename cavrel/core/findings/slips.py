"""Slips: what a suspicion would change. The tool proposes, a person decides."""

from collections.abc import Sequence
from dataclasses import dataclass

from cavrel.core.analysis import Analysis, analyse
from cavrel.core.findings.finding import Finding
from cavrel.core.logbook.run import RunDocument

MOST = 6
"""At most so many suspicions are worked out; a sheet with more needs a person, not a list."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Slip:
    """What may have gone wrong in one reading.

    ``say``: for people.
    ``at``: where.
    ``fix``: what to do.
    ``before``: the first result as text.
    ``after``: the first result with the fix.
    ``score``: how many of its standard uncertainties it moves.
    """

    say: str
    at: str
    fix: str
    before: str
    after: str
    score: float


def find(analysis: Analysis, findings: Sequence[Finding]) -> tuple[Slip, ...]:
    """For each suspected trial or row, what the first result would become without it."""
    names = list(analysis.results)
    if not names:
        return ()
    slips = []
    suspects = [finding for finding in findings if finding.trial_out or finding.row_out][:MOST]
    for finding in suspects:
        other = analyse(analysis.program, without(analysis.run, finding), analysis.rules)
        before, after = analysis.results[names[0]], other.results[names[0]]
        if before.reason or after.reason or not after.u > 0:
            continue
        was, now = (r.measured(analysis.rules.rounding).text() for r in (before, after))
        score = abs(before.value - after.value) / after.u
        slips.append(
            Slip(
                say=finding.say, at=finding.at, fix="leave it out, or read it again", before=was, after=now, score=score
            )
        )
    return tuple(slips)


def without(run: RunDocument, finding: Finding) -> RunDocument:
    """The run with a suspected trial or row left out."""
    if finding.trial_out:
        series, place = finding.trial_out[0], f"{finding.trial_out[1]}.{finding.trial_out[2]}.{finding.trial_out[3]}"
    else:
        assert finding.row_out is not None
        series, place = finding.row_out[0], str(finding.row_out[1])
    excluded = {**run.excluded, series: {**run.excluded.get(series, {}), place: finding.code}}
    return run.model_copy(update={"excluded": excluded})
