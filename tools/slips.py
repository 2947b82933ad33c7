"""How well slips are found: `./run slips [--seed N] [--clean N] [--planted N] [experiment ...]`.

Clean runs drawn from every experiment's stand-in count false alarms; runs with one slip planted by hand's rules, kept where it moves a
result by 3 u or a fit's chi-squared beyond 1 %, count how often the true one is named first, or among the first three. Nothing of the
finder is used to plant.
"""

import argparse
import itertools
import math
import random
import re
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from cavrel import catalogue
from cavrel.catalogue.programs import alternatives, program_of
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition.steps import Derived, Input, Program
from cavrel.core.errors import CavrelError
from cavrel.core.logbook.run import RunDocument, load
from cavrel.core.quantity import units
from cavrel.core.simulate import simulate
from cavrel.core.slips import Suspect, find
from cavrel.core.slips.finder import changed

Document = dict[str, Any]
_PLAIN = re.compile(r"-?\d+(\.\d+)?")
_FIGURES = 4


@dataclass
class Bench:
    """One clean run and what can be done to it."""

    program: Program
    document: Document
    analysis: Analysis
    draw: random.Random
    truth: str = ""
    where: str = ""
    out: set[tuple[str, int, int]] = field(default_factory=set)

    def cells(self, wanted: Callable[[Input], bool] = lambda spec: True) -> list[tuple[Input, int, int, str]]:
        """(input, row, trial from 0, text) of every plain reading."""
        found = []
        for spec in self.program.inputs:
            if not wanted(spec):
                continue
            rows = self.rows(spec)
            for i, row in enumerate(rows):
                found += [(spec, i, j, text) for j, text in enumerate(row) if _PLAIN.fullmatch(text)]
        return found

    def rows(self, spec: Input) -> list[list[str]]:
        holder: Any = self.document["quantities"].get(spec.name) if spec.series is None else None
        cells = [holder] if spec.series is None else self.document["series"].get(spec.series, {}).get(spec.name, [])
        return [list(c) if isinstance(c, list) else [c or ""] for c in cells]

    def write(self, spec: Input, row: int, trial: int, text: str) -> None:
        if spec.series is None:
            holder, key = self.document["quantities"], spec.name
        else:
            holder, key = self.document["series"][spec.series][spec.name], row
        if isinstance(holder[key], list):
            holder[key][trial] = text
        else:
            holder[key] = text

    def scale(self, spec: Input, change: Callable[[float], float], rows: set[int] | None = None) -> None:
        """Every reading of an input changed, written to its own figures."""
        for i, row in enumerate(self.rows(spec)):
            for j, text in enumerate(row):
                if _PLAIN.fullmatch(text) and (rows is None or i in rows):
                    self.write(
                        spec,
                        i,
                        j,
                        figures(change(float(text)), max(_FIGURES - 1, len(re.sub(r"\D", "", text).lstrip("0")))),
                    )

    def place(self, spec: Input, row: int | None = None, trial: int | None = None) -> str:
        if spec.series is None:
            return f"quantities.{spec.name}" + (f".{trial + 1}" if trial else "")
        return spec.key + (f".{row + 1}" if row is not None else "") + (f".{trial + 1}" if trial is not None else "")


def figures(number: float, count: int) -> str:
    if number == 0 or not math.isfinite(number):
        return "0"
    decimals = count - 1 - math.floor(math.log10(abs(number)))
    return f"{number:.{max(0, min(decimals, 15))}f}"


class Nothing(Exception):
    """This kind of slip cannot happen here."""


def pick(bench: Bench, options: list[Any]) -> Any:
    if not options:
        raise Nothing
    return bench.draw.choice(options)


def _written(spec: Input) -> bool:
    return not spec.whole and not (spec.exact and not spec.unit.text)


def swapped(bench: Bench) -> None:
    spec, i, j, text = pick(bench, bench.cells(_written))
    places = [k for k, c in enumerate(text) if c.isdigit()]
    pairs = [(a, b) for a, b in itertools.pairwise(places) if text[a] != text[b]]
    a, b = pick(bench, pairs)
    changed_text = list(text)
    changed_text[a], changed_text[b] = changed_text[b], changed_text[a]
    bench.write(spec, i, j, "".join(changed_text))
    bench.where = bench.place(spec, i, j)


