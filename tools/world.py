"""Sheets of an open world, by code that shares nothing with the finder: noise of any size, habits of writing, slips of the pen,
physical causes by the simulations, effects that nobody named, two things at once."""

import math
import random
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from cavrel import catalogue
from cavrel.catalogue.programs import program_of
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition.steps import Input, Program
from cavrel.core.errors import CavrelError
from cavrel.core.logbook.run import load
from cavrel.core.simulate.apparatus import Apparatus
from tools.plants import PLANTS, Bench, Nothing

Document = dict[str, Any]
CLEAN, PEN, PHYSICAL, TWO, SMOOTH = "clean", "pen", "physical", "two at once", "unknown effect"
KINDS = (CLEAN, CLEAN, CLEAN, PEN, PEN, PEN, PHYSICAL, TWO, SMOOTH)
"""A third clean, a third slips of the pen, a third everything else."""
OF_HANDS = {
    "decimal",
    "swapped",
    "digits",
    "misread",
    "laps",
    "loop",
    "turns",
    "spaces",
    "edge",
    "minutes",
    "third",
    "twice",
    "miscount",
    "radius",
}
"""Faults of simulations that are slips of people and not of apparatus."""


class Noisy(Apparatus):
    """A simulation whose single readings scatter ``factor`` times as much as their instruments declare."""

    factor = 1.0

    def own_size(self, spec: Input) -> float:
        """Standard deviation of single readings, SI, the last digit's share included where it is large."""
        size = super().own_size(spec)
        step = spec.gauge.least_count if spec.gauge is not None and spec.gauge.least_count else 0.0
        extra = math.sqrt(max(self.factor**2 - 1, 0.0)) * step / math.sqrt(12)
        return math.hypot(self.factor * size, extra)


@dataclass
class Planted:
    """One sheet. ``kind``: what was done to it; ``what``: more of it; ``where``: the place of a slip of the pen; ``truth``: true results."""

    name: str
    kind: str
    what: str
    where: tuple[str, ...]
    program: Program
    clean: Analysis
    spoilt: Analysis
    truth: dict[str, float] = field(default_factory=dict)


def draw_sheet(name: str, kind: str, seed: int) -> Planted | None:
    """One sheet of an experiment that matters; None where this kind cannot happen there."""
    definition = catalogue.experiments()[name]
    program = program_of(definition)
    for attempt in range(30):
        draw = random.Random(f"{name}.{kind}.{seed}.{attempt}")
        faults: list[str] = []
        if kind == PHYSICAL:
            known = [f for f, body in definition.simulate.faults.items() if body.read and f not in OF_HANDS]  # type: ignore[union-attr]
            if not known:
                return None
            faults = [draw.choice(known)]
        try:
            apparatus, clean_document = _run(program, draw, ())
            _, document = _run(program, draw, faults, apparatus) if faults else (apparatus, deepcopy(clean_document))
            clean_document = _habits(program, clean_document, random.Random(f"habits{seed}"))
            document = _habits(program, document, random.Random(f"habits{seed}"))
            clean = analyse(program, load(clean_document))
            bench = Bench(program, document, clean, draw)
            where: list[str] = []
            what = faults[0] if faults else kind
            for _ in range({PEN: 1, TWO: 2}.get(kind, 0)):
                what = draw.choice(sorted({**PLANTS, **MORE}))
                {**PLANTS, **MORE}[what](bench)
                where.append(bench.where)
            if kind == SMOOTH:
                smooth(bench)
                where.append(bench.where)
            spoilt = analyse(program, load(bench.document))
        except (CavrelError, OverflowError, Nothing, ValueError):
            continue
        if kind == CLEAN or matters(clean, spoilt):
            plan = definition.simulate
            true = {r: float(apparatus.true[r][0, 0]) for r in definition.results if plan and r in plan.truth}
            return Planted(name, kind, what, tuple(where), program, clean, spoilt, true)
    return None


def _run(
    program: Program, draw: random.Random, faults: list[str] | tuple[str, ...], like: Noisy | None = None
) -> tuple[Noisy, Document]:
    seed = like.seed if like is not None else draw.randrange(10**6)  # type: ignore[attr-defined]
    with np.errstate(all="ignore"):
        apparatus = Noisy(program, np.random.default_rng(seed), faults)
        apparatus.seed = seed  # type: ignore[attr-defined]
        apparatus.factor = like.factor if like is not None else math.exp(draw.uniform(math.log(0.5), math.log(3)))
        return apparatus, deepcopy(apparatus.document())


def _habits(program: Program, document: Document, draw: random.Random) -> Document:
    """Some benches round to a digit less, some write the first reading again for its repeats."""
    how = draw.random()
    bench = Bench(program, document, None, draw)  # type: ignore[arg-type]
    measured = [s for s in program.inputs if s.role == "measured" and not s.count and not s.whole]
    if not measured or how > 0.25:
        return document
    spec = draw.choice(measured)
    for i, row in enumerate(bench.rows(spec)):
        for j, text in enumerate(row):
            if how < 0.1 and j:
                bench.write(spec, i, j, row[0])
            elif how >= 0.1 and "." in text and "e" not in text:
                bench.write(spec, i, j, f"{float(text):.{max(len(text.partition('.')[2]) - 1, 0)}f}")
    return document


