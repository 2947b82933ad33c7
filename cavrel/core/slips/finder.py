"""What may be wrong with one sheet: hypotheses weighed in a batch, those that lead computed whole, one card for each place.

Probabilities are Bayes's, in an open world: a clean sheet of unknown noise, slips of the pen, physical causes that the definition states, and
something else. Where comes before why: a card is a place, its probability the sum of all causes there.
"""

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.slips import cards, carry, evidence, parents, unknown
from cavrel.core.slips.evidence import Features
from cavrel.core.slips.families import CONVERTIBLE, PRIOR, PROPOSERS, SEEN_ONLY, causes, offsets, unnamed
from cavrel.core.slips.hypothesis import Cell, Hypothesis
from cavrel.core.slips.readings import Readings
from cavrel.core.slips.records import Alternative, Found, Place, Suspect
from cavrel.core.slips.whole import comparable, narrower, reanalysed, repeats_of

Array = NDArray[np.float64]

PEN, PHYSICAL, ELSE = 0.28, 0.14, 0.16
"""Prior probabilities that a sheet holds a slip of the pen, a physical cause that its definition states, and something else."""
SAID = 0.40
"""A place is named from this probability on."""
SHOWN_BESIDE = 0.05
"""Besides a place that is named, others are named from this probability on."""
MOST_SAID = 0.95
BROKEN = 0.30
"""No cure that leaves a test of the sheet failed is likelier than this."""
_SHORT, _WITHIN = 9, 6.0
"""So many hypotheses are computed whole, and none that trails the leader by more than this, as a logarithm."""
_MOST_OF_A_PLACE = 2
_MOST_SEEN = 2
"""So many readings that look like another row's, or like the other side's, are computed whole wherever they stand."""
_WORTH_A_LOOK = 0.18
"""Probability by the batch below which no place is computed whole."""
_MOST_PLACES, _MOST_CARDS = 6, 4
_LIKELY_CLEAN = 0.5
"""Below this probability of a clean sheet something does not fit, though no place is likely enough to name."""


def find(analysis: Analysis, alternatives: Sequence[Alternative] = (), rejected: Collection[str] = ()) -> Found:
    """What may have gone wrong on the sheet of ``analysis``; nothing before any result has a value. ``rejected``: codes of causes that a person
    has looked at and refused."""
    if not any(not result.reason for result in analysis.results.values()):
        return Found(suspects=(), clean=1.0, other=0.0, tried=0)
    with np.errstate(all="ignore"):
        return _Search(analysis, alternatives, rejected).found()


@dataclass(slots=True, kw_only=True)
class _Whole:
    """A hypothesis computed whole: the sheet as it would be, its features, by how much it is likelier than the one that stands, and the tests
    that it still fails."""

    analysis: Analysis
    features: Features
    gain: float
    failed: list[str]


