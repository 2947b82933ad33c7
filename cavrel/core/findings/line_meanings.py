"""What slope and intercept stand for: the law rewritten on the chosen axes, by SymPy, once for each definition.

Whoever serves pages lets a process of its own do this, with a deadline: a law that somebody types can keep algebra busy for hours.
"""

import sympy

from cavrel.core.definition import Definition
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.findings.meaning import LineMeaning
from cavrel.core.formula.nodes import OPERATIONS, Binary, Call, Member, Name, Negative, Node, Number, substitute, walk
from cavrel.core.formula.parse import parse, parse_law
from cavrel.core.formula.text import unparse

LONGEST_ALGEBRA = 60
"""Operations in an equation that is still solved for a symbol."""

_FUNCTIONS = {
    "sin": sympy.sin,
    "cos": sympy.cos,
    "tan": sympy.tan,
    "asin": sympy.asin,
    "acos": sympy.acos,
    "atan": sympy.atan,
    "sqrt": sympy.sqrt,
    "exp": sympy.exp,
    "ln": sympy.log,
    "log10": lambda x: sympy.log(x, 10),
}


class _Unreachable(Exception):
    """The law says nothing about these axes."""


def meanings(definition_json: str) -> dict[str, LineMeaning]:
    """Fit name -> meaning, for the straight lines of a definition (its canonical JSON) that its law reaches.

    Raises DefinitionError for a law that cannot be read, and for a line through the origin where the law sends it elsewhere.
    """
    definition = Definition.model_validate_json(definition_json)
    if definition.law is None:
        return {}
    try:
        left, right = parse_law(definition.law)
    except CavrelError as fault:
        raise DefinitionError("law", fault.what) from fault
    found: dict[str, LineMeaning] = {}
    for name, fit in definition.fits.items():
        if fit.model not in ("line", "proportional") or fit.x is None:
            continue
        try:
            slope, intercept = _affine(left, right, definition, fit.series, parse(fit.x), parse(fit.y))
            if fit.model == "proportional" and intercept != 0:
                raise DefinitionError(
                    f"fits.{name}.model", f"the law sends this line through {_words(intercept)}, not through the origin"
                )
            found[name] = LineMeaning(_node(slope), _node(intercept), _constants(name, slope, intercept))
        except DefinitionError:
            raise
        except (_Unreachable, CavrelError, NotImplementedError):
            continue
    return found


def _symbols(node: Node) -> dict[str, sympy.Symbol]:
    names = {str(unparse(n)) for n in walk(node) if isinstance(n, Name | Member)} - {"pi"}
    return {name: sympy.Symbol(name.replace(".", "__"), positive=True) for name in names}


def _expression(node: Node) -> sympy.Expr:
    match node:
        case Number(value, None):
            return sympy.Integer(int(value)) if value == int(value) else sympy.nsimplify(value, rational=True)
        case Name("pi"):
            return sympy.pi
        case Name() | Member():
            return sympy.Symbol(unparse(node).replace(".", "__"), positive=True)
        case Negative(operand):
            return -_expression(operand)
        case Binary(op, left, right):
            return OPERATIONS[op](_expression(left), _expression(right))
        case Call(function, (argument,)) if function in _FUNCTIONS:
            return _FUNCTIONS[function](_expression(argument))
    raise _Unreachable


def _node(expression: sympy.Expr) -> Node:
    return parse(sympy.sstr(expression).replace("**", "^").replace("__", ".").replace("log(", "ln("))


def _words(expression: sympy.Expr) -> str:
    return unparse(_node(expression))


def _solve(expression: sympy.Expr, symbol: sympy.Symbol) -> list[sympy.Expr]:
    """What ``symbol`` must be for ``expression`` to vanish.

    Only where the way there is short: the symbol stands once, so that it can be laid bare step by step, or the numerator is a polynomial of
    low degree in it. Anything else could be sought for hours, and whoever types a law waits for the answer. Raises _Unreachable.
    """
    if expression.count_ops() > LONGEST_ALGEBRA:
        raise _Unreachable
    if expression.count(symbol) > 1:
        numerator = sympy.together(expression).as_numer_denom()[0]
        if not numerator.is_polynomial(symbol) or sympy.degree(numerator, symbol) > 2:
            raise _Unreachable
        expression = numerator
    return list(sympy.solve(expression, symbol))


def _opened(node: Node, definition: Definition, series: str, law: sympy.Expr) -> Node:
    """``node`` with computed columns that the law does not name written out by their own formulas."""
    columns = definition.series[series].columns
    for _ in columns:  # a formula may rest on another computed column
        meaning: dict[Node, Node] = {}
        for part in walk(node):
            if isinstance(part, Name) and part.name in columns and not law.has(_expression(part)):
                formula = columns[part.name].formula
                if formula is not None:
                    meaning[part] = parse(formula)
        if not meaning:
            break
        node = substitute(node, meaning)
    return node


def _affine(
    left: Node, right: Node, definition: Definition, series: str, x: Node, y: Node
) -> tuple[sympy.Expr, sympy.Expr]:
    """Slope and intercept of y over x by the law; raises _Unreachable where y is no straight line in x."""
    columns = set(definition.series[series].columns)
    law = _expression(left) - _expression(right)
    y, x = (_opened(node, definition, series, law) for node in (y, x))
    y_names = [n for n in _symbols(y) if n in columns]
    x_names = [n for n in _symbols(x) if n in columns]
    if not y_names or not x_names:
        raise _Unreachable
    axis = sympy.Symbol("X__axis", positive=True)
    y_expression, x_expression = _expression(y), _expression(x)
    for y_name in y_names:
        symbol = sympy.Symbol(y_name, positive=True)
        for solution in _solve(law, symbol) if law.has(symbol) else []:
            on_axes = y_expression.subs(symbol, solution)
            for x_name in x_names:
                column = sympy.Symbol(x_name, positive=True)
                for back in _solve(x_expression - axis, column):
                    line = sympy.simplify(sympy.expand(on_axes.subs(column, back)))
                    slope = sympy.simplify(sympy.diff(line, axis))
                    intercept = sympy.simplify(line.subs(axis, 0)) if not slope.has(axis) else None
                    varying = {sympy.Symbol(c, positive=True) for c in columns}
                    if intercept is None or (slope.free_symbols | intercept.free_symbols) & varying:
                        continue
                    return slope, intercept
    raise _Unreachable


def _constants(fit: str, slope: sympy.Expr, intercept: sympy.Expr) -> tuple[tuple[str, Node], ...]:
    """Every constant in slope or intercept, solved for: from the parameter that holds it alone, or with the constants found before it."""
    means = {
        sympy.Symbol(f"{fit}__slope", positive=True): slope,
        sympy.Symbol(f"{fit}__intercept", positive=True): intercept,
    }
    wanted = sorted((slope.free_symbols | intercept.free_symbols), key=str)
    known: dict[sympy.Symbol, sympy.Expr] = {}
    for _ in wanted:  # one constant found may open the way to another
        for symbol in wanted:
            for parameter, meaning in means.items():
                left = meaning.subs(known)
                if symbol in known or left.free_symbols & (set(wanted) - set(known)) != {symbol}:
                    continue
                solutions = _solve(left - parameter, symbol)
                if solutions:
                    known[symbol] = solutions[0]
    return tuple((str(symbol), _node(known[symbol])) for symbol in wanted if symbol in known)
