"""Suspects for one sheet: all proposals weighed in a batch, those that lead worked out whole, one card for each cause.

Probabilities are Bayes's: prior of the family shared among all that it proposes, times the likelihood of the sheet as it would be, against
the sheet as it stands and against something that no family knows.
"""

import math
from collections.abc import Collection, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.slips import cards, carry, evidence
from cavrel.core.slips.evidence import Features
from cavrel.core.slips.families import PRIOR, PROPOSERS, SEEN_ONLY, offsets
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import Readings
from cavrel.core.slips.records import Alternative, Found
from cavrel.core.slips.whole import comparable, repeats_of, sharper, worked_out

Array = NDArray[np.float64]

OF_A_SLIP = 0.6
"""Prior probability that a sheet holds a slip of a known kind."""
OF_SOMETHING_ELSE = 0.1
"""Prior probability of a cause that no family knows, and what its freedom costs, as a logarithm."""
_COST_OF_ELSE = 34.0
SAID = 0.40
"""A slip is spoken of from this probability on that there is one of a known kind: as likely as not, for some causes are of no known kind."""
LEAST_OF_A_CARD = 0.03
_SHORT, _WITHIN = 14, 9.0
"""So many places are worked out whole, and none that trails the leader by more than this, as a logarithm."""
_MOST_OF_A_PLACE = 2
_MOST_SEEN = 3
"""So many readings that look like another row's, or like the other side's, are worked out whole wherever they stand."""
_NEARLY = 0.15
"""Share of the leader's probability from which another proposal for the same place is named beside it."""
_WORTH_A_LOOK = 0.1
"""Below this probability by the batch nothing is worked out whole: the sheet is clean."""


def find(analysis: Analysis, alternatives: Sequence[Alternative] = (), rejected: Collection[str] = ()) -> Found:
    """What may have gone wrong on the sheet of ``analysis``. ``rejected``: codes of proposals that a person has looked at and refused."""
    if not any(analysis.begun(name) for name in analysis.results):
        return Found(suspects=(), of_a_slip=0.0, tried=0)
    with np.errstate(all="ignore"):
        return _Search(analysis, alternatives, rejected).found()


