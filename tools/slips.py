"""How well slips are found: `./run slips [--seed N] [--clean N] [--planted N] [experiment ...]`.

Clean runs drawn from every experiment's stand-in count false alarms; runs with one slip planted by hand's rules, kept where it moves a
result by 3 u or a fit's chi-squared beyond 1 %, count how often the true one is named first, or among the first three. Nothing of the
finder is used to plant.
"""

import argparse
import random
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from copy import deepcopy
from dataclasses import dataclass

import numpy as np

from cavrel import catalogue
from cavrel.catalogue.programs import alternatives, program_of
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.errors import CavrelError
from cavrel.core.logbook.run import RunDocument, load
from cavrel.core.simulate import simulate
from cavrel.core.slips import Suspect, find
from cavrel.core.slips.whole import changed
from tools.plants import PLANTS, Bench, Nothing

LAW = "law"


def planted(name: str, kind: str, seed: int) -> tuple[Bench, RunDocument, Analysis] | None:
    """A clean run of an experiment and the same with one slip that matters; None where this kind cannot happen there."""
    definition = catalogue.experiments()[name]
    program = program_of(definition)
    for attempt in range(40):
        draw = random.Random(f"{name}.{kind}.{seed}.{attempt}")
        document = simulate(program, draw.randrange(10**6))
        if kind == LAW:
            # A way to evaluate the same readings is no law that apparatus follows.
            others = alternatives(definition, load(document))
            if not others:
                return None
            picked = draw.choice(others)
            option, choice = picked.at.removeprefix("options."), picked.choice
            try:
                other = program_of(definition, None, {option: choice})
                document = simulate(other, draw.randrange(10**6))
                clean_run = load({**document, "options": {option: choice}})
                clean = analyse(other, clean_run)
                # Who takes a run for another kind has no place for what only that kind reads.
                asked = {spec.name for spec in program.inputs}
                read = {key: text for key, text in document["quantities"].items() if key in asked}
                spoilt_run = load({**document, "quantities": read})
                spoilt = analyse(program, spoilt_run)
            except CavrelError:
                continue
            bench = Bench(other, document, clean, draw, kind, f"options.{option}")
        else:
            clean_run = load(document)
            clean = analyse(program, clean_run)
            bench = Bench(program, deepcopy(document), clean, draw, kind)
            try:
                PLANTS[kind](bench)
                spoilt_run = load(bench.document)
                spoilt = analyse(program, spoilt_run)
            except Nothing:
                return None
            except (CavrelError, OverflowError):
                continue
        if matters(clean, spoilt):
            return bench, spoilt_run, spoilt
    return None


def matters(clean: Analysis, spoilt: Analysis) -> bool:
    """Whether a slip moves a result by 3 u, or a fit's chi-squared beyond 1 %."""
    for name, result in clean.results.items():
        other = spoilt.results.get(name)
        if other is None or result.reason or not result.u > 0:
            continue
        if other.reason or abs(other.value - result.value) >= 3 * result.u:
            return True
    for name, fit in spoilt.fits.items():
        was = clean.fits[name]
        if fit.made != was.made:
            return True
        found, before = fit.diagnostics, was.diagnostics
        if found and before and found.p is not None and before.p is not None and found.p < 0.01 <= before.p:
            return True
    return False


def names_it(bench: Bench, spoilt: Analysis, suspect: Suspect) -> bool:
    """Whether a suspect is what was planted: what it would make of the sheet is the clean sheet."""
    one = suspect.hypothesis
    if bench.truth == LAW:
        return one.at == bench.where
    if one.program is not None:
        return False
    if bench.out:
        return {(k, r, t) for k, r, t in suspect.leaves_out} == bench.out or one.at == bench.where
    repaired = changed(spoilt.sheet, one)
    clean = {e.spec.key: e for e in bench.analysis.sheet.inputs}
    for entry, was in zip(repaired.inputs, spoilt.sheet.inputs, strict=True):
        right = clean[entry.spec.key].values
        wrong = np.abs(was.values - right)
        error = np.abs(entry.values - right)
        digit = np.nan_to_num(entry.step, nan=0.0) * 1.5
        if (np.nan_to_num(error, nan=0.0) > np.maximum(0.2 * wrong, digit) + 1e-12 * np.abs(right)).any():
            return False
        if (np.isnan(entry.values) & ~np.isnan(right)).any() and one.at != bench.where:
            return False
    return True


@dataclass(frozen=True)
class Outcome:
    name: str
    kind: str
    rank: int
    probability: float
    of_a_slip: float
    said: str
    first_true: bool


