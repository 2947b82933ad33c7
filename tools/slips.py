"""How well mistakes are found in an open world: `./run slips [--seed N] [--sheets N] [--misses] [experiment ...]`.

A third of the sheets are clean, with noise from half to three times the declared one; a third hold a slip of the pen; a third a physical cause, two
slips at once, or an effect that nobody named. Nothing of the finder is used to make them (`world`). What is counted is the place; a smooth effect
on one column that is said as a physical cause of that column is counted as right.
"""

import argparse
import math
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

from cavrel import catalogue
from cavrel.catalogue.programs import alternatives
from cavrel.core.analysis import Analysis
from cavrel.core.slips import Place, find
from cavrel.core.slips.whole import reanalysed
from tools.world import CLEAN, KINDS, PEN, PHYSICAL, SMOOTH, Planted, draw_sheet


@dataclass(frozen=True)
class Outcome:
    """One sheet. ``said``: the first card's place and probability; ``places``: all by rank; ``right``: rank of what was done, 0 where it is none;
    ``harm``: pressing the first card's button, or typing what it proposes, took a result from within 2 u of the truth to beyond 3 u."""

    name: str
    kind: str
    what: str
    where: tuple[str, ...]
    first: str
    probability: float
    right: int
    pen: bool
    silent: bool
    clean: float
    harm: bool
    cause: bool


def right_place(sheet: Planted, found: Place) -> bool:
    """Whether a place is where the slip is: the reading itself or, of what was done to a row, that row."""
    place = found.at
    for where in sheet.where:
        if place == where:
            return True
        one, other = place.split("."), where.split(".")
        key = other[1] if other[0] == "quantities" else ".".join(other[:2])
        # An instrument in another unit shows where its readings count; an amount throughout may be said as the apparatus that makes it.
        if other[0] == "instruments" and found.touches and found.touches <= keys_of(sheet, other[1]) and len(one) < 3:
            return True
        if sheet.what == "offset" and place == "physical" and found.touches == {key}:
            return True
        # Two columns exchanged are one place, whichever is named.
        crossed = sheet.what in ("heads", "columns_exchanged") and len(found.touches) > 1
        if crossed and key in found.touches and one[2:3] == other[2:3]:
            return True
        # A row of one reading and that reading are one place; so are a trial and its row, where the row was spoilt.
        short = min(len(one), len(other))
        if short >= 3 and one[:short] == other[:short] and one[0] != "quantities":
            return True
        if one[0] == "quantities" and other[:2] == one[:2]:
            return True
    return False


def keys_of(sheet: Planted, instrument: str) -> set[str]:
    """What is read with an instrument."""
    return {spec.key for spec in sheet.program.inputs if spec.gauge is not None and spec.gauge.name == instrument}


def _one(job: tuple[str, str, int]) -> Outcome | None:
    name, kind, seed = job
    sheet = draw_sheet(name, kind, seed)
    if sheet is None:
        return None
    found = find(sheet.spoilt, alternatives(catalogue.experiments()[name], sheet.spoilt.run))
    ranked = list(found.places)
    rank = 0
    for i, place in enumerate(ranked, 1):
        physical = place.at == "physical"
        bent = kind == SMOOTH and physical and place.touches == {sheet.where[0]}
        if (kind == PHYSICAL and physical) or (kind == PEN and right_place(sheet, place)) or bent:
            rank = i
            break
    said = found.suspects[0] if found.suspects else None
    harm = False
    if said is not None and (said.writes or said.proposal or said.chooses):
        other = reanalysed(sheet.spoilt, said.hypothesis)
        harm = other is not None and any(_harmed(sheet, other, r) for r in sheet.truth)
    return Outcome(
        name=name,
        kind=kind,
        what=sheet.what,
        where=sheet.where,
        first=f"{said.family} {said.at}" if said else "",
        probability=said.probability if said else 0.0,
        right=rank,
        pen=said is not None and said.place != "physical",
        silent=said is None,
        clean=found.clean,
        harm=harm,
        cause=bool(said and said.place == "physical"),
    )


def _harmed(sheet: Planted, other: Analysis, name: str) -> bool:
    was, now, true = sheet.spoilt.results[name], other.results.get(name), sheet.truth[name]
    if was.reason or now is None or not was.u > 0:
        return False
    if abs(was.value - true) > 2 * was.u:
        return False
    return bool(now.reason) or not now.u > 0 or abs(now.value - true) > 3 * now.u


