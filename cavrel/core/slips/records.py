"""What the slip finder is given and what it gives."""

from dataclasses import dataclass

from cavrel.core.definition.steps import Program
from cavrel.core.slips.hypothesis import Hypothesis


@dataclass(frozen=True, slots=True, kw_only=True)
class Alternative:
    """Another law or convention for the same readings. ``at``: what it changes, such as ``options.gap``; ``choice``: of it; ``say``: a
    clause."""

    at: str
    choice: str
    say: str
    do: str
    program: Program


@dataclass(frozen=True, slots=True, kw_only=True)
class Suspect:
    """One cause.

    ``family``: its kind.
    ``at``: where.
    ``say``: what happened, and what speaks for it, whole sentences.
    ``fix``: what to do, an imperative.
    ``before``, ``after``: the first result as text.
    ``score``: logarithm of the odds against the sheet as it stands.
    ``probability``: that this is what happened.
    ``writes``: (input, row, trial from 1, text) of every reading that the fix writes; empty where nobody can know what to write.
    ``leaves_out``: (input, row, trial from 1) of what the fix leaves out.
    ``stretches``: (input, row, trial from 1, begin, end in s) of the samples that the fix has count.
    ``chooses``: the choice of the convention ``at`` that the fix makes; empty for none.
    ``also``: other readings of the same place that fit nearly as well, as clauses.
    ``hypothesis``: what was tried.
    """

    family: str
    at: str
    say: str
    fix: str
    before: str
    after: str
    score: float
    probability: float
    writes: tuple[tuple[str, int, int, str], ...]
    leaves_out: tuple[tuple[str, int, int], ...]
    stretches: tuple[tuple[str, int, int, float, float], ...]
    chooses: str
    also: tuple[str, ...]
    hypothesis: Hypothesis


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """What was found.

    ``suspects``: likeliest first, none where the sheet is likelier clean.
    ``of_a_slip``: probability that there is one of a known kind.
    ``tried``: how many proposals were weighed.
    ``ask``: the reading that would tell the first two apart; empty where one leads.
    ``unexplained``: something is wrong that no slip of a known kind explains.
    """

    suspects: tuple[Suspect, ...]
    of_a_slip: float
    tried: int
    ask: str = ""
    unexplained: bool = False