class _Search:
    def __init__(self, analysis: Analysis, alternatives: Sequence[Alternative], rejected: Collection[str] = ()) -> None:
        self.analysis = analysis
        readings = self.readings = Readings(analysis)
        self.without_worst = {
            entry.spec.key: evidence.without_worst(entry.values)
            / (evidence.declared(entry, analysis.rules) or math.nan)
            for entry in analysis.sheet.inputs
        }
        proposals = [one for propose in PROPOSERS for one in propose(readings)]
        self.laws = [
            Hypothesis(family="law", at=a.at, say=a.say, do=a.do, program=a.program, share=1.0) for a in alternatives
        ]
        if rejected:
            proposals = [one for one in proposals if one.code not in rejected]
            self.laws = [one for one in self.laws if one.code not in rejected]
        self.alternatives = alternatives
        self.proposals = [*self.laws, *proposals]
        self.prior = priors(self.proposals)

    def found(self) -> Found:
        self.refine()
        batched = [one for one in self.proposals if one.program is None]
        features = carry.features(self.analysis, batched)
        likelihood = evidence.likelihood(features)
        laws = len(self.laws)
        gain = np.zeros(len(self.proposals))
        gain[laws:] = np.nan_to_num(likelihood[1:] - likelihood[0], nan=-50.0)
        # Of whole columns the batch, whose weights are those of the sheet as it stands, cannot tell whether tests are passed.
        cells = np.array([not self.throughout(one) for one in batched])
        gain[laws:] -= evidence.UNSETTLED * np.where(cells, evidence.unsettled(features)[1:], 0.0)
        chances = self.probabilities(gain, float(likelihood[0]), self.ideal(features))
        if chances[-2] > 1 - _WORTH_A_LOOK and not (self.laws and self.uneasy(features)):
            return Found(
                suspects=(),
                of_a_slip=float(chances[:-2].sum()),
                tried=len(self.proposals),
                unexplained=bool(evidence.unsettled(features)[0] > 0),
            )
        short = self.shortlist(np.log(np.maximum(chances[:-2], 1e-300)))
        base = evidence.of_analysis(self.analysis, repeats_of(features, 0))
        whole: dict[int, tuple[float, Analysis, Features]] = {}
        start = float(evidence.likelihood(base)[0])
        exact = np.full(len(self.proposals), -math.inf)
        for index in short:
            one = self.proposals[index]
            other = worked_out(self.analysis, one)
            if other is None:
                continue
            # Squares within repeats need no weights: the batch has them right.
            found = evidence.of_analysis(other, repeats_of(features, max(index - laws + 1, 0)))
            exact[index] = comparable(base, found, self.analysis, other)
            if self.throughout(one):
                exact[index] += sharper(base, found, self.analysis, other)
            exact[index] -= evidence.UNSETTLED * float(evidence.unsettled(found)[0])
            whole[index] = exact[index], other, found
        chances = self.probabilities(exact + self.stands_for(gain, list(whole)), start, self.ideal(base))
        return self.cards(chances, exact, whole, base)

    def refine(self) -> None:
        """Amounts that are any number are tried more finely about the best of each column; they share the prior of the one they stand for."""
        coarse = [i for i, one in enumerate(self.proposals) if one.amount]
        if not coarse:
            return
        tried = [self.proposals[i] for i in coarse]
        gain = evidence.likelihood(carry.features(self.analysis, tried))
        best: dict[str, int] = {}
        for place, one in enumerate(tried):
            if math.isfinite(gain[place + 1]) and gain[place + 1] > gain[best.get(one.at, -1) + 1]:
                best[one.at] = place
        for place in best.values():
            for finer in offsets.finer(self.readings, tried[place]):
                self.proposals.append(finer)
                self.prior = np.append(self.prior, self.prior[coarse[place]] + math.log(finer.share))

    def ideal(self, features: Features) -> float:
        """The likelihood of a sheet like this with nothing wrong: chi-squared about its degrees of freedom, differences about u, repeats as
        the rows but one scatter."""
        fits, repeats = {}, {}
        for name, fit in features.fits.items():
            fits[name] = replace(
                fit, squares=np.minimum(fit.squares[:1], evidence.usual(fit.dof)) if fit.known else fit.squares[:1]
            )
        for key, own in features.repeats.items():
            repeats[key] = replace(own, squares=np.minimum(own.squares[:1], self.without_worst[key]), unit=own.unit[:1])
        nought = np.zeros(1)
        count = features.differences.shape[1]
        return float(
            evidence.likelihood(
                replace(
                    features,
                    fits=fits,
                    repeats=repeats,
                    apart=np.minimum(features.apart[:1], evidence.usual(count)),
                    differences=features.differences[:1],
                    lost=nought,
                    implausible=nought,
                    uneven=features.uneven[:1],
                )
            )[0]
        )

    def uneasy(self, features: Features) -> bool:
        """Whether another law is worth working out: something ought to be nought and is not, or a curve is refused."""
        refused = any(f.known and f.squares[0] > 3 * f.dof for f in features.fits.values())
        return refused or float(features.apart[0]) > 9.0 * max(features.differences.shape[1], 1) ** 0.5

    def probabilities(self, gain: Array, start: float, ideal: float) -> Array:
        """Of each proposal, then of a clean sheet, then of something else."""
        with np.errstate(divide="ignore"):
            logs = np.concatenate(
                [
                    math.log(OF_A_SLIP) + self.prior + gain,
                    [math.log(1 - OF_A_SLIP - OF_SOMETHING_ELSE)],
                    [math.log(OF_SOMETHING_ELSE) + max(ideal - start, 0.0) - _COST_OF_ELSE],
                ]
            )
        weights = np.exp(logs - logs.max())
        return np.asarray(weights / weights.sum())

    def shortlist(self, logs: Array) -> list[int]:
        """Proposals worth working out whole: the leaders, few of one place."""
        chosen: list[int] = []
        places: dict[tuple[str, str], int] = {}
        best = float(logs.max())
        for index in np.argsort(-logs, kind="stable").tolist():
            one = self.proposals[index]
            if one.program is not None:
                continue
            place = _place(one)
            if places.get(place, 0) >= _MOST_OF_A_PLACE:
                continue
            if len(chosen) >= _SHORT or logs[index] < best - _WITHIN:
                break
            places[place] = places.get(place, 0) + 1
            chosen.append(index)
        # What a reading of a neighbour's row would have been the batch can only guess at.
        seen = [i for i in np.argsort(-logs, kind="stable").tolist() if self.proposals[i].family in SEEN_ONLY]
        chosen += [i for i in seen[:_MOST_SEEN] if i not in chosen]
        return chosen + [i for i, one in enumerate(self.proposals) if one.program is not None]

    def stands_for(self, gain: Array, chosen: list[int]) -> Array:
        """For how many of its place each chosen proposal stands, as a logarithm of their share by the batch: only the leaders of a place are
        worked out whole, and speak for the rest."""
        weights = self.prior + gain
        groups: dict[tuple[str, str], list[int]] = {}
        for index, one in enumerate(self.proposals):
            if one.family not in SEEN_ONLY:  # of which the batch only guesses, and which are worked out for themselves
                groups.setdefault(_place(one), []).append(index)
        more = np.zeros(len(self.proposals))
        for index in chosen:
            if self.proposals[index].family in SEEN_ONLY:
                continue
            members = groups[_place(self.proposals[index])]
            picked = [i for i in chosen if i in set(members)]
            more[index] = np.logaddexp.reduce(weights[members]) - np.logaddexp.reduce(weights[picked])
        return more

    @staticmethod
    def throughout(one: Hypothesis) -> bool:
        """Whether whole columns or quantities change, not single readings or rows."""
        return bool(one.columns) and all(one.at in (key, f"quantities.{key}") for key in list(one.columns)[:1])

    def cards(
        self, chances: Array, exact: Array, whole: dict[int, tuple[float, Analysis, Features]], base: Features
    ) -> Found:
        """One card for each cause: what changes the same place, or the same readings in the same way."""
        of_a_slip = float(chances[:-2].sum())
        groups: dict[tuple[str, str], list[int]] = {}
        for index in whole:
            one = self.proposals[index]
            groups.setdefault(_place(one), []).append(index)
        suspects = []
        for members in groups.values():
            members.sort(key=lambda i: -chances[i])
            probability = float(chances[members].sum())
            lead = members[0]
            if probability < LEAST_OF_A_CARD or of_a_slip < SAID:
                continue
            _, other, features = whole[lead]
            one = self.proposals[lead]
            suspects.append(
                cards.suspect(
                    self.analysis,
                    one,
                    other,
                    cards.speaks(self.analysis, base, features),
                    probability,
                    float(exact[lead]),
                    tuple(self.proposals[i].say for i in members[1:] if chances[i] > _NEARLY * chances[lead]),
                    next((a.choice for a in self.alternatives if a.program is one.program), ""),
                )
            )
        suspects.sort(key=lambda s: -s.probability)
        ask = ""
        if len(suspects) > 1 and suspects[0].probability < 3 * suspects[1].probability:
            ask = cards.ask(self.analysis, suspects[0], suspects[1])
        return Found(
            suspects=tuple(suspects),
            of_a_slip=of_a_slip,
            tried=len(self.proposals),
            ask=ask,
            unexplained=not suspects and bool(evidence.unsettled(base)[0] > 0),
        )


def _place(one: Hypothesis) -> tuple[str, str]:
    """What belongs on one card: everything about one reading, and one kind of cause in a column."""
    return one.at, "" if one.cells else one.family


def priors(proposals: Sequence[Hypothesis]) -> Array:
    """Logarithm of each proposal's prior among slips: its family's, shared by the family, and what its text says for it."""
    total: dict[str, float] = {}
    for one in proposals:
        total[one.family] = total.get(one.family, 0.0) + one.share
    # A family that proposes only what already looks like it counts its shares over all that it might have proposed.
    total.update(dict.fromkeys(SEEN_ONLY & total.keys(), 1.0))
    present = sum(PRIOR[family] for family in total)
    return np.array(
        [math.log(PRIOR[one.family] / present * one.share / total[one.family]) + one.bonus for one in proposals]
    )