def misread(bench: Bench) -> None:
    spec, i, j, text = pick(bench, bench.cells(_written))
    pairs = {"3": "8", "8": "3", "1": "7", "7": "1", "5": "6", "6": "5"}
    k = pick(bench, [k for k, c in enumerate(text) if c in pairs])
    bench.write(spec, i, j, text[:k] + pairs[text[k]] + text[k + 1 :])
    bench.where = bench.place(spec, i, j)


def neighbouring_mark(bench: Bench) -> None:
    spec, i, j, text = pick(bench, bench.cells(_written))
    k = pick(bench, [k for k, c in enumerate(text) if c in "12345678"])
    bench.write(spec, i, j, text[:k] + str(int(text[k]) + bench.draw.choice((-1, 1))) + text[k + 1 :])
    bench.where = bench.place(spec, i, j)


def decimal(bench: Bench) -> None:
    spec, i, j, text = pick(bench, bench.cells(_written))
    number, digits = float(text), len(re.sub(r"\D", "", text).lstrip("0"))
    bench.write(spec, i, j, figures(number * bench.draw.choice((10, 0.1)), max(digits, 1)))
    bench.where = bench.place(spec, i, j)


_OTHER = {
    "cm": ("m", "mm"),
    "mm": ("cm", "m"),
    "m": ("cm",),
    "g": ("kg",),
    "s": ("ms",),
    "ms": ("s",),
    "A": ("mA",),
    "V": ("mV",),
    "nm": ("µm",),
}


def unit(bench: Bench) -> None:
    """A cell, a row or a whole column."""
    spec = pick(
        bench, [s for s in bench.program.inputs if s.unit.text in _OTHER and bench.cells(lambda x, s=s: x is s)]
    )
    other = units.unit(bench.draw.choice(_OTHER[spec.unit.text]))
    how = bench.draw.choice(("row", "column")) if spec.series else "column"
    row = bench.draw.randrange(len(bench.rows(spec)))
    bench.scale(spec, lambda v: v * spec.unit.factor / other.factor, {row} if how == "row" else None)
    bench.where = bench.place(spec, row if how == "row" else None)


def count(bench: Bench) -> None:
    """All timings, or one, over another number than is written."""
    whole = [
        s
        for s in bench.program.inputs
        if s.whole and s.series is None and (s.default or bench.cells(lambda x, s=s: x is s))
    ]
    spec = pick(bench, whole)
    text = bench.document["quantities"].get(spec.name) or spec.default
    n = float(text)
    if bench.draw.random() < 0.5:
        off = bench.draw.choice((1, -1, 0.5, -0.5))
        bench.document["quantities"][spec.name] = f"{n + off:g}"
        bench.where = bench.place(spec)
        return
    second = units.unit("s").dimension
    used = set().union(
        *(
            _names(bench.program, step)
            for step in bench.program.steps
            if isinstance(step, Derived) and spec.name in _names(bench.program, step)
        )
    )
    timed = bench.cells(lambda s: s.unit.dimension == second and s.name in used)
    cell, i, j, typed = pick(bench, timed)
    off = bench.draw.choice((1, -1))
    bench.write(cell, i, j, figures(float(typed) * (n + off) / n, len(re.sub(r"\D", "", typed))))
    bench.where = bench.place(cell, i, j)


def _names(program: Program, step: Derived) -> set[str]:
    definition = program.definition
    body = definition.series[step.series].columns[step.name] if step.series else definition.quantities[step.name]
    return set(re.findall(r"[A-Za-z_]\w*", body.formula or ""))


def angle(bench: Bench) -> None:
    spec = pick(bench, [s for s in bench.program.inputs if s.unit.text == "°" and bench.cells(lambda x, s=s: x is s)])
    factor = bench.draw.choice((math.pi / 180, 10 / 9, 0.5, 2.0))
    bench.scale(spec, lambda v: v * factor)
    bench.where = bench.place(spec)


