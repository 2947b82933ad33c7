"""A formula as MathML (MathML Core, presentation)."""

from html import escape

from cavrel.core.formula.nodes import Binary, Call, Compare, Member, Name, Negative, Node, Number
from cavrel.core.formula.text import number, symbol
from cavrel.core.quantity import units

_RELATION = {"<=": "≤", ">=": "≥", "==": "=", "!=": "≠", "<": "<", ">": ">"}


def math(*rows: str, display: bool = False, label: str = "") -> str:
    """Wrap MathML rows in a ``<math>`` element; ``label`` is what a screen reader says."""
    block = ' display="block"' if display else ""
    said = f' aria-label="{escape(label)}"' if label else ""
    return f"<math{block}{said}><mrow>{''.join(rows)}</mrow></math>"


def name(text: str) -> str:
    """A symbol, its index lowered: ``R_1``, ``v0``, ``tau``. Words of several letters stand upright."""
    head, index = symbol(text)
    letter = f"<mi>{escape(head)}</mi>"
    if not index:
        return letter
    below = f"<mn>{escape(index)}</mn>" if index.isdigit() else f"<mtext>{escape(index)}</mtext>"
    return f"<msub>{letter}{below}</msub>"


def row(node: Node, meaning: dict[Node, str] | None = None) -> str:
    """The MathML of ``node``; a subtree found in ``meaning`` is printed as the markup given for it."""
    return _row(node, 0, meaning or {})


def factor(node: Node) -> str:
    """The MathML of ``node`` as what follows a product sign: a sum stands in brackets."""
    return _row(node, 3, {})


def equation(left: Node, right: Node, meaning: dict[Node, str] | None = None) -> str:
    """``left = right``."""
    return f"{row(left, meaning)}<mo>=</mo>{row(right, meaning)}"


def _bracketed(inner: str) -> str:
    return f"<mrow><mo>(</mo>{inner}<mo>)</mo></mrow>"


def _row(node: Node, outer: int, meaning: dict[Node, str]) -> str:
    if node in meaning:
        return meaning[node]
    match node:
        case Number(value, unit):
            shown = f"<mn>{escape(number(abs(value)))}</mn>"
            if value < 0:
                shown = f"<mrow><mo>−</mo>{shown}</mrow>"
            if unit:
                shown = f'<mrow>{shown}<mspace width="0.17em"/><mtext>{escape(units.pretty(unit))}</mtext></mrow>'
            # Two signs in a row, and the square of a length that is read as so many square centimetres.
            return _bracketed(shown) if (value < 0 and outer >= 2) or (unit and outer >= 5) else shown
        case Name(text):
            return name(text)
        case Member(_, text):
            return f"<mtext>{escape(text)}</mtext>" if len(text) > 1 else name(text)
        case Negative(operand):
            inner = f"<mrow><mo>−</mo>{_row(operand, 3, meaning)}</mrow>"
            return _bracketed(inner) if outer >= 3 else inner
        case Binary("/", left, right):
            return f"<mfrac><mrow>{_row(left, 0, meaning)}</mrow><mrow>{_row(right, 0, meaning)}</mrow></mfrac>"
        case Binary("^", left, right):
            base = _row(left, 5, meaning)
            # tan φ squared is (tan φ)², not the tangent of φ².
            if (isinstance(left, Binary) and left.op == "/") or (
                isinstance(left, Call) and left.function not in ("sqrt", "abs")
            ):
                base = _bracketed(base)
            return f"<msup><mrow>{base}</mrow><mrow>{_row(right, 0, meaning)}</mrow></msup>"
        case Binary("*", left, right):
            # Two numbers side by side would read as one; elsewhere a thin space is the product sign.
            sign = "<mo>·</mo>" if isinstance(right, Number) else '<mspace width="0.17em"/>'
            inner = f"{_row(left, 2, meaning)}{sign}{_row(right, 3, meaning)}"
            return _bracketed(inner) if outer > 2 else inner
        case Binary(op, left, right):
            sign = "−" if op == "-" else op
            inner = f"{_row(left, 1, meaning)}<mo>{sign}</mo>{_row(right, 2, meaning)}"
            return _bracketed(inner) if outer > 1 else inner
        case Compare(ops, operands):
            parts = [_row(operands[0], 1, meaning)]
            for op, operand in zip(ops, operands[1:], strict=True):
                parts += [f"<mo>{escape(_RELATION[op])}</mo>", _row(operand, 1, meaning)]
            return "".join(parts)
        case Call("sqrt", (argument,)):
            return f"<msqrt>{_row(argument, 0, meaning)}</msqrt>"
        case Call("abs", (argument,)):
            return f"<mrow><mo>|</mo>{_row(argument, 0, meaning)}<mo>|</mo></mrow>"
        case Call("exp", (argument,)):
            return f"<msup><mi>e</mi><mrow>{_row(argument, 0, meaning)}</mrow></msup>"
        case Call(function, arguments):
            word = escape(function.replace("_", " "))
            inside = "<mo>,</mo>".join(_row(a, 0, meaning) for a in arguments)
            if len(arguments) == 1 and isinstance(arguments[0], Name | Number):
                return f'<mrow><mi>{word}</mi><mspace width="0.17em"/>{inside}</mrow>'
            return f"<mrow><mi>{word}</mi>{_bracketed(inside)}</mrow>"
