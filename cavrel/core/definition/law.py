"""A definition's results checked against its law numerically: readings are drawn that obey the law, and each result must come back.

Algebra says what a slope stands for where it reaches (`line_meanings`); this says whether a formula is right, whatever way it is written:
with pi squared computed, through another result, or over an axis that a column has squared already.
"""

import math
from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from cavrel.core.definition import Column, Definition, Fit
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.formula.evaluate import Environment, compile_node
from cavrel.core.formula.nodes import AGGREGATES, Call, Member, Name, Node, walk
from cavrel.core.formula.parse import parse, parse_law

Array = NDArray[np.float64]

_ROWS = 5
_DRAWS = 6
_NEEDED = 3
_RIGHT = 1e-3
"""A formula is right when it gives the drawn constant back to this share; constants are often written out with four figures."""
_LINES = ("line", "proportional")


class _Unreachable(Exception):
    """The law says nothing about this here."""


def check(definition: Definition) -> None:
    """Raises DefinitionError for a result that does not come back from readings that obey the law."""
    if definition.law is None:
        return
    left, right, named = _sides(definition.law)
    for name, result in definition.results.items():
        if result.formula is None or name not in named:
            continue
        try:
            formula = parse(result.formula)
        except CavrelError:
            continue
        wrong = seen = 0
        for seed in range(_DRAWS):
            try:
                world = _World(definition, left, right, named, seed)
                found = world.result(name, formula)
            except (_Unreachable, CavrelError):
                continue
            if not math.isfinite(found):
                continue
            seen += 1
            wrong += not math.isclose(found, world.constants[name], rel_tol=_RIGHT)
        if seen >= _NEEDED and wrong == seen:
            raise DefinitionError(
                f"results.{name}.formula",
                f"'{result.formula}' does not follow from the law: readings that obey the law do not give {name}",
            )


def names(definition: Definition) -> None:
    """Raises DefinitionError for a law that speaks of nothing the experiment reads or finds. Asked of what is being written, not of what comes
    from elsewhere: a run opens whatever its law is called."""
    if definition.law is None:
        return
    left, _, named = _sides(definition.law)
    known = _known(definition)
    strange = sorted(named - known)
    if strange and isinstance(left, Name) and left.name in strange:
        what = f"speaks of '{left.name}', which is not a column, quantity or result: use the names of what the experiment reads and determines"
        raise DefinitionError("law", what)
    if strange and len(named & known) < 2:
        what = f"speaks of {', '.join(strange)}, which are not columns, quantities or results: use the names of its readings and results"
        raise DefinitionError("law", what)


def _sides(law: str) -> tuple[Node, Node, set[str]]:
    """Both sides of a law, and what it names."""
    try:
        left, right = parse_law(law)
    except CavrelError as fault:
        raise DefinitionError("law", fault.what) from fault
    return left, right, {part.name for part in (*walk(left), *walk(right)) if isinstance(part, Name)} - {"pi"}


def _known(definition: Definition) -> set[str]:
    """What a law may name besides constants of nature and its own."""
    columns = {name for body in definition.series.values() for name in body.columns}
    free = {name for fit in definition.fits.values() for name in fit.free}
    return columns | free | definition.quantities.keys() | definition.results.keys()


