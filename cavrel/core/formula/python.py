"""A formula as Python text, for a notebook that others run; Cavrel itself never runs one as Python."""

from collections.abc import Mapping

from cavrel.core.formula.nodes import AGGREGATES, PUBLISHED, Binary, Call, Member, Name, Negative, Node, Number, walk
from cavrel.core.formula.text import unparse
from cavrel.core.quantity import units


class NotPython(Exception):
    """A formula that has no words here."""


_PLAIN = {
    "sin": "um.sin",
    "cos": "um.cos",
    "tan": "um.tan",
    "asin": "um.asin",
    "acos": "um.acos",
    "atan": "um.atan",
    "atan2": "um.atan2",
    "sqrt": "um.sqrt",
    "exp": "um.exp",
    "ln": "um.log",
    "log10": "um.log10",
    "abs": "size",
    "min": "least",
    "max": "greatest",
    **{name: name for name in PUBLISHED},
}


def python(node: Node, names: Mapping[str, str], series: str | None, tables: set[str]) -> str:
    """``names``: what stands for each name and ``owner.name``; ``series``: whose row ``i`` is; ``tables``: names of all series. Raises NotPython."""
    match node:
        case Number(value, unit):
            return repr(float(units.unit(unit).to_si(value) if unit else value))
        case Name(name):
            return _named(names, name)
        case Member(owner, name):
            return _named(names, f"{owner}.{name}")
        case Negative(operand):
            return f"(-{python(operand, names, series, tables)})"
        case Binary(op, left, right):
            a, b = (python(n, names, series, tables) for n in (left, right))
            return f"({a} {'**' if op == '^' else op} {b})"
        case Call(function, arguments):
            if function in AGGREGATES or (function in ("min", "max") and len(arguments) == 1):
                return _fold(function, arguments[0], names, series, tables)
            if function == "above" and series is not None:
                return f"above({series!r}, i, lambda i: {python(arguments[0], names, series, tables)})"
            if function in _PLAIN:
                return f"{_PLAIN[function]}({', '.join(python(a, names, series, tables) for a in arguments)})"
    raise NotPython(unparse(node))


def _named(names: Mapping[str, str], name: str) -> str:
    if name not in names:
        raise NotPython(name)
    return names[name]


def _fold(function: str, node: Node, names: Mapping[str, str], series: str | None, tables: set[str]) -> str:
    if function == "mean" and (made := names.get(f"mean({unparse(node)})")):
        return made
    owners = {n.owner for n in walk(node) if isinstance(n, Member) and n.owner in tables}
    over = owners.pop() if owners else series
    if over is None or owners:
        raise NotPython(unparse(node))
    column = f"column({over!r}, lambda i: {python(node, names, over, tables)})"
    match function:
        case "sum":
            return f"sum({column})"
        case "mean":
            return f"np.mean({column})"
        case "first":
            return f"{column}[0]"
        case "last":
            return f"{column}[-1]"
        case "count":
            return f"len({column})"
        case "min":
            return f"least(*{column})"
        case "max":
            return f"greatest(*{column})"
    raise NotPython(function)
