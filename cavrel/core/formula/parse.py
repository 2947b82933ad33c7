"""From a formula's text to its tree, over Python's ``ast`` with a whitelist.

Nothing of the text is ever executed. Length, depth, size and exponents are bounded before anything is computed from them,
so that a hostile text gets one clear error and costs nothing.
"""

import ast
import math
import re
import warnings
from functools import lru_cache

from cavrel.core.errors import FormulaError, UnitError
from cavrel.core.formula.nodes import FUNCTIONS, OPERATIONS, Binary, Call, Compare, Member, Name, Negative, Node, Number
from cavrel.core.quantity import units

LONGEST = 400
DEEPEST = 40
MOST_NODES = 200
LARGEST_EXPONENT = 12
LONGEST_NAME = 24

_OPERATORS: dict[type[ast.operator], str] = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.Pow: "^"}
_COMPARISONS: dict[type[ast.cmpop], str] = {
    ast.LtE: "<=",
    ast.Lt: "<",
    ast.GtE: ">=",
    ast.Gt: ">",
    ast.Eq: "==",
    ast.NotEq: "!=",
}
_LITERAL = re.compile(r"(?<![\w.])(\d+(?:\.\d*)?(?:[eE][-+]?\d+)?|\.\d+(?:[eE][-+]?\d+)?)\s*\[([^\[\]]*)\]")
_QUANTITY = "__q"
_WRITTEN = str.maketrans({"−": "-", "·": "*", "⋅": "*", "×": "*", "÷": "/", "≤": "<=", "≥": ">=", "π": "pi"})


@lru_cache(maxsize=4096)
def parse(text: str) -> Node:
    """Read a formula.

    Raises FormulaError with a sentence that says what is wrong and, where it can, how to write it instead.
    """
    if len(text) > LONGEST:
        raise FormulaError("", f"a formula may have {LONGEST} characters; this one has {len(text)}")
    if not text.strip():
        raise FormulaError("", "the formula is empty")
    if "\x00" in text or any(ord(c) < 32 and c not in "\t\n" for c in text):
        raise FormulaError("", "the formula has a character that cannot be printed")
    depth = deepest = 0
    for character in text:
        depth += (character in "([") - (character in ")]")
        deepest = max(deepest, depth)
    if deepest > DEEPEST:
        raise FormulaError("", f"brackets may be nested {DEEPEST} deep; these are {deepest} deep")
    literals: list[Number] = []

    def keep(match: re.Match[str]) -> str:
        try:
            units.unit(match.group(2))
        except UnitError as fault:
            raise FormulaError("", f"{fault.what} in '{match.group(0)}'") from fault
        literals.append(Number(float(match.group(1)), match.group(2).strip()))
        return f"{_QUANTITY}{len(literals) - 1}"

    if _QUANTITY in text:
        raise FormulaError("", "names must not begin with two underscores")
    plain = _LITERAL.sub(keep, text.translate(_WRITTEN)).replace("^", "**").replace("\n", " ").strip()
    if re.search(r"(?<![<>=!])=(?!=)", plain):
        raise FormulaError("", "a formula has no '='; compare with '=='")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # Python's own advice about strange literals is no help here
            tree = ast.parse(plain, mode="eval")
    except (SyntaxError, ValueError, MemoryError, RecursionError, OverflowError) as fault:
        raise FormulaError("", _syntax(text, fault)) from fault
    return _Reader(literals).node(tree.body, 0)


@lru_cache(maxsize=512)
def parse_law(text: str) -> tuple[Node, Node]:
    """Read ``left = right``; returns both sides. Raises FormulaError."""
    sides = text.split("=")
    if len(sides) != 2:
        raise FormulaError("", "a law is one equation: 'T = 2*pi*sqrt(L/g)'")
    return parse(sides[0]), parse(sides[1])


def _syntax(text: str, fault: Exception) -> str:
    shown = text if len(text) <= 60 else text[:57] + "..."
    if text.count("(") != text.count(")"):
        return f"a bracket is not closed in '{shown}'"
    if re.search(r"\d\s*[A-Za-z]\w*|\)\s*[\w(]", text):
        return f"cannot read '{shown}'; write every product with '*', units in brackets: '100[cm]'"
    return f"cannot read '{shown}'"