def matters(clean: Analysis, spoilt: Analysis) -> bool:
    """Whether it moves a result by 3 u, or a fit's chi-squared beyond 1 %."""
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


def smooth(bench: Bench) -> None:
    """A column that errs by an amount that grows smoothly with its row, its square or its root, or by a share."""
    columns = [
        s for s in bench.program.inputs if s.series and s.role == "measured" and not s.whole and len(bench.rows(s)) > 3
    ]
    if not columns:
        raise Nothing
    spec = bench.draw.choice(columns)
    rows = len(bench.rows(spec))
    size = bench.draw.uniform(0.02, 0.15) * bench.draw.choice((-1, 1))
    power = bench.draw.choice((0.0, 0.5, 1.0, 2.0))
    for i in range(rows):
        share = 1 + size * ((i + 1) / rows) ** power
        bench.scale(spec, lambda v, share=share: v * share, {i})  # type: ignore[misc]
    bench.where = bench.place(spec)


SHAPES = {"0": "6", "1": "47", "2": "7", "3": "85", "4": "19", "5": "36", "6": "05", "7": "12", "8": "3", "9": "4"}


def shape(bench: Bench) -> None:
    """A digit that looks like another in a hurried hand."""
    spec, i, j, text = _one(bench, lambda s: not s.whole)
    at = bench.draw.choice([k for k, c in enumerate(text) if c.isdigit()])
    new = text[:at] + bench.draw.choice(SHAPES[text[at]]) + text[at + 1 :]
    bench.write(spec, i, j, new)
    bench.where = bench.place(spec, i, j)


def lost(bench: Bench) -> None:
    """A digit left out, or written twice."""
    spec, i, j, text = _one(bench, lambda s: not s.whole)
    at = bench.draw.choice([k for k, c in enumerate(text) if c.isdigit()])
    new = text[:at] + text[at + 1 :] if bench.draw.random() < 0.5 else text[: at + 1] + text[at:]
    if not any(c.isdigit() for c in new) or new.startswith("."):
        raise Nothing
    bench.write(spec, i, j, new)
    bench.where = bench.place(spec, i, j)


def any_amount(bench: Bench) -> None:
    """A reading that is off by some amount: a rule read at the wrong mark, a key pressed late."""
    spec, i, j, text = _one(bench, lambda s: not s.whole and s.role != "set")
    value = float(text) * (1 + bench.draw.choice((-1, 1)) * math.exp(bench.draw.uniform(math.log(0.02), math.log(0.4))))
    decimals = len(text.partition(".")[2])
    bench.write(spec, i, j, f"{value:.{decimals}f}")
    bench.where = bench.place(spec, i, j)


def row_above(bench: Bench) -> None:
    """What stood in the row above was written once more."""
    spec, i, _, _ = _one(bench, lambda s: s.series is not None and s.role == "measured")
    if i == 0:
        raise Nothing
    rows = bench.rows(spec)
    for k, text in enumerate(rows[i - 1]):
        bench.write(spec, i, k, text)
    bench.where = bench.place(spec, i)


def instrument(bench: Bench) -> None:
    """Everything read with one instrument in another unit."""
    by: dict[str, list[Input]] = {}
    for spec in bench.program.inputs:
        if spec.gauge is not None and spec.unit.text in ("cm", "mm", "g", "s"):
            by.setdefault(spec.gauge.name, []).append(spec)
    several = [specs for specs in by.values() if len(specs) > 1 and len({s.unit.text for s in specs}) == 1]
    if not several:
        raise Nothing
    specs = bench.draw.choice(several)
    factor = {"cm": 10.0, "mm": 0.1, "g": 1e-3, "s": 1e3}[specs[0].unit.text]
    for spec in specs:
        bench.scale(spec, lambda v: v * factor)
    bench.where = f"instruments.{specs[0].gauge.name}"  # type: ignore[union-attr]


def other_end(bench: Bench) -> None:
    """A rule of a metre read from its other end: one row, or all."""
    specs = [s for s in bench.program.inputs if s.unit.text == "cm" and s.series and "end" in s.label.lower()]
    if not specs:
        raise Nothing
    spec = bench.draw.choice(specs)
    row = bench.draw.randrange(len(bench.rows(spec))) if bench.draw.random() < 0.6 else None
    bench.scale(spec, lambda v: 100 - v, None if row is None else {row})
    bench.where = bench.place(spec, row)


def lines(bench: Bench) -> None:
    """Lines per millimetre for the spacing of a grating."""
    specs = [
        s for s in bench.program.inputs if s.series is None and "spacing" in s.label.lower() and s.unit.text == "nm"
    ]
    if not specs:
        raise Nothing
    bench.scale(specs[0], lambda v: 1e6 / v)
    bench.where = bench.place(specs[0])


MORE = {f.__name__: f for f in (shape, lost, any_amount, row_above, instrument, other_end, lines)}


def _one(bench: Bench, wanted: Any) -> tuple[Input, int, int, str]:
    cells = bench.cells(wanted)
    if not cells:
        raise Nothing
    return bench.draw.choice(cells)


__all__ = ["CLEAN", "KINDS", "PEN", "PHYSICAL", "SMOOTH", "TWO", "Planted", "draw_sheet"]
