"""The readings of a sheet as the families look at them."""

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property, partial
from itertools import product
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.definition.steps import Input
from cavrel.core.formula.nodes import Binary, Name, Node, Number, walk
from cavrel.core.formula.parse import parse
from cavrel.core.quantity.reading import Reading
from cavrel.core.quantity.units import Unit
from cavrel.core.quantity.units import unit as unit_of
from cavrel.core.slips.evidence import median
from cavrel.core.slips.hypothesis import Cell, Hypothesis, Texts

Array = NDArray[np.float64]

MOST_CELLS = 120
"""Of a larger sheet the readings that stand out most are tried one by one; a slip that moves anything stands out."""
_PADDED = re.compile(r"-?0\d")
PLAIN = re.compile(r"-?\d+(?:[.,]\d+)?")


@dataclass(frozen=True, slots=True, kw_only=True)
class One:
    """One reading that counts: input, row and trial from 0, SI value, and how its text was understood (None for one from samples)."""

    spec: Input
    row: int
    trial: int
    value: float
    reading: Reading | None

    @property
    def at(self) -> str:
        """Its place as the logbook writes it."""
        if self.spec.series is None:
            return f"quantities.{self.spec.name}" + (f".{self.trial + 1}" if self.trial else "")
        return f"{self.spec.key}.{self.row + 1}.{self.trial + 1}"

    @property
    def plain(self) -> str:
        """Its text where that is a plain number, else empty."""
        text = self.reading.text.strip() if self.reading is not None else ""
        return text if PLAIN.fullmatch(text) else ""

    def retyped(self, text: str) -> Cell | None:
        """The same reading with another plain number as its text; None where that is no other number, or one that nobody writes: 06."""
        assert self.reading is not None
        was = self.reading.text.strip()
        old, new = (float(t.replace(",", ".") if "," in t else t) for t in (was, text))
        if old == new or (text[0] in "-0" and _PADDED.match(text) and not _PADDED.match(was)):
            return None
        return Cell(self.spec.key, self.row, self.trial, self.value + (new - old) * self.reading.unit.factor, text)

    def valued(self, value: float) -> Cell:
        """The same reading with another SI value, written to as many figures as it was."""
        return Cell(self.spec.key, self.row, self.trial, value, self.written(value))

    def written(self, value: float) -> str:
        """An SI value as this reading would be written: in the column's unit, to as many figures as were typed."""
        unit = self.spec.unit
        shift = value - self.value  # an instrument's zero was subtracted already, and stays so
        number = unit.from_si(unit.to_si(0.0) + self.typed_si - unit.to_si(0.0) + shift)
        return figures(number, significant_figures(self.plain or f"{number:.4g}"))

    @property
    def typed_si(self) -> float:
        return self.reading.value if self.reading is not None else self.value


def significant_figures(text: str) -> int:
    """How many figures a plain number shows."""
    digits = re.sub(r"[^0-9]", "", text).lstrip("0")
    return max(1, len(digits))


def figures(number: float, count: int) -> str:
    """A number to ``count`` significant figures, written out."""
    if not math.isfinite(number) or number == 0:
        return "0"
    decimals = count - 1 - math.floor(math.log10(abs(number)))
    return f"{number:.{max(0, min(decimals, 15))}f}"


