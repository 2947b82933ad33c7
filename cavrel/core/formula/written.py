"""The unit of a formula as the bench writes it: N/A from newtons and amperes, not kg m/(s² A)."""

from collections.abc import Callable
from fractions import Fraction

from cavrel.core.errors import UnitError
from cavrel.core.formula.nodes import AGGREGATES, Binary, Call, Member, Name, Negative, Node, Number
from cavrel.core.formula.parse import constant
from cavrel.core.quantity import units
from cavrel.core.quantity.dimension import PLAIN, Dimension
from cavrel.core.quantity.units import Unit

MOST_ATOMS = 3
"""A unit of more parts than these is written in SI."""

Written = Dimension
"""Exponents of units as they are written, in place of base quantities: ``(("cm", 1), ("s", -2))``."""
UnitOf = Callable[[Name | Member], str | None]
"""The unit's text of a name, None where it has none of its own."""


def written(node: Node, unit_of: UnitOf) -> Written | None:
    """The unit of ``node`` in the units of its names, None where that is not to be said."""
    match node:
        case Number(_, unit):
            return of_text(unit) if unit else PLAIN
        case Name() | Member():
            text = unit_of(node)
            return None if text is None else of_text(text)
        case Negative(operand):
            return written(operand, unit_of)
        case Binary("+" | "-", left, right):
            first, second = written(left, unit_of), written(right, unit_of)
            return first if first is not None and first == second else None
        case Binary("*" | "/" as op, left, right):
            first, second = written(left, unit_of), written(right, unit_of)
            if first is None or second is None:
                return None
            return first * second if op == "*" else first / second
        case Binary("^", left, right):
            base, power = written(left, unit_of), constant(right)
            return None if base is None or power is None else base ** Fraction(power).limit_denominator(12)
        case Call("sqrt", (argument,)):
            base = written(argument, unit_of)
            return None if base is None else base ** Fraction(1, 2)
        case Call(function, arguments) if function in AGGREGATES or function in ("abs", "min", "max"):
            return None if function == "count" else written(arguments[0], unit_of)
        case Call("sin" | "cos" | "tan" | "exp" | "ln" | "log10" | "nagaoka"):
            return PLAIN
    return None


def of_text(text: str) -> Written | None:
    """A unit's text taken apart; None for one that cannot be multiplied with others."""
    try:
        tokens = units.parts(text)
    except UnitError:
        return None
    total = PLAIN
    for name, power in tokens:
        own = units.unit(name)
        if own.offset:
            return Dimension((("K", power),)) if len(tokens) == 1 else None
        if own.dimension.plain:
            return None if len(tokens) > 1 else (PLAIN if own.factor == 1 else Dimension(((name, power),)))
        total = total * Dimension(((name, power),))
    return total


def as_unit(found: Written | None, dimension: Dimension) -> Unit:
    """The unit as written, if it is of ``dimension`` and short; else the usual one."""
    usual = units.unit(dimension.named())
    if found is None or len(found.powers) > MOST_ATOMS or any(p.denominator != 1 for _, p in found.powers):
        return usual
    kinds = [units.unit(name).dimension for name, _ in found.powers]
    if len(set(kinds)) < len(kinds):
        return usual  # centimetres over millimetres
    over = [name if p == 1 else f"{name}^{p}" for name, p in found.powers if p > 0]
    under = [name if p == -1 else f"{name}^{-p}" for name, p in found.powers if p < 0]
    below = under[0] if len(under) == 1 else f"({' '.join(under)})"
    text = " ".join(over) if not under else f"{' '.join(over) or '1'}/{below}"
    unit = units.unit(text)
    return unit if unit.dimension == dimension else usual
