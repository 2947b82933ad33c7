"""The type of a formula: its dimension, and whether it is one value or a column. Checked once, when a program is compiled."""

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction

from cavrel.core.errors import FormulaError
from cavrel.core.formula.nodes import AGGREGATES, PUBLISHED, Binary, Call, Compare, Member, Name, Negative, Node, Number
from cavrel.core.formula.parse import constant
from cavrel.core.formula.text import unparse
from cavrel.core.quantity import units
from cavrel.core.quantity.dimension import PLAIN, Dimension


@dataclass(frozen=True, slots=True)
class Kind:
    """What a formula gives.

    ``dimension``: None for true/false.
    ``series``: names the rows it runs over, None for one value.
    ``scale``: ``point`` for a place on a scale with a zero of its own (20 °C), ``difference`` for what lies between two of them, else empty.
    """

    dimension: Dimension | None
    series: str | None = None
    scale: str = ""


Scope = Callable[[Name | Member], Kind]
"""Finds the kind of a name; raises FormulaError for one it does not know."""


def infer(node: Node, scope: Scope) -> Kind:
    """The kind of ``node``.

    Raises FormulaError naming the part whose dimensions do not fit: metres added to seconds, the sine of a length.
    """
    match node:
        case Number(_, unit):
            if unit is None:
                return Kind(PLAIN)
            return Kind(units.unit(unit).dimension, None, "point" if units.unit(unit).offset else "")
        case Name() | Member():
            return scope(node)
        case Negative(operand):
            kind = _number(operand, scope)
            return Kind(kind.dimension, kind.series, "" if kind.scale == "point" else kind.scale)
        case Compare(_, operands):
            kinds = [_number(o, scope) for o in operands]
            for operand, kind in zip(operands[1:], kinds[1:], strict=True):
                _same(kinds[0], kind, operands[0], operand, "compare")
            return Kind(None, _rows(kinds, node))
        case Binary("^", left, right):
            return _power(node, left, right, scope)
        case Binary(op, left, right):
            first, second = _number(left, scope), _number(right, scope)
            rows = _rows([first, second], node)
            if op in "+-":
                _same(first, second, left, right, "add" if op == "+" else "subtract")
                return Kind(first.dimension, rows, _SCALES.get((first.scale, op, second.scale), ""))
            assert first.dimension is not None and second.dimension is not None
            return Kind(first.dimension * second.dimension if op == "*" else first.dimension / second.dimension, rows)
        case Call(function, arguments):
            return _call(node, function, arguments, scope)


_SCALES = {
    ("point", "-", "point"): "difference",
    ("point", "-", ""): "point",
    ("point", "+", ""): "point",
    ("", "+", "point"): "point",
    ("point", "-", "difference"): "point",
    ("point", "+", "difference"): "point",
    ("difference", "+", "point"): "point",
    ("difference", "+", "difference"): "difference",
    ("difference", "-", "difference"): "difference",
}


def _number(node: Node, scope: Scope) -> Kind:
    kind = infer(node, scope)
    if kind.dimension is None:
        raise FormulaError("", f"'{unparse(node)}' is true or false, not a number")
    return kind


def _rows(kinds: list[Kind], node: Node) -> str | None:
    found = {kind.series for kind in kinds if kind.series}
    if len(found) > 1:
        raise FormulaError(
            "", f"'{unparse(node)}' mixes the rows of {' and '.join(sorted(found))}; fold one with mean() first"
        )
    return found.pop() if found else None


def _same(first: Kind, second: Kind, left: Node, right: Node, verb: str) -> None:
    if first.dimension != second.dimension:
        assert first.dimension is not None and second.dimension is not None
        raise FormulaError(
            "",
            f"cannot {verb} '{unparse(left)}' ({first.dimension.words()}) and '{unparse(right)}' ({second.dimension.words()})",
        )


def _power(node: Node, left: Node, right: Node, scope: Scope) -> Kind:
    base, exponent = _number(left, scope), _number(right, scope)
    if exponent.dimension != PLAIN:
        raise FormulaError("", f"the exponent '{unparse(right)}' must be a plain number")
    rows = _rows([base, exponent], node)
    assert base.dimension is not None
    if base.dimension.plain:
        return Kind(PLAIN, rows)
    value = constant(right)
    if value is None:
        raise FormulaError(
            "", f"'{unparse(left)}' has a unit, so its exponent must be a number, not '{unparse(right)}'"
        )
    return Kind(base.dimension ** Fraction(value).limit_denominator(12), rows)


def _call(node: Node, function: str, arguments: tuple[Node, ...], scope: Scope) -> Kind:
    if function in ("all", "any"):
        kind = infer(arguments[0], scope)
        if kind.dimension is not None:
            raise FormulaError("", f"{function}() needs a comparison, not '{unparse(arguments[0])}'")
        return Kind(None)
    kinds = [_number(a, scope) for a in arguments]
    first = kinds[0].dimension
    assert first is not None
    rows = _rows(kinds, node)
    if function == "count":
        return Kind(PLAIN)
    if function == "above":
        if rows is None:
            raise FormulaError("", f"above() takes a column, and '{unparse(arguments[0])}' is one value")
        return Kind(first, rows, kinds[0].scale)
    if function in AGGREGATES or (function in ("min", "max") and len(arguments) == 1):
        return Kind(first, None, "" if function == "sum" else kinds[0].scale)
    if function in ("min", "max", "atan2", "linspace", "list"):
        wanted = kinds[:2] if function == "linspace" else kinds
        for argument, kind in zip(arguments[1:], wanted[1:], strict=False):
            _same(kinds[0], kind, arguments[0], argument, "compare")
        if function == "linspace":
            if kinds[2].dimension != PLAIN or rows:
                raise FormulaError("", "linspace takes two single values and a number of points")
            return Kind(first, "linspace")
        if function == "list":
            if rows:
                raise FormulaError("", "list takes single values, not columns")
            return Kind(first, "list")
        return Kind(PLAIN if function == "atan2" else first, rows, "" if function == "atan2" else kinds[0].scale)
    if function in PUBLISHED:
        wanted_unit, given_unit = PUBLISHED[function]
        wanted_dimension = units.unit(wanted_unit).dimension
        if first != wanted_dimension:
            raise FormulaError(
                "", f"{function} takes {wanted_dimension.words()}, not '{unparse(arguments[0])}' ({first.words()})"
            )
        return Kind(units.unit(given_unit).dimension, rows)
    if function == "abs":
        return Kind(first, rows)
    if function == "sqrt":
        return Kind(first ** Fraction(1, 2), rows)
    if function in ("ln", "log10"):
        return Kind(PLAIN, rows)  # of a value with a unit it takes the SI number, and the page says so
    if not first.plain:
        raise FormulaError(
            "", f"{function} of '{unparse(arguments[0])}' ({first.words()}): it needs a plain number or an angle"
        )
    return Kind(PLAIN, rows)