def _one(job: tuple[str, str, int]) -> Outcome | None:
    name, kind, seed = job
    definition = catalogue.experiments()[name]
    if kind == "clean":
        program = program_of(definition)
        run = load(simulate(program, 10**6 + seed))
        found = find(analyse(program, run), alternatives(definition, run))
        said = found.suspects[0] if found.suspects else None
        return Outcome(
            name,
            kind,
            1 if said else 0,
            said.probability if said else 0.0,
            found.of_a_slip,
            f"{said.family} {said.at}" if said else "",
            False,
        )
    made = planted(name, kind, seed)
    if made is None:
        return None
    bench, run, spoilt = made
    found = find(spoilt, alternatives(definition, run))
    rank = next((i + 1 for i, s in enumerate(found.suspects) if names_it(bench, spoilt, s)), 0)
    first = found.suspects[0] if found.suspects else None
    said = f"{bench.where}: " + (
        f"{first.family} {first.at} {first.probability:.2f}" if first else f"silent {found.of_a_slip:.2f}"
    )
    return Outcome(name, kind, rank, first.probability if first else 0.0, found.of_a_slip, said, rank == 1)


def main() -> None:
    parser = argparse.ArgumentParser(prog="./run slips", description=__doc__.partition("\n")[0])
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--clean", type=int, default=2000, help="clean runs in all")
    parser.add_argument(
        "--planted", type=int, default=2000, help="runs with a slip in all, as near as the kinds divide it"
    )
    parser.add_argument("--misses", action="store_true", help="print every run whose slip is not named first")
    parser.add_argument("experiments", nargs="*", default=[])
    given = parser.parse_args()
    names = given.experiments or sorted(catalogue.experiments())
    kinds = [*PLANTS, LAW]
    jobs = [
        (n, "clean", given.seed * 10_000 + i)
        for i in range(max(1, given.clean // len(names)) if given.clean else 0)
        for n in names
    ]
    with ProcessPoolExecutor() as pool:
        cleans = [o for o in pool.map(_one, jobs, chunksize=4) if o]
        can = [(n, k) for n in names for k in kinds]
        trial = (
            list(pool.map(_one, [(n, k, given.seed * 10_000) for n, k in can], chunksize=4)) if given.planted else []
        )
        able = [pair for pair, o in zip(can, trial, strict=True) if o] if trial else []
        each = given.planted // max(len(able), 1)
        more = [(n, k, given.seed * 10_000 + i) for i in range(1, max(each, 1)) for n, k in able]
        outcomes = [o for o in trial if o] + [o for o in pool.map(_one, more, chunksize=4) if o]
    report(cleans, outcomes, given.misses)


def report(cleans: list[Outcome], outcomes: list[Outcome], misses: bool) -> None:
    if cleans:
        alarms = [o for o in cleans if o.rank]
        print(
            f"clean runs: {len(cleans)}, with a slip named: {len(alarms)} ({100 * len(alarms) / len(cleans):.1f} %; goal at most 2)"
        )
        for o in alarms:
            print(f"  {o.name}: {o.said} {o.probability:.2f}")
    for title, key in (("family", "kind"), ("experiment", "name")):
        groups: dict[str, list[Outcome]] = defaultdict(list)
        for o in outcomes:
            groups[getattr(o, key)].append(o)
        if groups:
            print(f"\n{title:22} runs   first   three   silent")
        for name, found in sorted(groups.items()):
            print(_line(name, found))
        if groups:
            print(_line("all", outcomes))
    if outcomes:
        print("\nprobability said   suspects   true")
        for low, high in ((0.3, 0.5), (0.5, 0.7), (0.7, 0.9), (0.9, 0.99), (0.99, 1.01)):
            inside = [o for o in (*outcomes, *(c for c in cleans if c.rank)) if low <= o.probability < high]
            if inside:
                print(
                    f"{low:.2f} to {min(high, 1):.2f}   {len(inside):12} {100 * sum(o.first_true for o in inside) / len(inside):6.0f} %"
                )
    if misses:
        for o in outcomes:
            if o.rank != 1:
                print(f"{o.name:22} {o.kind:18} rank {o.rank}  {o.said}")


def _line(name: str, found: list[Outcome]) -> str:
    first = 100 * sum(o.rank == 1 for o in found) / len(found)
    three = 100 * sum(1 <= o.rank <= 3 for o in found) / len(found)
    silent = 100 * sum(o.said.partition(": ")[2].startswith("silent") for o in found) / len(found)
    return f"{name:22} {len(found):4} {first:6.1f}% {three:6.1f}% {silent:6.1f}%"


if __name__ == "__main__":
    main()
