"""A formula run over a batch: compiled once into NumPy closures, then called with arrays."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from cavrel.core.formula import published
from cavrel.core.formula.nodes import AGGREGATES, Binary, Call, Compare, Member, Name, Negative, Node, Number
from cavrel.core.quantity import units

Array = NDArray[np.float64]


class Spread(Protocol):
    """How batches of different make meet, for a batch whose entries push components (`columns`)."""

    def pair(self, first: Array, second: Array) -> tuple[Array, Array]:
        """Two operands as batches that fit each other."""

    def widen(self, values: Array) -> Array:
        """``values`` with an entry for each component."""

    def fold(self, name: str, values: Array) -> Array:
        """A folding function over the rows of ``values``."""


@dataclass(frozen=True, slots=True)
class Environment:
    """What a compiled formula reads.

    ``values``: key -> ``(batch, rows)``, scalars ``(batch, 1)``, SI.
    ``keep``: series -> ``(rows,)``, false where a row is left out, so that folding functions pass it over.
    ``spread``: for a batch of pushed components; None where every entry of the batch is a sheet of its own.
    """

    values: Mapping[str, Array]
    keep: Mapping[str, NDArray[np.bool_]]
    spread: Spread | None = None

    def pair(self, first: Array, second: Array) -> tuple[Array, Array]:
        """Two operands as batches that fit each other."""
        if self.spread is None or len(first) == len(second):
            return first, second
        return self.spread.pair(first, second)


Compiled = Callable[[Environment], Array]
Keys = Callable[[Name | Member], str]
SeriesOf = Callable[[Node], str | None]

_ELEMENTWISE: dict[str, Callable[..., Array]] = {
    "sin": np.sin,
    "cos": np.cos,
    "tan": np.tan,
    "asin": np.arcsin,
    "acos": np.arccos,
    "atan": np.arctan,
    "sqrt": np.sqrt,
    "exp": np.exp,
    "ln": np.log,
    "log10": np.log10,
    "abs": np.abs,
    "atan2": np.arctan2,
    "water_density": published.water_density,
    "sound_speed": published.sound_speed,
    "nagaoka": published.nagaoka,
}
_ARITHMETIC: dict[str, Callable[[Array, Array], Array]] = {
    "+": np.add,
    "-": np.subtract,
    "*": np.multiply,
    "/": np.divide,
    "^": np.power,
}
_RELATIONS: dict[str, Callable[[Array, Array], NDArray[np.bool_]]] = {
    "<=": np.less_equal,
    "<": np.less,
    ">=": np.greater_equal,
    ">": np.greater,
    "==": np.equal,
    "!=": np.not_equal,
}


def compile_node(node: Node, keys: Keys, series_of: SeriesOf) -> Compiled:
    """Closures that evaluate ``node``.

    ``keys`` turns a name into its key in the environment, ``series_of`` names the rows a subtree runs over. The result of a
    call is ``(batch, rows)``; truth is 1.0, falsehood 0.0, and NaN where an operand is missing. Values outside a function's
    domain become NaN, never an exception.
    """
    match node:
        case Number(value, unit):
            constant = np.array([[units.unit(unit).to_si(value) if unit else value]])
            return lambda env: constant
        case Name() | Member():
            key = keys(node)
            return lambda env: env.values[key]
        case Negative(operand):
            inner = compile_node(operand, keys, series_of)
            return lambda env: -inner(env)
        case Binary("^", left, Number(2.0, None)):
            squared = compile_node(left, keys, series_of)
            return lambda env: np.square(squared(env))
        case Binary(op, left, right):
            first, second = compile_node(left, keys, series_of), compile_node(right, keys, series_of)
            operate = _ARITHMETIC[op]
            return lambda env: operate(*env.pair(first(env), second(env)))
        case Compare(ops, operands):
            return _comparison(ops, tuple(compile_node(o, keys, series_of) for o in operands))
        case Call(function, arguments):
            parts = tuple(compile_node(a, keys, series_of) for a in arguments)
            return _call(function, parts, series_of(arguments[0]))


def _comparison(ops: tuple[str, ...], parts: tuple[Compiled, ...]) -> Compiled:
    relations = tuple(_RELATIONS[op] for op in ops)

    def run(env: Environment) -> Array:
        values = [part(env)[:1] if env.spread is not None else part(env) for part in parts]  # truth has no uncertainty
        truth, known = np.ones((1, 1), bool), np.ones((1, 1), bool)
        for relation, a, b in zip(relations, values, values[1:], strict=False):
            truth = truth & relation(a, b)
            known = known & ~(np.isnan(a) | np.isnan(b))
        return np.where(known, truth.astype(float), np.nan)

    return run


def _call(function: str, parts: tuple[Compiled, ...], series: str | None) -> Compiled:
    if function in AGGREGATES or (function in ("min", "max") and len(parts) == 1):
        fold = FOLDS[function]

        def folded(env: Environment) -> Array:
            values = parts[0](env)
            if series is not None and series in env.keep:
                values = np.where(env.keep[series], values, np.nan)
            # What runs over no table has no rows that a column could push: a list is folded as it stands.
            return fold(values) if env.spread is None or series is None else env.spread.fold(function, values)

        return folded
    if function in ("min", "max"):
        choose = np.fmin if function == "min" else np.fmax

        def chosen(env: Environment) -> Array:
            values = parts[0](env)
            for part in parts[1:]:
                values = choose(*env.pair(values, part(env)))
            return values

        return chosen
    if function == "above":

        def shifted(env: Environment) -> Array:
            values = parts[0](env)
            if env.spread is not None:  # a row meets another one, which has components of its own
                values = env.spread.widen(values)
            keep = env.keep.get(series or "")
            return _above(values, np.ones(values.shape[1], bool) if keep is None else keep)

        return shifted
    if function == "linspace":

        def spaced(env: Environment) -> Array:
            start, stop, points = (float(part(env)[0, 0]) for part in parts)
            if not np.isfinite([start, stop, points]).all():
                return np.full((1, 1), np.nan)
            return np.linspace(start, stop, max(1, min(int(points), 200)))[None, :]

        return spaced
    if function == "list":

        def listed(env: Environment) -> Array:
            values = [part(env) for part in parts]
            if env.spread is not None:
                values = [env.spread.widen(value) for value in values]
            many = max(len(value) for value in values)
            return np.concatenate([np.broadcast_to(value, (many, 1)) for value in values], axis=1)

        return listed
    operate = _ELEMENTWISE[function]
    if len(parts) == 2:
        return lambda env: operate(*env.pair(parts[0](env), parts[1](env)))
    return lambda env: operate(*(part(env) for part in parts))


def _present(values: Array) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Where values are known, ``(batch, rows)``, and whether any is, ``(batch, 1)``."""
    known = ~np.isnan(values)
    return known, np.asarray(known.any(axis=1, keepdims=True))