class _Reader:
    """Turns Python's tree into ours, counting as it goes."""

    def __init__(self, literals: list[Number]) -> None:
        self.literals = literals
        self.count = 0

    def node(self, node: ast.expr, depth: int) -> Node:
        self.count += 1
        if depth > DEEPEST or self.count > MOST_NODES:
            raise FormulaError("", "the formula is too long; split it into columns or quantities")
        match node:
            case ast.Constant(value=value):
                return self.number(value)
            case ast.Name(id=name):
                return self.name(name)
            case ast.Attribute(value=ast.Name(id=owner), attr=name):
                return Member(_checked(owner), _checked(name))
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                inner = self.node(operand, depth + 1)
                if isinstance(inner, Number) and inner.unit and units.unit(inner.unit).offset:
                    return Number(-inner.value, inner.unit)  # -38.8[°C] lies below its zero, not below absolute zero
                return Negative(inner)
            case ast.UnaryOp(op=ast.UAdd(), operand=operand):
                return self.node(operand, depth + 1)
            case ast.BinOp(left=left, op=op, right=right) if type(op) in _OPERATORS:
                return self.binary(_OPERATORS[type(op)], left, right, depth)
            case ast.Compare(left=first, ops=ops, comparators=others) if all(type(o) in _COMPARISONS for o in ops):
                operands = tuple(self.node(o, depth + 1) for o in (first, *others))
                return Compare(tuple(_COMPARISONS[type(o)] for o in ops), operands)
            case ast.Call(func=ast.Name(id=function), args=arguments, keywords=[]):
                return self.call(function, arguments, depth)
        raise FormulaError("", f"{_described(node)} is not allowed in a formula")

    def number(self, value: object) -> Number:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise FormulaError("", f"'{str(value)[:20]}' is not a number")
        try:
            number = float(value)
        except OverflowError as fault:
            raise FormulaError("", "a number is too large") from fault
        if not math.isfinite(number):
            raise FormulaError("", "a number is too large")
        return Number(number)

    def name(self, name: str) -> Node:
        if name.startswith(_QUANTITY):
            return self.literals[int(name[len(_QUANTITY) :])]
        if name in FUNCTIONS:
            raise FormulaError("", f"'{name}' is a function and needs brackets: {name}(...)")
        return Name(_checked(name))

    def binary(self, op: str, left: ast.expr, right: ast.expr, depth: int) -> Node:
        first, second = self.node(left, depth + 1), self.node(right, depth + 1)
        if op == "^":
            exponent = constant(second)
            if exponent is not None and abs(exponent) > LARGEST_EXPONENT:
                raise FormulaError("", f"an exponent may not pass {LARGEST_EXPONENT}")
        return Binary(op, first, second)

    def call(self, function: str, arguments: list[ast.expr], depth: int) -> Node:
        if function not in FUNCTIONS:
            raise FormulaError("", f"unknown function '{function[:LONGEST_NAME]}'; there are {', '.join(FUNCTIONS)}")
        least, most = FUNCTIONS[function]
        if not least <= len(arguments) <= most:
            takes = str(least) if least == most else f"{least} to {most}"
            raise FormulaError("", f"{function} takes {takes} values in its brackets, not {len(arguments)}")
        return Call(function, tuple(self.node(a, depth + 1) for a in arguments))


def _checked(name: str) -> str:
    if len(name) > LONGEST_NAME:
        raise FormulaError("", f"the name '{name[:LONGEST_NAME]}...' is too long")
    if name.startswith("_") or not name.isascii():
        raise FormulaError("", f"'{name}' cannot be a name; use letters and digits")
    return name


def _described(node: ast.expr) -> str:
    match node:
        case ast.Attribute():
            return "a chain of dots"
        case ast.Call():
            return "this kind of call"
        case ast.Subscript():
            return "a square bracket after a name"
        case ast.BoolOp() | ast.UnaryOp(op=ast.Not()):
            return "'and', 'or', 'not'"
        case ast.BinOp():
            return "this operator"
    return f"this ({type(node).__name__})"


def constant(node: Node) -> float | None:
    """The value of a tree of plain numbers, or None; powers are bounded before they are taken."""
    match node:
        case Number(value, None):
            return value
        case Negative(operand):
            inner = constant(operand)
            return None if inner is None else -inner
        case Binary(op, left, right):
            a, b = constant(left), constant(right)
            if a is None or b is None:
                return None
            try:
                value = OPERATIONS[op](a, b)
                return value if isinstance(value, float) else None  # a root of a number below zero is none
            except (ZeroDivisionError, OverflowError, ValueError):
                return None
    return None