class _Search:
    def __init__(self, analysis: Analysis, alternatives: Sequence[Alternative], rejected: Collection[str] = ()) -> None:
        self.analysis = analysis
        self.readings = Readings(analysis)
        self.alternatives = alternatives
        laws = [Hypothesis(family="law", at=a.at, say=a.say, do=a.do, program=a.program) for a in alternatives]
        pen = [one for propose in PROPOSERS for one in propose(self.readings)]
        physical = list(causes.proposed(self.readings))
        self.proposals = [*laws, *pen, *physical]
        if rejected:
            self.proposals = [one for one in self.proposals if one.code not in rejected]
        self.rejected = rejected
        self.prior = priors(self.proposals, len(analysis.program.causes))
        self.merge_steps()
        self.unnamed = list(unnamed.proposed(self.readings))

    def found(self) -> Found:
        weighed, features = self.weighed()
        free = ELSE if self.analysis.program.causes else ELSE + PHYSICAL
        other = unknown.weight(self.analysis, features, free / 2)
        if self.unnamed:
            gain = self.unnamed_gain
            shares = np.log([one.share for one in self.unnamed])
            mean = float(np.logaddexp.reduce(gain + shares) - np.logaddexp.reduce(shares))
            other = float(np.logaddexp(other, math.log(free / 2) + mean))
        clean = math.log(max(1 - PEN - PHYSICAL - ELSE, 1e-9))
        rest = np.logaddexp(clean, other)
        logs = self.prior + weighed
        places = self.by_place(logs, float(rest))
        clean_share = float(np.exp(clean - np.logaddexp(np.logaddexp.reduce(logs), rest)))
        quiet = max((place.probability for place in places), default=0.0) < _WORTH_A_LOOK
        if quiet and clean_share > _LIKELY_CLEAN:
            return Found(suspects=(), clean=clean_share, other=1.0, tried=len(self.proposals), places=places)
        base = evidence.of_analysis(self.analysis, repeats_of(features, 0))
        whole = {i: found for i in self.shortlist(logs) if (found := self.whole(i, features, base)) is not None}
        return self.cards(weighed, whole, clean, other, base)

    def by_place(self, logs: Array, rest: float) -> tuple[Place, ...]:
        """Places that lead by the batch alone."""
        groups: dict[str, list[int]] = {}
        for index, one in enumerate(self.proposals):
            groups.setdefault(place_of(one), []).append(index)
        total = float(np.logaddexp(np.logaddexp.reduce(logs), rest))
        weights = {place: float(np.exp(logs[members] - total).sum()) for place, members in groups.items()}
        leaders = sorted(weights, key=lambda p: -weights[p])[:_MOST_PLACES]
        return tuple(
            Place(at=p, probability=weights[p], touches=self.touched([max(groups[p], key=lambda i: logs[i])]))
            for p in leaders
        )

    def merge_steps(self) -> None:
        """A setting that would be in step and that a digit explains is one cause, said as the digit."""
        steps = [i for i, one in enumerate(self.proposals) if one.family == "step"]
        for step in reversed(steps):
            cells = self.proposals[step].cells
            same = [i for i, one in enumerate(self.proposals) if i != step and one.cells and _alike(one, cells[0])]
            if same:
                self.prior[same[0]] = np.logaddexp(self.prior[same[0]], self.prior[step])
                self.prior = np.delete(self.prior, step)
                del self.proposals[step]

    def weighed(self) -> tuple[Array, Features]:
        """By how much each hypothesis is likelier than the sheet as it stands, ``(H,)``, by the batch; and the batch's features. Sizes are tried more
        finely about the best, and of each reading the amount that fits best is sought."""
        first = [one for one in self.proposals if one.program is None]
        features = carry.features(self.analysis, [*first, *self.unnamed])
        every = self.gains(features)
        gain, self.unnamed_gain = every[: len(first)], every[len(first) :]
        more: list[Hypothesis] = []
        prior: list[float] = []
        best: dict[str, int] = {}
        start = self.laws = len(self.proposals) - len(first)
        for place, one in enumerate(first):
            if one.amount and gain[place] > gain[best.get(one.at, place)]:
                best[one.at] = place
            elif one.amount:
                best.setdefault(one.at, place)
        for place in best.values():
            one = first[place]
            closer = causes.finer if one.family == "physical" else offsets.finer
            for other in closer(self.readings, one):
                more.append(other)
                prior.append(self.prior[start + place] + math.log(other.share))
        off, off_gain = parents.sought(self.analysis, self.readings)
        kept = [i for i, one in enumerate(off) if not self.rejected or one.code not in self.rejected]
        finer = carry.features(self.analysis, more)
        # Squares within repeats need no weights: the batch has them right.
        self.repeats = [(features, i + 1) for i in range(len(first))] + [(finer, i + 1) for i in range(len(more))]
        finer_gain = self.gains(finer)
        share = math.log(PEN * PRIOR["off"]) - math.log(max(self.readings.count, 1))
        whole = np.concatenate([np.zeros(start), gain, finer_gain, off_gain[kept]])
        self.proposals += [*more, *(off[i] for i in kept)]
        self.prior = np.concatenate([self.prior, prior, [share + math.log(off[i].share) for i in kept]])
        # What an optional convention would make of the sheet no batch can tell: it is computed where something does not fit.
        uneasy = bool(evidence.failed(repeats_first(features)))
        whole[:start] = 0.0 if uneasy else -50.0
        return whole, features

    @staticmethod
    def gains(features: Features) -> Array:
        likelihood = evidence.likelihood(features)
        return np.asarray(np.nan_to_num(likelihood[1:] - likelihood[0], nan=-50.0))

    def shortlist(self, logs: Array) -> list[int]:
        """Hypotheses worth computing whole: the leaders, few of one place."""
        chosen: list[int] = []
        places: dict[tuple[str, str], int] = {}
        order = np.argsort(-logs, kind="stable").tolist()
        best = float(logs.max())
        for index in order:
            one = self.proposals[index]
            if one.program is not None or one.family == "off":
                continue
            place = one.at, "" if one.cells else one.family
            if places.get(place, 0) >= (1 if one.amount else _MOST_OF_A_PLACE):
                continue
            if len(chosen) >= _SHORT or logs[index] < best - _WITHIN:
                break
            places[place] = places.get(place, 0) + 1
            chosen.append(index)
        seen = [i for i in order if self.proposals[i].family in SEEN_ONLY and logs[i] > best - 2 * _WITHIN]
        chosen += [i for i in seen[:_MOST_SEEN] if i not in chosen]
        laws = [i for i, one in enumerate(self.proposals) if one.program is not None and logs[i] > -40]
        off = [i for i in order if self.proposals[i].family == "off"][:2]
        return [*chosen, *laws, *off]

    def whole(self, index: int, features: Features, base: Features) -> _Whole | None:
        one = self.proposals[index]
        other = reanalysed(self.analysis, one)
        if other is None:
            return None
        place = index - self.laws
        if one.program is not None:
            repeats = repeats_of(features, 0)
        elif one.family == "off":
            repeats = repeats_of(carry.features(self.analysis, [one]), 1)
        else:
            repeats = repeats_of(*self.repeats[place])
        found = evidence.of_analysis(other, repeats)
        gain = comparable(base, found, self.analysis, other)
        if one.noise == "converted" or one.stretches:
            gain += narrower(self.analysis, other)
        return _Whole(analysis=other, features=found, gain=gain, failed=evidence.failed(found))

    def cards(self, weighed: Array, whole: dict[int, _Whole], clean: float, other: float, base: Features) -> Found:
        """One card for each place: a reading, a column, a quantity, an instrument, a convention, or something physical."""
        groups: dict[str, list[int]] = {}
        for index, one in enumerate(self.proposals):
            groups.setdefault(place_of(one), []).append(index)
        logs = self.prior + self.corrected(weighed, whole, groups)
        rest = float(np.logaddexp(clean, other))
        total = float(np.logaddexp(np.logaddexp.reduce(logs), rest))
        weights = {place: float(np.exp(logs[members] - total).sum()) for place, members in groups.items()}
        leaders = {place: max(members, key=lambda i: logs[i]) for place, members in groups.items()}
        broken = {place for place, i in leaders.items() if i in whole and whole[i].failed}
        weights, rest_weight = limited(weights, broken, float(np.exp(rest - total)))
        clean_share = rest_weight * math.exp(clean - rest)
        shown = sorted(weights, key=lambda p: -weights[p])
        named = [p for p in shown if weights[p] >= SHOWN_BESIDE and leaders[p] in whole][:_MOST_CARDS]
        if not shown or weights[shown[0]] < SAID:
            named = []
        suspects = tuple(
            self.card(place, leaders[place], groups[place], weights[place], logs, whole, base, place not in broken)
            for place in named
        )
        doubtful = not suspects and clean_share < _LIKELY_CLEAN
        likely = [p for p in shown[:2] if weights[p] > SHOWN_BESIDE] if doubtful else []
        return Found(
            suspects=suspects,
            clean=clean_share,
            other=max(0.0, 1 - sum(s.probability for s in suspects)),
            tried=len(self.proposals),
            ask=cards.ask(self.analysis, suspects[0], suspects[1])
            if len(suspects) > 1 and suspects[0].probability < 3 * suspects[1].probability
            else "",
            unexplained=doubtful and bool(evidence.failed(base)),
            places=tuple(
                Place(at=p, probability=weights[p], touches=self.touched([leaders[p]])) for p in shown[:_MOST_PLACES]
            ),
            between=tuple(cards.place(self.analysis, self.proposals[leaders[p]].at) for p in likely),
        )

    def corrected(self, weighed: Array, whole: dict[int, _Whole], groups: dict[str, list[int]]) -> Array:
        """By how much each hypothesis is likelier than the sheet as it stands, with what was computed whole standing for its kin of the same
        place: the batch errs for all of them alike."""
        gain = weighed.copy()
        for members in groups.values():
            kin: dict[str, list[int]] = {}
            for i in members:
                if self.proposals[i].family != "off":  # whose freedom is paid for already
                    kin.setdefault(_kin(self.proposals[i]), []).append(i)
            for alike in kin.values():
                shifts = [whole[i].gain - weighed[i] for i in alike if i in whole]
                if shifts:
                    gain[alike] += max(shifts, key=abs)
                elif self.proposals[alike[0]].program is not None:
                    gain[alike] = -math.inf
                for i in alike:
                    if i in whole:
                        gain[i] = whole[i].gain
        return gain

    def card(
        self,
        place: str,
        lead: int,
        members: list[int],
        probability: float,
        logs: Array,
        whole: dict[int, _Whole],
        base: Features,
        sound: bool,
    ) -> Suspect:
        """The card of a place. ``lead``: its likeliest hypothesis; ``sound``: that leaves no test failed."""
        one = self.proposals[lead]
        return cards.suspect(
            self.analysis,
            one,
            whole[lead].analysis,
            cards.speaks(self.analysis, base, whole[lead].features),
            min(probability, MOST_SAID),
            whole[lead].gain,
            self.shares(members, logs),
            place,
            sound and one.family in CONVERTIBLE and not one.cells,
            next((a.choice for a in self.alternatives if a.program is one.program), "") if sound else "",
        )

    def touched(self, members: list[int]) -> frozenset[str]:
        """Keys of the inputs that hypotheses change."""
        ones = [self.proposals[i] for i in members]
        return frozenset(key for one in ones for key in (*one.columns, *(cell.key for cell in one.cells)))

    def shares(self, members: list[int], logs: Array) -> tuple[tuple[str, float], ...]:
        """Causes of one place with their shares of it, likeliest first, those of the same words together."""
        weights = np.exp(logs[members] - np.logaddexp.reduce(logs[members]))
        by_words: dict[str, float] = {}
        lead: dict[str, str] = {}
        for index, weight in zip(members, weights.tolist(), strict=True):
            one = self.proposals[index]
            key = one.code
            by_words[key] = by_words.get(key, 0.0) + weight
            lead.setdefault(key, one.say)
        found = sorted(((lead[k], w) for k, w in by_words.items()), key=lambda pair: -pair[1])
        return tuple((say, w) for say, w in found if w > 0.04)[:5]


