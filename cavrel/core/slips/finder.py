"""Suspects for one sheet: all proposals weighed in a batch, those that lead worked out whole, one card for each cause.

Probabilities are Bayes's: prior of the family shared among all that it proposes, times the likelihood of the sheet as it would be, against
the sheet as it stands and against something that no family knows.
"""

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis, analyse, analyse_sheet
from cavrel.core.analysis.sheet import InputReadings, Sheet
from cavrel.core.definition.steps import Program
from cavrel.core.errors import CavrelError
from cavrel.core.quantity.rounding import significant
from cavrel.core.slips import carry, evidence
from cavrel.core.slips.evidence import Features, Repeats
from cavrel.core.slips.families import PRIOR, PROPOSERS, SEEN_ONLY, offsets
from cavrel.core.slips.hypothesis import Cell, Hypothesis
from cavrel.core.slips.readings import Readings

Array = NDArray[np.float64]

OF_A_SLIP = 0.4
"""Prior probability that a sheet holds a slip of a known kind."""
OF_SOMETHING_ELSE = 0.1
"""Prior probability of a cause that no family knows, and what its freedom costs, as a logarithm."""
_COST_OF_ELSE = 15.0
SAID = 0.35
"""A slip is spoken of from this probability on that there is one of a known kind: as likely as not, for some causes are of no known kind."""
LEAST_OF_A_CARD = 0.03
_SHORT, _WITHIN = 14, 9.0
"""So many places are worked out whole, and none that trails the leader by more than this, as a logarithm."""
_MOST_OF_A_PLACE = 2
_WORTH_A_LOOK = 0.1
"""Below this probability by the batch nothing is worked out whole: the sheet is clean."""


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
        gain[laws:] -= evidence.UNSETTLED * evidence.unsettled(features)[1:]
        chances = self.probabilities(gain, float(likelihood[0]), self.ideal(features))
        if chances[:-2].sum() < _WORTH_A_LOOK and not (self.laws and self.uneasy(features)):
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
            other = self.worked_out(one)
            if other is None:
                continue
            if self.throughout(one):
                # What an instrument declares in millimetres stays so when the column is called centimetres; the batch, whose weights go with
                # the values, is the better judge then.
                exact[index] = gain[index]
                whole[index] = exact[index], other, of_batch(features, index - laws + 1)
                continue
            # Squares within repeats need no weights: the batch has them right, whatever unit a row is taken in.
            found = evidence.of_analysis(other, repeats_of(features, max(index - laws + 1, 0)))
            exact[index] = comparable(base, found, self.analysis, other)
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
            repeats[key] = replace(own, squares=np.minimum(own.squares[:1], self.without_worst[key]))
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
        return chosen + [i for i, one in enumerate(self.proposals) if one.program is not None]

    def stands_for(self, gain: Array, chosen: list[int]) -> Array:
        """For how many of its place each chosen proposal stands, as a logarithm of their share by the batch: only the leaders of a place are
        worked out whole, and speak for the rest."""
        weights = self.prior + gain
        groups: dict[tuple[str, str], list[int]] = {}
        for index, one in enumerate(self.proposals):
            groups.setdefault(_place(one), []).append(index)
        more = np.zeros(len(self.proposals))
        for index in chosen:
            members = groups[_place(self.proposals[index])]
            picked = [i for i in chosen if i in set(members)]
            more[index] = np.logaddexp.reduce(weights[members]) - np.logaddexp.reduce(weights[picked])
        return more

    @staticmethod
    def throughout(one: Hypothesis) -> bool:
        """Whether whole columns or quantities change, not single readings or rows."""
        return bool(one.columns) and all(one.at in (key, f"quantities.{key}") for key in list(one.columns)[:1])

    def worked_out(self, one: Hypothesis) -> Analysis | None:
        """The analysis of the sheet as it would be; None where it cannot be."""
        analysis = self.analysis
        try:
            if one.program is not None:
                return analyse(one.program, analysis.run, analysis.rules)
            return analyse_sheet(analysis.program, analysis.run, analysis.rules, changed(analysis.sheet, one))
        except CavrelError:
            return None

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
            suspects.append(
                self.suspect(lead, members, probability, float(exact[lead]), other, features, base, chances)
            )
        suspects.sort(key=lambda s: -s.probability)
        ask = ""
        if len(suspects) > 1 and suspects[0].probability < 3 * suspects[1].probability:
            ask = self.ask(suspects[0], suspects[1])
        return Found(
            suspects=tuple(suspects),
            of_a_slip=of_a_slip,
            tried=len(self.proposals),
            ask=ask,
            unexplained=not suspects and bool(evidence.unsettled(base)[0] > 0),
        )

    def suspect(
        self,
        lead: int,
        members: list[int],
        probability: float,
        score: float,
        other: Analysis,
        features: Features,
        base: Features,
        chances: Array,
    ) -> Suspect:
        one = self.proposals[lead]
        out = self.leaves_out(one)
        if one.again:  # shown is what the fix makes of it, and that leaves the reading out
            without = Hypothesis(
                family=one.family, at=one.at, say="", do="", cells=tuple(Cell(*place, math.nan) for place in out)
            )
            other = self.worked_out(without) or other
        before, after = (first_result(a) for a in (self.analysis, other))
        also = tuple(self.proposals[i].say for i in members[1:] if chances[i] > 0.15 * chances[lead])
        return Suspect(
            family=one.family,
            at=one.at,
            say=f"{one.say[0].upper()}{one.say[1:]}. {speaks(self.analysis, base, features)}".strip(),
            fix=one.do,
            before=before,
            after=after,
            score=score,
            probability=probability,
            writes=() if one.again else tuple(self.writes(one)),
            leaves_out=tuple((key, row + 1, trial + 1) for key, row, trial in out),
            chooses=next((a.choice for a in self.alternatives if a.program is one.program), ""),
            also=also,
            hypothesis=one,
        )

    def leaves_out(self, one: Hypothesis) -> list[tuple[str, int, int]]:
        """Input, row and trial from 0 of what nobody can write anew."""
        found = [(c.key, c.row, c.trial) for c in one.cells if one.again or not c.text]
        if one.again:
            for key, values in one.columns.items():
                was = next(e.values for e in self.analysis.sheet.inputs if e.spec.key == key)
                found += [(key, i, j) for i, j in np.argwhere(np.isfinite(was) & (values != was)).tolist()]
        return found

    def writes(self, one: Hypothesis) -> list[tuple[str, int, int, str]]:
        found = [(c.key, c.row + 1, c.trial + 1, c.text) for c in one.cells if c.text]
        entries = {entry.spec.key: entry for entry in self.analysis.sheet.inputs}
        for key, rows in (one.texts() if one.texts else {}).items():
            for i, row in enumerate(rows):
                for j, text in enumerate(row):
                    if text and not math.isclose(
                        float(one.columns[key][i, j]), float(entries[key].values[i, j]), rel_tol=1e-12, abs_tol=0.0
                    ):
                        found.append((key, i + 1, j + 1, text))
        return found

    def ask(self, first: Suspect, second: Suspect) -> str:
        """The reading that would tell two suspects apart: the one of them that is easier to take again."""
        places = [self.place(s.at) for s in (first, second)]
        if places[0] == places[1]:
            return f"Read {places[0]} again: it decides between the two."
        return f"These two fit nearly alike. Read {places[0]} again, or {places[1]}: either decides."

    def place(self, at: str) -> str:
        """A place in words."""
        parts = at.removeprefix("quantities.").split(".")
        program = self.analysis.program
        key = at.removeprefix("quantities.") if at.startswith("quantities.") else ".".join(parts[:2])
        key = key if key in program.input_of else parts[0]
        if key not in program.input_of:
            return "what the law takes for granted"
        label = f"“{program.input_of[key].label}”"
        row = parts[2] if len(parts) > 2 and not at.startswith("quantities.") else ""
        return f"{label} in row {row}" if row else label


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