class _World:
    """Constants of the law drawn at random, and readings of a series that obey it."""

    def __init__(self, definition: Definition, left: Node, right: Node, named: set[str], seed: int) -> None:
        self.definition, self.left, self.right, self.named = definition, left, right, named
        self.draw = np.random.default_rng(seed)
        columns = {c for body in definition.series.values() for c in body.columns}
        self.constants = {n: float(np.exp(self.draw.uniform(-0.9, 0.9))) for n in sorted(named - columns)}
        # What columns rest on that the law does not know, such as how many swings are timed.
        self.nuisance: dict[str, float] = {}
        self.lines: dict[str, tuple[float, float]] = {}
        self.open: set[str] = set()

    def result(self, name: str, formula: Node) -> float:
        """What a result's formula gives in this world. Raises _Unreachable."""
        fits = {part.owner for part in walk(formula) if isinstance(part, Member) and part.owner in self.definition.fits}
        others = self.others(formula, {name})
        if not fits and not others:
            raise _Unreachable  # a formula of readings alone; no line of the law comes into it
        return self.value(formula, {})

    def others(self, formula: Node, seen: set[str]) -> set[str]:
        """Results behind a formula that are no constants of the law and rest on fits."""
        found = set()
        for part in walk(formula):
            if isinstance(part, Name) and part.name in self.definition.results and part.name not in seen:
                found.add(part.name)
        return found

    def value(self, node: Node, rows: dict[str, Array]) -> float:
        values = self.array(node, rows)
        return float(values[0, 0])

    def array(self, node: Node, rows: dict[str, Array]) -> Array:
        """``node`` over the columns ``rows`` and this world's constants. Raises _Unreachable for a name without a value."""
        values: dict[str, Array] = {"pi": np.array([[math.pi]])}

        def key(part: Name | Member) -> str:
            name = f"{part.owner}.{part.name}" if isinstance(part, Member) else part.name
            if name not in values:
                values[name] = self.named_value(part, rows)
            return name

        with np.errstate(all="ignore"):
            return compile_node(node, key, lambda part: None)(Environment(values, {}))

    def named_value(self, part: Name | Member, rows: dict[str, Array]) -> Array:
        if isinstance(part, Member):
            if part.owner not in self.definition.fits:
                raise _Unreachable
            slope, intercept = self.line(part.owner)
            return np.array([[{"slope": slope, "intercept": intercept}.get(part.name, math.nan)]])
        name = part.name
        if name in rows:
            return rows[name]
        if name in self.constants or (rows and name in self.nuisance):
            return np.array([[self.constants.get(name, self.nuisance.get(name, math.nan))]])
        for table in (self.definition.quantities, self.definition.results):
            body = table.get(name)
            if body is not None and body.formula is not None and name not in self.open:
                self.open.add(name)
                found = self.array(parse(body.formula), rows)
                self.open.discard(name)
                return found
        raise _Unreachable

    def line(self, name: str) -> tuple[float, float]:
        """Slope and intercept of a fit over readings that obey the law. Raises _Unreachable where they lie on no straight line."""
        if name not in self.lines:
            self.lines[name] = self.fitted(self.definition.fits[name])
        return self.lines[name]

    def fitted(self, fit: Fit) -> tuple[float, float]:
        if fit.model not in _LINES or fit.x is None:
            raise _Unreachable
        x, y = parse(fit.x), parse(fit.y)
        if any(isinstance(p, Call) and p.function in AGGREGATES for side in (x, y) for p in walk(side)):
            raise _Unreachable
        columns = self.definition.series[fit.series].columns
        lawful = [c for c in columns if c in self.named]
        for solved in self.solvable(lawful, y):
            for alike in (False, True):
                try:
                    rows = self.rows(fit, lawful, solved, alike)
                    along, up = (np.broadcast_to(self.array(side, rows), (1, _ROWS))[0] for side in (x, y))
                except _Unreachable:
                    continue
                found = _straight(along, up)
                if found is not None:
                    return found
        raise _Unreachable

    def solvable(self, lawful: list[str], y: Node) -> list[str]:
        """Columns that the law may be solved for, those on the y axis first."""
        on_y = [c for c in lawful if any(isinstance(p, Name) and p.name == c for p in walk(y))]
        return [*on_y, *(c for c in lawful if c not in on_y)]

    def rows(self, fit: Fit, lawful: list[str], solved: str, alike: bool) -> dict[str, Array]:
        """Columns of a series that obey the law, which is solved for ``solved``; ``alike``: what is on neither axis stays the same."""
        columns = self.definition.series[fit.series].columns
        assert fit.x is not None
        on_x = {p.name for p in walk(parse(fit.x)) if isinstance(p, Name)}
        rows: dict[str, Array] = {}
        for name in lawful:
            if name == solved:
                continue
            many = 1 if alike and name not in on_x else _ROWS
            rows[name] = np.broadcast_to(np.exp(self.draw.uniform(-0.9, 0.9, (1, many))), (1, _ROWS))
        for name in lawful:
            formula = columns[name].formula
            if name == solved or formula is None:
                continue
            try:  # a column of the law that others of its columns give is no matter of chance
                rows[name] = np.broadcast_to(
                    self.array(parse(formula), {k: v for k, v in rows.items() if k != name}), (1, _ROWS)
                )
            except _Unreachable:
                continue
        rows[solved] = self.solve(solved, rows)
        for name in lawful:
            formula = columns[name].formula
            if formula is not None:
                rows.update(self.read_for(parse(formula), name, rows, columns))
        for name, body in columns.items():
            if name not in rows and body.formula is not None:
                try:
                    rows[name] = np.broadcast_to(self.array(parse(body.formula), rows), (1, _ROWS))
                except _Unreachable:
                    continue
        return rows

    def read_for(
        self, formula: Node, derived: str, rows: dict[str, Array], columns: Mapping[str, Column]
    ) -> dict[str, Array]:
        """The one column that must have been read for ``derived`` to be what it is, such as the time of ten swings for a period; empty where
        there is none, or it cannot be found."""
        parts = {p.name for p in walk(formula) if isinstance(p, Name)}
        unread = [name for name in parts if name in columns and name not in rows and columns[name].formula is None]
        if len(unread) != 1:
            return {}
        for name in parts & self.definition.quantities.keys() - self.named:
            if self.definition.quantities[name].formula is None:
                self.nuisance.setdefault(name, float(np.exp(self.draw.uniform(-0.9, 0.9))))
        try:
            return {unread[0]: self.root(lambda at: self.array(formula, {**rows, **at}) - rows[derived], unread[0])}
        except (_Unreachable, CavrelError):
            return {}

    def root(self, gap: Callable[[dict[str, Array]], Array], name: str) -> Array:
        """The column ``name``, ``(1, rows)``, at which ``gap`` is zero in every row. Raises _Unreachable."""
        from scipy import optimize  # a fifth of a second, which a start need not wait for

        grid = np.geomspace(1e-3, 1e3, 61)
        seen = np.array([np.broadcast_to(gap({name: np.full((1, _ROWS), v)}), (1, _ROWS))[0] for v in grid])
        found = np.full((1, _ROWS), np.nan)
        for i in range(_ROWS):
            ok = np.isfinite(seen[:-1, i]) & np.isfinite(seen[1:, i]) & (seen[:-1, i] * seen[1:, i] < 0)
            change = np.flatnonzero(ok)
            if not len(change):
                raise _Unreachable

            def at(value: float, i: int = i) -> float:
                return float(np.broadcast_to(gap({name: np.full((1, _ROWS), value)}), (1, _ROWS))[0, i])

            found[0, i] = optimize.brentq(at, grid[change[0]], grid[change[0] + 1], rtol=1e-12)
        return found

    def solve(self, solved: str, rows: dict[str, Array]) -> Array:
        """The column ``solved``, ``(1, rows)``, for which the law holds."""
        for side, other in ((self.left, self.right), (self.right, self.left)):
            if side == Name(solved) and Name(solved) not in walk(other):
                return np.broadcast_to(self.array(other, rows), (1, _ROWS))
        return self.root(
            lambda at: self.array(self.left, {**rows, **at}) - self.array(self.right, {**rows, **at}), solved
        )


def _straight(x: Array, y: Array) -> tuple[float, float] | None:
    """Slope and intercept, where all points lie on one line."""
    if not (np.isfinite(x).all() and np.isfinite(y).all()) or np.ptp(x) < 1e-6 * np.abs(x).max():
        return None
    slope, intercept = np.polyfit(x, y, 1)
    left = y - slope * x - intercept
    return (float(slope), float(intercept)) if np.abs(left).max() <= 1e-7 * np.abs(y).max() else None