def repeats_first(features: Features) -> Features:
    """The features of the sheet as it stands alone."""
    return replace(
        features,
        fits={name: replace(fit, squares=fit.squares[:1]) for name, fit in features.fits.items()},
        differences=features.differences[:1],
        implausible=features.implausible[:1],
        lost=features.lost[:1],
    )


def limited(weights: dict[str, float], broken: set[str], rest: float) -> tuple[dict[str, float], float]:
    """Probabilities of places with those whose cure breaks something held under `BROKEN`; what they lose goes to everything else."""
    over = sum(max(weights[p] - BROKEN, 0.0) for p in broken)
    return {p: min(w, BROKEN) if p in broken else w for p, w in weights.items()}, rest + over


def place_of(one: Hypothesis) -> str:
    """Where a hypothesis has its card: one for each reading, row, column, quantity, instrument; one for all that is physical."""
    return "physical" if one.family == "physical" else one.at


def _alike(one: Hypothesis, cell: Cell) -> bool:
    """Whether a hypothesis makes of a reading what ``cell`` is."""
    own = one.cells[0]
    return (
        len(one.cells) == 1
        and (own.key, own.row, own.trial) == (cell.key, cell.row, cell.trial)
        and math.isclose(own.value, cell.value, rel_tol=1e-9)
    )


def _kin(one: Hypothesis) -> str:
    return "cell" if one.cells else f"{one.family}" + (one.at if one.family == "physical" else "")


def priors(proposals: Sequence[Hypothesis], causes: int) -> Array:
    """Logarithm of each hypothesis' prior: of a slip of the pen its family's, shared by the family; of a physical cause its part of all; and what
    its text says for it."""
    total: dict[str, float] = {}
    for one in proposals:
        total[one.family] = total.get(one.family, 0.0) + one.share
    # A family that proposes only what already looks like it counts its shares over all that it might have proposed.
    total.update(dict.fromkeys(SEEN_ONLY & total.keys(), 1.0))
    logs = []
    for one in proposals:
        if one.family == "physical":
            logs.append(math.log(PHYSICAL * one.share / causes))
        else:
            logs.append(math.log(PEN * PRIOR[one.family] * one.share / total[one.family]) + one.bonus)
    return np.array(logs)