def diameter(bench: Bench) -> None:
    words = re.compile(r"diamet|radius", re.IGNORECASE)
    spec = pick(
        bench, [s for s in bench.program.inputs if words.search(s.label) and bench.cells(lambda x, s=s: x is s)]
    )
    bench.scale(spec, lambda v: v * (2.0 if "radius" in spec.label.lower() else 0.5))
    bench.where = bench.place(spec)


def offset(bench: Bench) -> None:
    """A zero of the scale in a whole column."""
    spec = pick(
        bench,
        [
            s
            for s in bench.program.inputs
            if s.series
            and not s.exact
            and not s.count
            and len(bench.rows(s)) > 3
            and bench.cells(lambda x, s=s: x is s)
        ],
    )
    values = np.array([float(c[3]) for c in bench.cells(lambda x: x is spec)])
    amount = bench.draw.uniform(0.03, 0.2) * float(np.median(np.abs(values))) * bench.draw.choice((-1, 1))
    step = 10 ** -max(len(c[3].partition(".")[2]) for c in bench.cells(lambda x: x is spec))
    amount = round(amount / step) * step
    for _, i, j, text in bench.cells(lambda x: x is spec):
        bench.write(spec, i, j, f"{float(text) + amount:.{len(text.partition('.')[2])}f}")
    bench.where = bench.place(spec)


def rows_exchanged(bench: Bench) -> None:
    spec = pick(
        bench,
        [s for s in bench.program.inputs if s.series and len(bench.rows(s)) > 3 and bench.cells(lambda x, s=s: x is s)],
    )
    rows = bench.rows(spec)
    i = bench.draw.randrange(len(rows) - 1)
    for k, row in ((i, rows[i + 1]), (i + 1, rows[i])):
        for j, text in enumerate(row):
            bench.write(spec, k, j, text)
    bench.where = bench.place(spec, i)


def columns_exchanged(bench: Bench) -> None:
    """Two columns, or two quantities, of one kind."""
    pairs = [
        (a, b)
        for a in bench.program.inputs
        for b in bench.program.inputs
        if a.key < b.key
        and a.series == b.series
        and a.unit.text == b.unit.text
        and a.unit.text
        and a.repeats == b.repeats
        and bench.cells(lambda x, a=a: x is a)
        and bench.cells(lambda x, b=b: x is b)
    ]
    a, b = pick(bench, pairs)
    first, second = bench.rows(a), bench.rows(b)
    row = bench.draw.randrange(len(first)) if a.series and bench.draw.random() < 0.5 else None
    for spec, rows in ((a, second), (b, first)):
        for i, cells in enumerate(rows):
            for j, text in enumerate(cells):
                if row is None or i == row:
                    bench.write(spec, i, j, text)
    bench.where = bench.place(a, row)


def neighbour(bench: Bench) -> None:
    """The row beside it was read once more instead."""
    spec, i, j, _ = pick(bench, bench.cells(lambda s: s.role == "measured" and len(bench.rows(s)) > 3))
    rows = bench.rows(spec)
    other = pick(bench, [k for k in (i - 1, i + 1) if 0 <= k < len(rows)])
    bench.write(spec, i, j, rows[other][j])
    bench.where, bench.out = bench.place(spec, i, j), {(spec.key, i + 1, j + 1)}


def derived(bench: Bench) -> None:
    """The computed value in the place of the reading."""
    options = []
    for step in bench.program.steps:
        if isinstance(step, Derived) and step.series:
            typed = [
                s
                for s in bench.program.inputs
                if s.series == step.series and s.role == "measured" and s.name in _names(bench.program, step)
            ]
            if len(typed) == 1 and typed[0].repeats >= 1:
                options.append((step, typed[0]))
    step, spec = pick(bench, options)
    table = bench.document["series"][spec.series]
    rows = bench.rows(spec)
    written = [list(row) for row in rows]
    for j in range(max(len(row) for row in rows)):  # what the formula makes of each trial by itself
        alone = {
            **bench.document,
            "series": {**bench.document["series"], spec.series: {**table, spec.name: [r[j] for r in rows]}},
        }
        values = step.unit.from_si(analyse(bench.program, load(alone)).values[step.key].value)
        for i, value in enumerate(values.tolist()):
            written[i][j] = figures(value, max(4, len(re.sub(r"\D", "", rows[i][j]))))
    for i, row in enumerate(written):
        for j, text in enumerate(row):
            bench.write(spec, i, j, text)
    bench.where = bench.place(spec)