class Readings:
    """A sheet's readings. ``analysis``: of the sheet as it stands."""

    def __init__(self, analysis: Analysis) -> None:
        self.analysis = analysis
        self.entries = {entry.spec.key: entry for entry in analysis.sheet.inputs}

    @cached_property
    def ones(self) -> list[One]:
        """Single readings worth a look, at most `MOST_CELLS`."""
        found = [one for entry in self.entries.values() for one in self.of(entry)]
        if len(found) <= MOST_CELLS:
            return found
        return sorted(found, key=self.oddness, reverse=True)[:MOST_CELLS]

    @cached_property
    def count(self) -> int:
        """How many readings count."""
        return sum(1 for entry in self.entries.values() for _ in self.of(entry))

    def many(self, one: One) -> int:
        """How many trials of its row were read."""
        return int(np.isfinite(self.entries[one.spec.key].values[one.row]).sum())

    def of(self, entry: InputReadings) -> Iterator[One]:
        """Every reading of an input that counts."""
        for row, trial in np.argwhere(np.isfinite(entry.values)).tolist():
            reading = entry.readings.get((row + 1, trial + 1))
            if entry.spec.series is None or self.analysis.sheet.keep[entry.spec.series][row]:
                yield One(spec=entry.spec, row=row, trial=trial, value=float(entry.values[row, trial]), reading=reading)

    def oddness(self, one: One) -> float:
        """How far a reading stands out: from its row's others, and its row from the curves."""
        entry = self.entries[one.spec.key]
        row = entry.values[one.row]
        others = np.delete(row, one.trial)
        others = others[np.isfinite(others)]
        apart = 0.0
        if len(others):
            apart = abs(one.value - float(np.median(others))) / (self.spread[one.spec.key] or 1.0)
        return max(apart, self.off_curve.get((one.spec.series or "", one.row), 0.0))

    @cached_property
    def spread(self) -> dict[str, float]:
        """By input, the typical distance of a trial from its row's middle, SI."""
        found = {}
        for key, entry in self.entries.items():
            if entry.values.shape[1] < 2:
                found[key] = 0.0
                continue
            away = np.abs(entry.values - median(entry.values))
            found[key] = float(np.nanmedian(away)) if np.isfinite(away).any() else 0.0
        return found

    @cached_property
    def off_curve(self) -> dict[tuple[str, int], float]:
        """By table and row, the largest standardised residual."""
        found: dict[tuple[str, int], float] = {}
        for name, fit in self.analysis.fits.items():
            if not fit.made or fit.diagnostics is None:
                continue
            series = self.analysis.program.fits[name].series
            for row, size in zip(fit.rows.tolist(), np.abs(fit.diagnostics.standardised).tolist(), strict=True):
                found[series, row] = max(found.get((series, row), 0.0), size)
        return found

    def column(self, key: str, values: Array) -> dict[str, Texts]:
        """What an input's readings ``(rows, trials)`` SI are to be written as."""
        entry = self.entries[key]
        texts = [[""] * values.shape[1] for _ in range(values.shape[0])]
        for one in self.of(entry):
            texts[one.row][one.trial] = one.written(float(values[one.row, one.trial]))
        return {key: tuple(map(tuple, texts))}

    def throughout(
        self,
        entry: InputReadings,
        values: Array,
        family: str,
        say: str,
        do: str,
        share: float = 1.0,
        noise: Literal["shown", "converted", "same"] = "same",
        bonus: float = 0.0,
    ) -> Hypothesis:
        """A proposal that all readings of an input are ``values`` ``(rows, trials)``, SI."""
        spec = entry.spec
        return Hypothesis(
            family=family,
            at=f"quantities.{spec.name}" if spec.series is None else spec.key,
            say=say,
            do=do,
            share=share,
            columns={spec.key: values},
            texts=partial(self.column, spec.key, values),
            noise=noise,
            bonus=bonus,
        )

    def in_row(
        self,
        entry: InputReadings,
        row: int,
        factor: float,
        family: str,
        say: str,
        do: str,
        share: float,
        noise: Literal["shown", "converted", "same"] = "shown",
    ) -> Hypothesis:
        """A proposal that the readings of one row are ``factor`` times what they are."""
        values = entry.values.copy()
        values[row] *= factor
        several = entry.values.shape[1] > 1
        return replace(
            self.throughout(entry, values, family, say, do, share, noise),
            at=f"{entry.spec.key}.{row + 1}" + ("" if several else ".1"),
        )

    def rows_of(self, entry: InputReadings) -> list[int]:
        """Rows of an input that are worth a look, by number."""
        return sorted({one.row for one in self.ones if one.spec is entry.spec and entry.spec.series is not None})

    def typed(self) -> Iterator[InputReadings]:
        """Inputs with readings that somebody typed."""
        for entry in self.entries.values():
            if entry.readings and np.isfinite(entry.values).any():
                yield entry

    @cached_property
    def formulas(self) -> dict[str, frozenset[str]]:
        """By computed column or quantity, the keys of the names in its formula."""
        definition = self.analysis.program.definition
        found: dict[str, frozenset[str]] = {}
        for name, body in definition.quantities.items():
            if body.formula is not None:
                found[name] = self.named(body.formula, None)
        for series, table in definition.series.items():
            for name, column in table.columns.items():
                if column.formula is not None:
                    found[f"{series}.{name}"] = self.named(column.formula, series)
        return found

    @cached_property
    def _written(self) -> list[tuple[Node, str | None]]:
        """Every formula of the definition that readings go into, with the table it stands in."""
        definition = self.analysis.program.definition
        texts: list[tuple[str | None, str | None]] = [(q.formula, None) for q in definition.quantities.values()]
        for name, table in definition.series.items():
            texts += [(column.formula, name) for column in table.columns.values()]
        texts += [(text, fit.series) for fit in definition.fits.values() for text in (fit.x, fit.y)]
        texts += [(text, None) for result in definition.results.values() for text in (result.formula, result.accepted)]
        return [(parse(text), series) for text, series in texts if text]

    def halved(self, key: str) -> bool:
        """Whether a formula halves it, as it does a diameter."""
        for whole, series in self._written:
            for node in walk(whole):
                if not isinstance(node, Binary) or node.op != "/" or node.right != Number(2.0, None):
                    continue
                if isinstance(node.left, Name) and key in self.names_of(node.left, series):
                    return True
        return False

    def ends(self, key: str) -> list[float]:
        """Lengths of scales, SI, from whose other end a reading may have been taken: what a formula takes it from."""
        found = []
        for whole, series in self._written:
            for node in walk(whole):
                if (
                    isinstance(node, Binary)
                    and node.op == "-"
                    and isinstance(node.left, Number)
                    and node.left.unit is not None
                    and isinstance(node.right, Name)
                    and key in self.names_of(node.right, series)
                ):
                    found.append(unit_of(node.left.unit).to_si(node.left.value))
        return list(dict.fromkeys(found))

    @cached_property
    def used(self) -> frozenset[str]:
        """Keys that a formula has."""
        return frozenset(key for node, series in self._written for key in self.names_of(node, series))

    @cached_property
    def summed(self) -> frozenset[frozenset[str]]:
        """Pairs of keys that a formula adds or subtracts: a load and its hanger, a meter and its leads."""
        found = set()
        for whole, series in self._written:
            for node in walk(whole):
                if isinstance(node, Binary) and node.op in "+-":
                    sides = (self.names_of(side, series) for side in (node.left, node.right))
                    found |= {frozenset((a, b)) for a, b in product(*sides) if a != b}
        return frozenset(found)

    def named(self, formula: str, series: str | None) -> frozenset[str]:
        """Keys of the names in a formula that stands in ``series``."""
        return self.names_of(parse(formula), series)

    def names_of(self, node: Node, series: str | None) -> frozenset[str]:
        """Keys of the names under a node of a formula that stands in ``series``."""
        values = self.analysis.nominal
        names = [under.name for under in walk(node) if isinstance(under, Name)]
        return frozenset(
            f"{series}.{name}" if series and f"{series}.{name}" in values else name for name in names if name != "pi"
        )


def angle(unit: Unit) -> bool:
    """Whether a unit is one of angle."""
    return unit.text in ("°", "deg", "rad", "gon", "′", "″", "arcmin", "arcsec")
