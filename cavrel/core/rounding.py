"""Numbers for people: rounded in step with their uncertainty, a real minus sign, powers of ten where they help."""

import math
from dataclasses import dataclass
from decimal import ROUND_HALF_EVEN, Decimal

from cavrel.core import units

THIN = "\u2009"
MINUS = "\u2212"
_RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")
_PLAIN_DECADES = (-3, 5)
"""Values from 0.001 up to 99999 stand without a power of ten."""


@dataclass(frozen=True, slots=True)
class Rounded:
    """``value`` and ``u`` as digits (ASCII), both times ``10**exponent``; ``u`` empty where none is known."""

    value: str
    u: str
    exponent: int


def u_figures(u: float, rule: str) -> int:
    """How many significant figures of ``u`` > 0 to keep by the house rule ``rounding``.

    ``pdg``: the Particle Data Group's rule: by the three leading digits, up to 354 two figures, up to 949 one, above that the
    uncertainty is rounded up to 1000 and two figures are kept.
    """
    if rule == "one":
        return 1
    if rule == "two":
        return 2
    decade = math.floor(math.log10(u))
    leading = u / 10.0**decade
    if rule == "pdg":
        three = round(leading * 100)
        return 1 if 355 <= three <= 949 else 2
    return 2 if round(leading, 1) < 2 else 1  # 0.096 keeps one and is written 0.10


def last_decade(u: float, rule: str) -> int:
    """The decade of the last figure kept of ``u``: -2 for 0.04, 0 for 3."""
    figures = u_figures(u, rule)
    decade = math.floor(math.log10(u))
    last = decade - figures + 1
    if rule == "pdg" and round(u / 10.0**decade * 100) > 949:
        last += 1  # 0.964 is 1.0, not 0.96
    return last


def in_step(value: float, u: float, rule: str = "one_or_two") -> Rounded:
    """Round ``value`` to the last figure kept of ``u``. Without a usable ``u``, four significant figures."""
    if not math.isfinite(value):
        return Rounded("", "", 0)
    usable = math.isfinite(u) and u > 0
    last = last_decade(u, rule) if usable else (math.floor(math.log10(abs(value))) - 3 if value else 0)
    largest = max(abs(value), u if usable else 0.0)
    top = math.floor(math.log10(largest)) if largest > 0 else 0
    plain = _PLAIN_DECADES[0] <= top < _PLAIN_DECADES[1] and last <= 0
    exponent = 0 if plain else top
    return Rounded(_digits(value, last, exponent), _digits(u, last, exponent) if usable else "", exponent)


def _digits(number: float, last: int, exponent: int) -> str:
    step = Decimal(1).scaleb(last)
    rounded = Decimal(repr(float(number))).quantize(step, rounding=ROUND_HALF_EVEN)
    shifted = rounded.scaleb(-exponent)
    text = f"{shifted:f}"
    return text.lstrip("-") if not any(c in "123456789" for c in text) else text


def power(exponent: int, ascii_only: bool = False) -> str:
    """``× 10⁻³``, or ``e-3``; empty for 0."""
    if exponent == 0:
        return ""
    return f"e{exponent}" if ascii_only else f" × 10{str(exponent).translate(_RAISED)}"


def with_u(value: float, u: float, unit: str = "", rule: str = "one_or_two", ascii_only: bool = False) -> str:
    """``9.79 ± 0.04 m/s²``, ``(6.7 ± 0.2) × 10⁻¹¹ m³/(kg s²)``; in ASCII ``9.79 +- 0.04 m/s^2``. ``value``, ``u`` in ``unit``."""
    rounded = in_step(value, u, rule)
    if not rounded.value:
        return ""
    body = rounded.value
    if rounded.u:
        body += f" {'+-' if ascii_only else '±'} {rounded.u}"
        if rounded.exponent:
            body = f"({body})"
    body += power(rounded.exponent, ascii_only)
    shown = unit if ascii_only else units.pretty(unit)
    space = " " if ascii_only else THIN
    text = f"{body}{space}{shown}" if shown else body
    return text if ascii_only else text.replace("-", MINUS)


def concise(value: float, u: float, rule: str = "one_or_two") -> str:
    """``9.79(4)``: the uncertainty in units of the last digit."""
    rounded = in_step(value, u, rule)
    if not rounded.u:
        return rounded.value.replace("-", MINUS)
    if "." in rounded.u and rounded.u.lstrip("0.") and Decimal(rounded.u) >= 1:
        inside = rounded.u
    else:
        inside = rounded.u.replace(".", "").lstrip("0")
    return f"{rounded.value}({inside}){power(rounded.exponent)}".replace("-", MINUS)


def fixed(value: float, decimals: int) -> str:
    """A number with ``decimals`` decimals and a real minus sign; empty for NaN."""
    if not math.isfinite(value):
        return ""
    text = f"{value:.{max(decimals, 0)}f}"
    if not any(c in "123456789" for c in text):
        text = text.lstrip("-")
    return text.replace("-", MINUS)


def significant(value: float, figures: int = 2) -> str:
    """A number to ``figures`` significant figures, without a power of ten where that stays readable."""
    if not math.isfinite(value):
        return ""
    if value == 0:
        return "0"
    decade = math.floor(math.log10(abs(value)))
    rounded = round(value, figures - 1 - decade)
    decade = math.floor(math.log10(abs(rounded))) if rounded else decade
    if decade < -4 or decade > 5:
        digits = f"{rounded / 10.0**decade:.{figures - 1}f}"
        return f"{digits}{power(decade)}".replace("-", MINUS)
    return fixed(rounded, figures - 1 - decade)


def percent(share: float) -> str:
    """A percentage for a sentence: ``0.2``, ``3.1``, ``18``."""
    return significant(share, 2) if abs(share) >= 0.095 else significant(share, 1)