def sign(bench: Bench) -> None:
    spec, i, j, text = pick(
        bench, bench.cells(lambda s: s.role != "set" and s.unit.text in ("V", "mV", "A", "N", "m/s^2", "mm", "cm"))
    )
    bench.write(spec, i, j, text[1:] if text.startswith("-") else f"-{text}")
    bench.where = bench.place(spec, i, j)


def index(bench: Bench) -> None:
    """Numbered one off throughout, or one skipped."""
    specs = [
        s
        for s in bench.program.inputs
        if s.series
        and s.role == "set"
        and not s.unit.text
        and all(t.lstrip("-").isdigit() for r in bench.rows(s) for t in r)
    ]
    spec = pick(bench, [s for s in specs if bench.rows(s)])
    rows = bench.rows(spec)
    off = bench.draw.choice((1, -1))
    start = bench.draw.randrange(1, len(rows) - 1) if bench.draw.random() < 0.5 and len(rows) > 3 else 0
    for i in range(start, len(rows)):
        bench.write(spec, i, 0, str(int(rows[i][0]) + off))
    bench.where = bench.place(spec, start if start else None)


def temperature(bench: Bench) -> None:
    spec = pick(bench, [s for s in bench.program.inputs if s.unit.text == "°C" and bench.cells(lambda x, s=s: x is s)])
    kelvin = bench.draw.random() < 0.5
    bench.scale(spec, (lambda v: v + 273.15) if kelvin else (lambda v: v * 9 / 5 + 32))
    bench.where = bench.place(spec)


def side(bench: Bench) -> None:
    """The left side read again where the right one belongs."""
    pairs = [
        (a, b)
        for a in bench.program.inputs
        for b in bench.program.inputs
        if a.key < b.key
        and a.series
        and a.series == b.series
        and {"left", "right"} <= set(f"{a.label} {b.label}".lower().split())
    ]
    a, b = pick(bench, pairs)
    rows = bench.rows(a)
    row = bench.draw.randrange(len(rows))
    for j, text in enumerate(rows[row]):
        bench.write(b, row, j, text)
    bench.where = bench.place(b, row)
    bench.out = {(b.key, row + 1, j + 1) for j in range(len(rows[row]))}


def frequency(bench: Bench) -> None:
    """Light by its frequency in THz where its wavelength in nm belongs."""
    spec = pick(
        bench,
        [s for s in bench.program.inputs if s.unit.text == "nm" and s.series and bench.cells(lambda x, s=s: x is s)],
    )
    bench.scale(spec, lambda v: 299792.458 / v)
    bench.where = bench.place(spec)


PLANTS: dict[str, Callable[[Bench], None]] = {
    f.__name__: f
    for f in (
        swapped, misread, neighbouring_mark, decimal, unit, count, angle, diameter, offset, rows_exchanged, columns_exchanged, neighbour,
        derived, sign, index, temperature, side, frequency,
    )
}  # fmt: skip
LAW = "law"


def planted(name: str, kind: str, seed: int) -> tuple[Bench, RunDocument, Analysis] | None:
    """A clean run of an experiment and the same with one slip that matters; None where this kind cannot happen there."""
    definition = catalogue.experiments()[name]
    program = program_of(definition)
    for attempt in range(40):
        draw = random.Random(f"{name}.{kind}.{seed}.{attempt}")
        document = simulate(program, draw.randrange(10**6))
        if kind == LAW:
            options = [(n, c) for n, o in definition.options.items() for c in o.choices if c != o.default]
            if not options:
                return None
            option, choice = draw.choice(options)
            try:
                other = program_of(definition, None, {option: choice})
                document = simulate(other, draw.randrange(10**6))
                clean_run = load({**document, "options": {option: choice}})
                clean = analyse(other, clean_run)
                spoilt_run = load(document)
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
            print(f"\n{title:22} runs  first  three  silent")
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
    return f"{name:22} {len(found):4} {first:5.0f}% {three:5.0f}% {silent:6.0f}%"


if __name__ == "__main__":
    main()