def of_batch(features: Features, index: int) -> Features:
    """The features of one sheet of a batch."""
    return replace(
        features,
        repeats=repeats_of(features, index),
        fits={name: replace(fit, squares=fit.squares[[index]]) for name, fit in features.fits.items()},
        apart=features.apart[[index]],
        differences=features.differences[[index]],
        lost=features.lost[[index]],
        implausible=features.implausible[[index]],
        uneven=features.uneven[[index]],
    )


def repeats_of(features: Features, index: int) -> dict[str, Repeats]:
    """The repeats of one sheet of a batch."""
    return {key: replace(own, squares=own.squares[[index]]) for key, own in features.repeats.items()}


def comparable(base: Features, found: Features, before: Analysis, after: Analysis) -> float:
    """By how much a sheet worked out whole is likelier, as a logarithm, over what both sheets have."""
    fits = base.fits.keys() & found.fits.keys()
    # Another convention may fit another curve, or other rows: what is not the same test is left aside on both sides.
    same = before.program is after.program
    pairs = ((n, base.fits[n], found.fits[n]) for n in base.fits.keys() & found.fits.keys())
    fits = {n for n, a, b in pairs if a.known == b.known and (same or a.dof == b.dof)}
    both = []
    tests = {True: evidence.tested(before), False: evidence.tested(after)}
    for own in (base, found):
        known = {one[1]: one for one in tests[own is base]}
        # A proposal that leaves nothing to compare has not brought two values together: what it lost stays as far apart as it was.
        ought = (
            [known.get(one[1], one) for one in tests[True]]
            if same
            else [o for o in known.values() if o[1] in base.names]
        )
        ought = [one for one in ought if same or one[1] in found.names]
        u = np.array([one[3] for one in ought])
        differences = np.array([[one[2] for one in ought]]) / u if ought else np.zeros((1, 0))
        parts = [one[4] for one in ought]
        if len({len(p) for p in parts}) > 1:  # of two analyses with components of their own
            parts = [np.eye(len(parts))[i] * one[3] for i, one in enumerate(ought)]
        both.append(
            replace(
                own,
                fits={name: own.fits[name] for name in fits},
                differences=differences,
                apart=evidence.distance(differences, evidence.correlation(parts, u)),
            )
        )
    return float(evidence.likelihood(both[1])[0] - evidence.likelihood(both[0])[0])