def _sum(values: Array) -> Array:
    known, some = _present(values)
    return np.where(some, np.where(known, values, 0.0).sum(axis=1, keepdims=True), np.nan)


def _mean(values: Array) -> Array:
    known, _ = _present(values)
    return np.asarray(_sum(values) / np.maximum(known.sum(axis=1, keepdims=True), 1))


def _edge(values: Array, last: bool) -> Array:
    known, some = _present(values)
    at = known.shape[1] - 1 - known[:, ::-1].argmax(axis=1) if last else known.argmax(axis=1)
    return np.where(some, np.take_along_axis(values, at[:, None], axis=1), np.nan)


def _above(values: Array, keep: NDArray[np.bool_]) -> Array:
    """What stands in the row before each one, rows that are left out passed over; NaN in the first."""
    rows = np.arange(values.shape[1])
    kept = np.maximum.accumulate(np.where(keep[: len(rows)], rows, -1))
    before = np.concatenate([[-1], kept[:-1]])
    return np.where(before >= 0, values[:, before], np.nan)


def _extreme(values: Array, fill: float) -> Array:
    known, some = _present(values)
    filled = np.where(known, values, fill)
    best = filled.max(axis=1, keepdims=True) if fill < 0 else filled.min(axis=1, keepdims=True)
    return np.where(some, best, np.nan)


FOLDS: dict[str, Callable[[Array], Array]] = {
    "mean": _mean,
    "sum": _sum,
    "first": lambda values: _edge(values, last=False),
    "last": lambda values: _edge(values, last=True),
    "count": lambda values: (~np.isnan(values)).sum(axis=1, keepdims=True).astype(float),
    "min": lambda values: _extreme(values, np.inf),
    "max": lambda values: _extreme(values, -np.inf),
    "all": lambda values: _extreme(values, np.inf),
    "any": lambda values: _extreme(values, -np.inf),
}
