"""A formula printed: back to the text it is read from, or as one typeset line for graph labels and titles."""

from cavrel.core.formula.nodes import Binary, Call, Compare, Member, Name, Negative, Node, Number

_PRECEDENCE = {"+": 1, "-": 1, "*": 2, "/": 2, "^": 4}
_RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")
_LOWERED = str.maketrans("0123456789", "₀₁₂₃₄₅₆₇₈₉")
GREEK = {
    "alpha": "α",
    "beta": "β",
    "gamma": "γ",
    "delta": "δ",
    "epsilon": "ε",
    "eta": "η",
    "theta": "θ",
    "kappa": "κ",
    "lambda": "λ",
    "lam": "λ",
    "mu": "μ",
    "nu": "ν",
    "pi": "π",
    "rho": "ρ",
    "sigma": "σ",
    "tau": "τ",
    "phi": "φ",
    "chi": "χ",
    "psi": "ψ",
    "omega": "ω",
    "Delta": "Δ",
    "Omega": "Ω",
    "Phi": "Φ",
}

ACCEPTED = {
    "g_local": "g",
    "h_planck": "h",
    "e_charge": "e",
    "c_light": "c",
    "G_newton": "G",
    "sigma_stefan": "σ",
    "R_rydberg": "R",
    "R_gas": "R",
    "e_m": "e/m",
}
"""Accepted values, and the ratio of charge to mass, go by what everybody writes for them."""


def number(value: float) -> str:
    """A literal without needless zeros: 2, 0.5, 1e-07."""
    return str(int(value)) if value == int(value) and abs(value) < 1e15 else repr(value)


def unparse(node: Node) -> str:
    """The text that parses to ``node`` again, with no more brackets than it needs."""
    return _plain(node, 0)


def _plain(node: Node, outer: int) -> str:
    match node:
        case Number(value, None):
            return number(value)
        case Number(value, unit):
            return f"{number(value)}[{unit}]"
        case Name(name):
            return name
        case Member(owner, name):
            return f"{owner}.{name}"
        case Negative(operand):
            inner = "-" + _plain(operand, 3)
            return f"({inner})" if outer >= 3 else inner
        case Binary("^", left, right):
            inner = f"{_plain(left, 5)}^{_plain(right, 4)}"
            return f"({inner})" if outer > 4 else inner
        case Binary(op, left, right):
            level = _PRECEDENCE[op]
            space = " " if level == 1 else ""
            inner = f"{_plain(left, level)}{space}{op}{space}{_plain(right, level + 1)}"
            return f"({inner})" if outer > level else inner
        case Compare(ops, operands):
            parts = [_plain(operands[0], 1)]
            for op, operand in zip(ops, operands[1:], strict=True):
                parts += [op, _plain(operand, 1)]
            inner = " ".join(parts)
            return f"({inner})" if outer else inner
        case Call(function, arguments):
            return f"{function}({', '.join(_plain(a, 0) for a in arguments)})"


def symbol(name: str) -> tuple[str, str]:
    """A name as letter and index: ``R_1`` is (R, 1), ``v0`` is (v, 0), ``tau`` is (τ, '')."""
    if name in ACCEPTED:
        return ACCEPTED[name], ""
    head, _, index = name.partition("_")
    if not index:
        head = name.rstrip("0123456789")
        index = name[len(head) :]
    return GREEK.get(head, head), index


def typeset(node: Node) -> str:
    """One line of Unicode: ``T²``, ``√L``, ``1/L``, ``ln T``; for places that hold no mathematics, such as SVG text."""
    return _line(node, 0)


def typeset_name(name: str) -> str:
    """A name on one line: ``R₁``, ``τ``."""
    head, index = symbol(name)
    return head + (index.translate(_LOWERED) if index.isdigit() else f"_{index}" if index else "")


def _line(node: Node, outer: int) -> str:
    match node:
        case Number(value, unit):
            shown = number(value).replace("-", "−")
            return f"{shown} {unit}" if unit else shown
        case Name(name):
            return typeset_name(name)
        case Member(_, name):
            return typeset_name(name)
        case Negative(operand):
            inner = "−" + _line(operand, 3)
            return f"({inner})" if outer >= 3 else inner
        case Binary("^", left, Number(value, None)) if value == int(value):
            return _line(left, 5) + str(int(value)).translate(_RAISED)
        case Binary("^", left, right):
            inner = f"{_line(left, 5)}^{_line(right, 4)}"
            return f"({inner})" if outer > 4 else inner
        case Binary("*", left, right):
            inner = f"{_line(left, 2)} {_line(right, 3)}"
            return f"({inner})" if outer > 2 else inner
        case Binary(op, left, right):
            level = _PRECEDENCE[op]
            sign = {"-": " − ", "+": " + "}.get(op, op)
            inner = f"{_line(left, level)}{sign}{_line(right, level + 1)}"
            return f"({inner})" if outer > level else inner
        case Compare(ops, operands):
            signs = {"<=": "≤", ">=": "≥", "==": "=", "!=": "≠"}
            parts = [_line(operands[0], 1)]
            for op, operand in zip(ops, operands[1:], strict=True):
                parts += [signs.get(op, op), _line(operand, 1)]
            return " ".join(parts)
        case Call("sqrt", (argument,)):
            inner = _line(argument, 0)
            return f"√{inner}" if isinstance(argument, Name) else f"√({inner})"
        case Call("abs", (argument,)):
            return f"|{_line(argument, 0)}|"
        case Call("ln" | "log10" | "sin" | "cos" | "tan" as function, (Name() as argument,)):
            inner = f"{function} {_line(argument, 0)}"
            return f"({inner})" if outer > 4 else inner
        case Call(function, arguments):
            return f"{function.replace('_', ' ')}({', '.join(_line(a, 0) for a in arguments)})"
