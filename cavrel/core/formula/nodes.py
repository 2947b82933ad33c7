"""The tree of a formula: frozen, hashable, free of meaning."""

import operator
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

FUNCTIONS: dict[str, tuple[int, int]] = {
    "sin": (1, 1),
    "cos": (1, 1),
    "tan": (1, 1),
    "asin": (1, 1),
    "acos": (1, 1),
    "atan": (1, 1),
    "atan2": (2, 2),
    "sqrt": (1, 1),
    "exp": (1, 1),
    "ln": (1, 1),
    "log10": (1, 1),
    "abs": (1, 1),
    "all": (1, 1),
    "any": (1, 1),
    "mean": (1, 1),
    "sum": (1, 1),
    "first": (1, 1),
    "last": (1, 1),
    "count": (1, 1),
    "above": (1, 1),
    "min": (1, 4),
    "max": (1, 4),
    "linspace": (3, 3),
    "list": (1, 40),
    "water_density": (1, 1),
    "sound_speed": (1, 1),
    "nagaoka": (1, 1),
}
"""Each function's least and greatest number of arguments."""

AGGREGATES = {"all", "any", "mean", "sum", "first", "last", "count"}
"""Functions that fold a column's rows into one value; ``min`` and ``max`` do so with one argument."""


PUBLISHED = {"water_density": ("K", "kg/m^3"), "sound_speed": ("K", "m/s"), "nagaoka": ("", "")}
"""Functions that stand for a published formula: the unit each takes, the unit it gives."""


@dataclass(frozen=True, slots=True)
class Number:
    """A literal, with its unit text where it has one: ``100[cm]``."""

    value: float
    unit: str | None = None


@dataclass(frozen=True, slots=True)
class Name:
    """A bare name: a column of the series, a quantity, a result, a constant."""

    name: str


@dataclass(frozen=True, slots=True)
class Member:
    """``fit.parameter`` or ``series.column``."""

    owner: str
    name: str


@dataclass(frozen=True, slots=True)
class Negative:
    operand: "Node"


@dataclass(frozen=True, slots=True)
class Binary:
    """``+ - * / ^`` of two operands."""

    op: str
    left: "Node"
    right: "Node"


OPERATIONS: Mapping[str, Callable[[Any, Any], Any]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
    "^": operator.pow,
}
"""What the signs of `Binary` do with two numbers, or with whatever else has arithmetic."""


@dataclass(frozen=True, slots=True)
class Compare:
    """``a <= b < c``: operators between neighbouring operands, true where all hold."""

    ops: tuple[str, ...]
    operands: tuple["Node", ...]


@dataclass(frozen=True, slots=True)
class Call:
    function: str
    arguments: tuple["Node", ...]


Node = Number | Name | Member | Negative | Binary | Compare | Call


def children(node: Node) -> tuple[Node, ...]:
    """The operands of ``node``, in writing order."""
    match node:
        case Negative(operand):
            return (operand,)
        case Binary(_, left, right):
            return (left, right)
        case Compare(_, operands):
            return operands
        case Call(_, arguments):
            return arguments
        case _:
            return ()


def walk(node: Node) -> Iterator[Node]:
    """``node`` and everything below it."""
    yield node
    for child in children(node):
        yield from walk(child)


def substitute(node: Node, meaning: dict[Node, Node]) -> Node:
    """``node`` with every subtree found in ``meaning`` replaced."""
    if node in meaning:
        return meaning[node]
    match node:
        case Negative(operand):
            return Negative(substitute(operand, meaning))
        case Binary(op, left, right):
            return Binary(op, substitute(left, meaning), substitute(right, meaning))
        case Compare(ops, operands):
            return Compare(ops, tuple(substitute(o, meaning) for o in operands))
        case Call(function, arguments):
            return Call(function, tuple(substitute(a, meaning) for a in arguments))
        case _:
            return node
