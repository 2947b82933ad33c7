"""Formulas of a definition as formulas of a spreadsheet: each carries the value that it must give, so that none is written that would not."""

import math
from collections.abc import Callable
from dataclasses import dataclass

from cavrel.core.formula.nodes import OPERATIONS, Binary, Call, Member, Name, Negative, Node, Number
from cavrel.core.quantity import units
from cavrel.core.quantity.units import Unit


@dataclass(frozen=True, slots=True, kw_only=True)
class Ref:
    """A cell, or a block of cells down to ``to_row``, ``to_column``. ``sheet``: its name; rows and columns from 1."""

    sheet: str
    row: int
    column: int
    to_row: int = 0
    to_column: int = 0


Part = str | Ref
"""A piece of a formula; ``","`` alone parts two arguments."""


@dataclass(frozen=True, slots=True)
class Live:
    """A cell that computes. ``parts``: its formula; ``value``: what it gives."""

    parts: tuple[Part, ...]
    value: float


class NotLive(Exception):
    """A formula that a spreadsheet has no words for."""


Scope = Callable[[Name | Member], Live]
"""What stands for a name, in SI. Raises NotLive."""
Fold = Callable[[str, Node], Live]
"""What stands for a fold of a column, in SI. Raises NotLive."""

_SAME = {"sin", "cos", "tan", "asin", "acos", "atan", "sqrt", "exp", "ln", "log10", "abs", "min", "max"}
_FOLDS = {"mean", "sum", "first", "last", "count", "min", "max"}
CLOSE = 1e-9
"""Relative difference within which a formula of the sheet says what Cavrel's says."""


def number(value: float) -> str:
    return repr(float(value)).upper().removesuffix(".0")


def literal(value: float) -> Live:
    return Live((number(value) if value >= 0 else f"({number(value)})",), value)


def in_si(ref: Ref, shown: float, unit: Unit) -> Live:
    """A cell that shows a number in ``unit``, as its value in SI."""
    parts: tuple[Part, ...] = (ref,)
    if unit.factor != 1:
        parts = ("(", *parts, f"*{number(unit.factor)})")
    if unit.offset:
        parts = ("(", *parts, f"+{number(unit.offset)})")
    return Live(parts, unit.to_si(shown))


def shown(live: Live, unit: Unit) -> Live:
    """A value in SI as its number in ``unit``."""
    parts = live.parts
    if unit.offset:
        parts = ("(", *parts, f"-{number(unit.offset)})")
    if unit.factor != 1:
        parts = ("(", *parts, f")/{number(unit.factor)}")
    return Live(parts, unit.from_si(live.value))


def checked(live: Live, value: float) -> Live | float:
    """The formula where it gives ``value``, else the number alone: a cell never says anything else than Cavrel."""
    if math.isfinite(live.value) and math.isclose(live.value, value, rel_tol=CLOSE, abs_tol=1e-300):
        return live
    return value


def translate(node: Node, scope: Scope, fold: Fold) -> Live:
    """A formula over cells, in SI. Raises NotLive."""
    match node:
        case Number(value, unit):
            return literal(units.unit(unit).to_si(value) if unit else value)
        case Name() | Member():
            return scope(node)
        case Negative(operand):
            inner = translate(operand, scope, fold)
            return Live(("(-", *inner.parts, ")"), -inner.value)
        case Binary(op, left, right):
            a, b = translate(left, scope, fold), translate(right, scope, fold)
            return Live(("(", *a.parts, op, *b.parts, ")"), _computed(op, a.value, b.value))
        case Call(function, arguments):
            if function in _FOLDS and len(arguments) == 1:
                return fold(function, arguments[0])
            if function == "atan2":
                # A spreadsheet has the abscissa first.
                y, x = (translate(a, scope, fold) for a in arguments)
                return Live(("ATAN2(", *x.parts, ",", *y.parts, ")"), math.atan2(y.value, x.value))
            if function in _SAME:
                return _called(function, [translate(a, scope, fold) for a in arguments])
    raise NotLive


def _called(function: str, arguments: list[Live]) -> Live:
    parts: list[Part] = [f"{function.upper()}("]
    for i, argument in enumerate(arguments):
        parts += [",", *argument.parts] if i else argument.parts
    own: dict[str, Callable[..., float]] = {"ln": math.log, "abs": abs, "min": min, "max": max}
    operate = own.get(function) or getattr(math, function)
    try:
        value = operate(*(a.value for a in arguments))
    except (ValueError, OverflowError) as fault:
        raise NotLive from fault
    return Live((*parts, ")"), float(value))


def _computed(op: str, a: float, b: float) -> float:
    try:
        return float(OPERATIONS[op](a, b))
    except (ZeroDivisionError, OverflowError, TypeError) as fault:
        raise NotLive from fault
