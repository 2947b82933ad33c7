"""Simulate every experiment with known truth and count how often the intervals hold it: ``./run coverage [--options] [runs] [id ...]``."""

import math
import sys
from collections.abc import Mapping
from dataclasses import dataclass

from scipy import stats

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.findings import findings_of
from cavrel.core.logbook import run as runs
from cavrel.core.simulate import simulate, truth


@dataclass(frozen=True, slots=True)
class Held:
    """How often one result's intervals held the truth, of ``runs``; ``flagged`` runs had something to remark on."""

    experiment: str
    result: str
    runs: int
    one: float
    wide: float
    flagged: int

    @property
    def chance(self) -> float:
        """The smaller chance, of the two shares, of so far a miss or farther by counting alone (exact binomial, two-sided)."""
        wanted = ((self.one, 0.6827), (self.wide, 0.95))
        return min(float(stats.binomtest(round(share * self.runs), self.runs, p).pvalue) for share, p in wanted)

    @property
    def good(self) -> bool:
        """Both shares within the binomial error of their number: a miss as far happens by chance once in a thousand."""
        return self.chance > 1e-3


def cover(experiment: str, many: int, first_seed: int = 0, options: Mapping[str, str] | None = None) -> list[Held]:
    """Coverage of every result of ``experiment`` whose truth its simulation states, under the conventions ``options``."""
    definition = catalogue.experiments()[experiment]
    program = catalogue.program_of(definition, options=options)
    meanings = catalogue.meanings_of(definition, options)
    shown = " ".join([experiment, *(f"{k}={v}" for k, v in (options or {}).items())])
    true = truth(program, first_seed)
    one, wide, flagged = dict.fromkeys(true, 0), dict.fromkeys(true, 0), 0
    for seed in range(first_seed, first_seed + many):
        analysis = analyse(program, runs.load(simulate(program, seed, options=options)))
        flagged += any(f.level != "note" for f in findings_of(analysis, meanings))
        for name, value in truth(program, seed).items():
            result = analysis.results[name]
            k = stats.t.ppf(0.5 + 0.6827 / 2, result.dof) if math.isfinite(result.dof) else 1.0
            one[name] += abs(result.value - value) <= k * result.u
            wide[name] += result.interval[0] <= value <= result.interval[1]
    return [Held(shown, name, many, one[name] / many, wide[name] / many, flagged) for name in true]


def conventions(experiment: str) -> list[Mapping[str, str]]:
    """The default conventions of an experiment, then each other choice on its own."""
    found: list[Mapping[str, str]] = [{}]
    for name, option in catalogue.experiments()[experiment].options.items():
        found += [{name: choice} for choice in option.choices if choice != option.default]
    return found


def main() -> int:
    numbers = [int(a) for a in sys.argv[1:] if a.isdigit()]
    wanted = [a for a in sys.argv[1:] if not a.isdigit() and a != "--options"] or list(catalogue.experiments())
    every = "--options" in sys.argv
    many, bad = (numbers or [500])[0], 0
    print(f"{'experiment':36} {'result':8} {'u holds':>8} {'95 % holds':>11} {'remarked on':>12}   of {many} runs")
    cases = [(e, options) for e in wanted for options in (conventions(e) if every else [{}])]
    for experiment, options in cases:
        for held in cover(experiment, many, options=options):
            bad += not held.good
            verdict = "" if held.good else "   outside binomial error"
            print(
                f"{held.experiment:36} {held.result:8} {held.one:8.3f} {held.wide:11.3f} {held.flagged:12d}{verdict}",
                flush=True,
            )
    return min(bad, 1)


if __name__ == "__main__":
    sys.exit(main())