def changed(sheet: Sheet, one: Hypothesis) -> Sheet:
    """The sheet as it would be. What nobody can know is left out."""
    cells: dict[str, list[tuple[int, int, float]]] = {}
    for cell in one.cells:
        cells.setdefault(cell.key, []).append((cell.row, cell.trial, cell.value if cell.text else math.nan))
    inputs = []
    for entry in sheet.inputs:
        key = entry.spec.key
        if key in one.columns:
            inputs.append(_with(entry, one.columns[key]))
        elif key in cells:
            values = entry.values.copy()
            for row, trial, value in cells[key]:
                values[row, trial] = value
            inputs.append(_with(entry, values, once=True))
        else:
            inputs.append(entry)
    return replace(sheet, inputs=tuple(inputs))


def _with(entry: InputReadings, values: Array, once: bool = False) -> InputReadings:
    """An input with other values; a last digit grows with the value where a whole column does, and a ± with it."""
    if once:
        return replace(entry, values=values)
    with np.errstate(all="ignore"):
        factor = np.abs(values / entry.values)
    ratio = factor[np.isfinite(factor)]
    same = len(ratio) > 0 and float(np.ptp(ratio)) <= 1e-9 * float(ratio.max())
    size = float(ratio[0]) if same and ratio[0] > 0 else 1.0
    return replace(entry, values=values, step=entry.step * size, stated=entry.stated * size)


def first_result(analysis: Analysis) -> str:
    """The first result that has a value, as text."""
    for result in analysis.results.values():
        if not result.reason:
            return result.measured(analysis.rules.rounding).text()
    return "no result"


def speaks(analysis: Analysis, before: Features, after: Features) -> str:
    """What speaks for a suspect: the clauses that moved most, a sentence."""
    clauses: list[tuple[float, str]] = []
    for key in before.repeats.keys() & after.repeats.keys():
        was, now = float(before.repeats[key].squares[0]), float(after.repeats[key].squares[0])
        if was > 1.5 * now:
            gain = 0.5 * before.repeats[key].dof * math.log(was / max(now, 1e-12))
            label = analysis.program.input_of[key].label
            times = math.sqrt(was / max(now, 1e-12))
            how = f"{times:.1f} times" if times < 100 else "far"
            clauses.append((gain, f"repeats of “{label}” scatter {how} less"))
    for name in before.fits.keys() & after.fits.keys():
        if name.startswith("identity#"):
            continue
        was, now = float(before.fits[name].squares[0]), float(after.fits[name].squares[0])
        if was > 1.3 * now:
            label = analysis.program.fits[name].label or name
            gain = 0.5 * before.fits[name].dof * math.log(was / max(now, 1e-12))
            if before.fits[name].known:
                clauses.append(
                    (
                        gain,
                        f"χ² of {label} falls from {significant(was, 3)} to {significant(now, 2)}, with {before.fits[name].dof} to expect",
                    )
                )
            else:
                clauses.append(
                    (gain, f"the points of {label} scatter {math.sqrt(was / max(now, 1e-12)):.1f} times less")
                )
    for i, name in enumerate(before.names):
        if name not in after.names:
            continue
        was, now = abs(float(before.differences[0, i])), abs(float(after.differences[0, after.names.index(name)]))
        if was > now + 1:
            program = analysis.program
            label = program.definition.results[name].label if name in program.definition.results else "the intercept"
            clauses.append(
                (
                    0.5 * (was**2 - now**2) / (1 + was),
                    f"{_lower(label)} comes from {significant(was, 2)} to {significant(now, 1)} standard uncertainties",
                )
            )
    if after.implausible[0] < before.implausible[0]:
        clauses.append((3.0, "what was out of its usual range is inside"))
    if after.lost[0] < before.lost[0]:
        clauses.append((3.0, "every row has a value"))
    if after.uneven[0] < before.uneven[0]:
        clauses.append((1.5, "the settings are even"))
    clauses.sort(key=lambda one: -one[0])
    chosen = [text for _, text in clauses[:2]]
    return f"With it set right {' and '.join(chosen)}." if chosen else ""


def _lower(label: str) -> str:
    return label[0].lower() + label[1:]
