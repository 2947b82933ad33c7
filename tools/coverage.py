"""Simulate every experiment with known truth and count how often the intervals hold it: ``./run coverage [runs] [id ...]``."""

import math
import sys
from dataclasses import dataclass

from scipy import stats

from cavrel import catalogue
from cavrel.core import run as runs
from cavrel.core.analysis import analyse
from cavrel.core.remarks import remarks
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
    def good(self) -> bool:
        """Both shares within three binomial standard errors."""
        wanted = ((self.one, 0.6827), (self.wide, 0.95))
        return all(abs(share - p) <= 3 * math.sqrt(p * (1 - p) / self.runs) for share, p in wanted)


def cover(experiment: str, many: int, first_seed: int = 0) -> list[Held]:
    """Coverage of every result of ``experiment`` whose truth its stand-in states."""
    definition = catalogue.experiments()[experiment]
    program, meanings = catalogue.program_of(definition), catalogue.meanings_of(definition)
    true = truth(program)
    one, wide, flagged = dict.fromkeys(true, 0), dict.fromkeys(true, 0), 0
    for seed in range(first_seed, first_seed + many):
        analysis = analyse(program, runs.load(simulate(program, seed)))
        flagged += any(f.level != "note" for f in remarks(analysis, meanings))
        for name, value in true.items():
            result = analysis.results[name]
            k = stats.t.ppf(0.5 + 0.6827 / 2, result.dof) if math.isfinite(result.dof) else 1.0
            one[name] += abs(result.value - value) <= k * result.u
            wide[name] += abs(result.value - value) <= result.U95
    return [Held(experiment, name, many, one[name] / many, wide[name] / many, flagged) for name in true]


def main() -> int:
    numbers = [int(a) for a in sys.argv[1:] if a.isdigit()]
    wanted = [a for a in sys.argv[1:] if not a.isdigit()] or list(catalogue.experiments())
    many, bad = (numbers or [500])[0], 0
    print(f"{'experiment':20} {'result':8} {'u holds':>8} {'95 % holds':>11} {'remarked on':>12}   of {many} runs")
    for experiment in wanted:
        for held in cover(experiment, many):
            bad += not held.good
            verdict = "" if held.good else "   outside binomial error"
            print(
                f"{experiment:20} {held.result:8} {held.one:8.3f} {held.wide:11.3f} {held.flagged:12d}{verdict}",
                flush=True,
            )
    return min(bad, 1)


if __name__ == "__main__":
    sys.exit(main())
