"""The derivative of a formula by one of its names, as a formula again."""

from collections.abc import Callable

from cavrel.core.formula.nodes import Binary, Call, Compare, Member, Name, Negative, Node, Number, walk

ZERO, ONE, TWO = Number(0.0), Number(1.0), Number(2.0)


class NoDerivative(Exception):
    """The formula folds or chooses among values that hold the name, or has no published derivative."""


def derivative(node: Node, by: Name) -> Node:
    """d ``node`` / d ``by``; the trees of its terms are shared with ``node``. Raises NoDerivative."""
    if by not in walk(node):
        return ZERO
    match node:
        case Name() | Member() | Number():
            return ONE  # a number holds no name, so this is the name itself
        case Negative(operand):
            return _negative(derivative(operand, by))
        case Binary("+" | "-" as op, left, right):
            return _sum(op, derivative(left, by), derivative(right, by))
        case Binary("*", left, right):
            return _sum("+", _product(derivative(left, by), right), _product(left, derivative(right, by)))
        case Binary("/", left, right):
            above = _sum("-", derivative(left, by), _product(Binary("/", left, right), derivative(right, by)))
            return _quotient(above, right)
        case Binary("^", left, right):
            return _power(left, right, by)
        case Call(function, arguments):
            return _call(function, arguments, by)
        case Compare():
            raise NoDerivative
    raise NoDerivative


def _power(base: Node, exponent: Node, by: Name) -> Node:
    inner, outer = derivative(base, by), derivative(exponent, by)
    less = Number(exponent.value - 1) if isinstance(exponent, Number) else Binary("-", exponent, ONE)
    first = _product(_product(exponent, Binary("^", base, less)), inner)
    second = _product(_product(Binary("^", base, exponent), Call("ln", (base,))), outer)
    return _sum("+", first, second)


def _call(function: str, arguments: tuple[Node, ...], by: Name) -> Node:
    if function == "atan2":
        y, x = arguments
        below = Binary("+", Binary("^", y, TWO), Binary("^", x, TWO))
        return _quotient(_sum("-", _product(x, derivative(y, by)), _product(y, derivative(x, by))), below)
    if len(arguments) != 1 or function not in _OUTER:
        raise NoDerivative
    return _product(_OUTER[function](arguments[0]), derivative(arguments[0], by))


def _square(node: Node) -> Node:
    return Binary("^", node, TWO)


_OUTER: dict[str, Callable[[Node], Node]] = {
    "sin": lambda u: Call("cos", (u,)),
    "cos": lambda u: Negative(Call("sin", (u,))),
    "tan": lambda u: Binary("/", ONE, _square(Call("cos", (u,)))),
    "asin": lambda u: Binary("/", ONE, Call("sqrt", (Binary("-", ONE, _square(u)),))),
    "acos": lambda u: Negative(Binary("/", ONE, Call("sqrt", (Binary("-", ONE, _square(u)),)))),
    "atan": lambda u: Binary("/", ONE, Binary("+", ONE, _square(u))),
    "sqrt": lambda u: Binary("/", Number(0.5), Call("sqrt", (u,))),
    "exp": lambda u: Call("exp", (u,)),
    "ln": lambda u: Binary("/", ONE, u),
    "log10": lambda u: Binary("/", Number(0.4342944819032518), u),
    "abs": lambda u: Binary("/", u, Call("abs", (u,))),
}


def _negative(node: Node) -> Node:
    return ZERO if node == ZERO else Negative(node)


def _sum(op: str, left: Node, right: Node) -> Node:
    if right == ZERO:
        return left
    if left == ZERO:
        return right if op == "+" else Negative(right)
    return Binary(op, left, right)


def _product(left: Node, right: Node) -> Node:
    if ZERO in (left, right):
        return ZERO
    if left == ONE:
        return right
    return left if right == ONE else Binary("*", left, right)


def _quotient(left: Node, right: Node) -> Node:
    return ZERO if left == ZERO else Binary("/", left, right)
