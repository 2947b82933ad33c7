"""Slips: what a suspicion would change. The tool proposes, a person decides."""

from collections.abc import Sequence
from dataclasses import dataclass

from cavrel.core.analysis import Analysis, analyse
from cavrel.core.findings.flag import Flag
from cavrel.core.logbook.run import RunDocument

MOST = 6
"""At most so many suspicions are worked out; a sheet with more needs a person, not a list."""


@dataclass(frozen=True, slots=True)
class Slip:
    """``fix``: what to do; ``before``, ``after``: the first result as text; ``score``: how many of its standard uncertainties it moves."""

    say: str
    at: str
    fix: str
    before: str
    after: str
    score: float


def find(analysis: Analysis, flags: Sequence[Flag]) -> tuple[Slip, ...]:
    """For each suspected trial or row, what the first result would become without it."""
    names = list(analysis.results)
    if not names:
        return ()
    slips = []
    suspects = [flag for flag in flags if flag.trial_out or flag.row_out][:MOST]
    for flag in suspects:
        other = analyse(analysis.program, without(analysis.run, flag), analysis.rules)
        before, after = analysis.results[names[0]], other.results[names[0]]
        if before.reason or after.reason or not after.u > 0:
            continue
        was, now = (r.measured(analysis.rules.rounding).text() for r in (before, after))
        score = abs(before.value - after.value) / after.u
        slips.append(Slip(flag.say, flag.at, "leave it out, or read it again", was, now, score))
    return tuple(slips)


def without(run: RunDocument, flag: Flag) -> RunDocument:
    """The run with a suspected trial or row left out."""
    if flag.trial_out:
        series, place = flag.trial_out[0], f"{flag.trial_out[1]}.{flag.trial_out[2]}.{flag.trial_out[3]}"
    else:
        assert flag.row_out is not None
        series, place = flag.row_out[0], str(flag.row_out[1])
    excluded = {**run.excluded, series: {**run.excluded.get(series, {}), place: flag.code}}
    return run.model_copy(update={"excluded": excluded})