def main() -> None:
    parser = argparse.ArgumentParser(prog="./run slips", description=__doc__.partition("\n")[0])
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--sheets", type=int, default=2000)
    parser.add_argument("--misses", action="store_true", help="print every sheet on which the first card is wrong")
    parser.add_argument("experiments", nargs="*", default=[])
    given = parser.parse_args()
    names = given.experiments or sorted(catalogue.experiments())
    jobs, i = [], 0
    while len(jobs) < given.sheets:
        jobs.append((names[i % len(names)], KINDS[(i // len(names)) % len(KINDS)], given.seed * 100_000 + i))
        i += 1
    with ProcessPoolExecutor() as pool:
        outcomes = [o for o in pool.map(_one, jobs, chunksize=4) if o]
    report(outcomes, given.misses)


def true_of(o: Outcome) -> bool:
    """Whether the first card is where something was done."""
    return not o.silent and o.right == 1


def report(outcomes: list[Outcome], misses: bool) -> None:
    none = [o for o in outcomes if o.kind != PEN and o.kind != "two at once"]
    print(f"sheets: {len(outcomes)}")
    _share("pen slip said at 40 % or more where there is none (goal 3 %)", [o.pen for o in none])
    wrong = [o.probability >= 0.8 and not true_of(o) and o.kind != "two at once" for o in outcomes]
    _share("wrong at 80 % or more (goal 1 %)", wrong)
    pens = [o for o in outcomes if o.kind == PEN]
    _share("pen slips first (goal 80 %)", [o.right == 1 for o in pens])
    _share("pen slips named", [true_of(o) for o in pens])
    physical = [o for o in outcomes if o.kind == PHYSICAL]
    _share("physical causes first (goal 50 %)", [o.right == 1 for o in physical])
    _share("physical causes among three (goal 75 %)", [0 < o.right <= 3 for o in physical])
    _share("physical causes named", [true_of(o) for o in physical])
    _share("silent on clean sheets", [o.silent for o in outcomes if o.kind == CLEAN])
    _share("obeying the first card does harm (goal 1 %)", [o.harm for o in outcomes])
    print("\nsaid            cards   true")
    for low, high in ((0.4, 0.5), (0.5, 0.6), (0.6, 0.7), (0.7, 0.8), (0.8, 0.9), (0.9, 1.01)):
        inside = [o for o in outcomes if not o.silent and low <= o.probability < high and o.kind != "two at once"]
        if inside:
            mean = sum(o.probability for o in inside) / len(inside)
            print(
                f"{low:.2f} to {min(high, 1):.2f} {len(inside):8} {100 * sum(map(true_of, inside)) / len(inside):6.0f} %  (said {100 * mean:.0f} %)"
            )
    for title, key in (("kind", "kind"), ("what was done", "what"), ("experiment", "name")):
        groups: dict[str, list[Outcome]] = defaultdict(list)
        for o in outcomes:
            if title != "what was done" or o.kind in (PEN, PHYSICAL):
                groups[getattr(o, key)].append(o)
        print(f"\n{title:22} sheets  first  silent  wrong at 40 %")
        for name, found in sorted(groups.items()):
            first = sum(o.right == 1 for o in found)
            silent = sum(o.silent for o in found)
            bad = sum(not o.silent and o.right != 1 for o in found)
            print(f"{name:22} {len(found):5} {_p(first, found)} {_p(silent, found)} {_p(bad, found)}")
    if misses:
        for o in outcomes:
            if not o.silent and o.right != 1:
                print(
                    f"{o.name:22} {o.kind:14} {o.what:16} {','.join(o.where):24} said {o.first} {o.probability:.2f}, rank {o.right}"
                )


def _p(count: int, of: list[Outcome]) -> str:
    return f"{100 * count / len(of):6.1f}%"


def _share(title: str, hits: list[bool]) -> None:
    if hits:
        p = sum(hits) / len(hits)
        print(
            f"  {title}: {100 * p:.1f} % of {len(hits)} (± {100 * math.sqrt(max(p * (1 - p), 1e-9) / len(hits)):.1f})"
        )


if __name__ == "__main__":
    main()
