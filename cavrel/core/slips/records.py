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
class Change:
    """A result that a cause would change. ``before``, ``after``: as text."""

    name: str
    label: str
    before: str
    after: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Suspect:
    """One place where something may be wrong.

    ``family``: the kind of the likeliest cause.
    ``at``: where.
    ``place``: what its card is for: ``at``, or ``physical``.
    ``say``: what may have happened, and what speaks for it, whole sentences.
    ``fix``: what to do, an imperative.
    ``before``, ``after``: the first result as text.
    ``changes``: every result that changes.
    ``score``: logarithm of how much likelier the sheet is with its likeliest cause than as it stands.
    ``probability``: that something is wrong here.
    ``causes``: (clause, share of the place), likeliest first.
    ``proposal``: (input, row, trial from 1, text) of the one reading that a cause would change; None for others.
    ``writes``: (input, row, trial from 1, text) of every reading that converting a column writes; empty where nothing is converted.
    ``stretches``: (input, row, trial from 1, begin, end in s) of the samples that would count.
    ``chooses``: the choice of the convention ``at``; empty for none.
    ``hypothesis``: the likeliest cause.
    """

    family: str
    at: str
    place: str
    say: str
    fix: str
    before: str
    after: str
    changes: tuple[Change, ...]
    score: float
    probability: float
    causes: tuple[tuple[str, float], ...]
    proposal: tuple[str, int, int, str] | None
    writes: tuple[tuple[str, int, int, str], ...]
    stretches: tuple[tuple[str, int, int, float, float], ...]
    chooses: str
    hypothesis: Hypothesis


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """A place that something may be wrong at. ``touches``: keys of the inputs that its likeliest cause changes."""

    at: str
    probability: float
    touches: frozenset[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """What was found.

    ``suspects``: likeliest first, none where no place is likely enough to name.
    ``clean``: probability that nothing is wrong.
    ``other``: probability that it is none of the suspects.
    ``tried``: how many hypotheses were weighed.
    ``ask``: the reading that would tell the first two apart; empty where one leads.
    ``unexplained``: something does not fit, and no place is likely enough to name.
    ``places``: those that lead, named or not.
    ``between``: places that it may be at, in words, where none is named.
    """

    suspects: tuple[Suspect, ...]
    clean: float
    other: float
    tried: int
    ask: str = ""
    unexplained: bool = False
    places: tuple[Place, ...] = ()
    between: tuple[str, ...] = ()
