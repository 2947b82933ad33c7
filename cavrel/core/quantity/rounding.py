"""Numbers for people: rounded in step with their uncertainty, a real minus sign, powers of ten where they help."""

import math
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, ROUND_UP, Context, Decimal
from functools import lru_cache

from cavrel.core.quantity import units

THIN = "\u2009"
MINUS = "\u2212"
_RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")
_PLAIN_DECADES = (-3, 5)
"""Values from 0.001 up to 99999 stand without a power of ten."""


@dataclass(frozen=True, slots=True)
class Rounded:
    """``value`` and ``u`` as digits (ASCII), both times ``10**exponent``; ``u`` empty where none is known; ``last``: the decade of the last
    figure."""

    value: str
    u: str
    exponent: int
    last: int = 0


MOST_FIGURES = 17
"""A double holds no more figures; where u is smaller than the last of them, one unit of that figure is shown for it."""
_EXACT = Context(prec=2000, Emin=-9999, Emax=9999, traps=[])


def _decade(number: float | Decimal) -> int:
    """The power of ten of the first figure: -2 for 0.04, 0 for 3."""
    return _decimal(number).adjusted()


def _decimal(number: float | Decimal) -> Decimal:
    return number if isinstance(number, Decimal) else Decimal(repr(float(number)))


def _to(number: float | Decimal, last: int, way: str = ROUND_HALF_UP) -> Decimal:
    """``number`` rounded to the decade ``last``; halves away from zero, as a person does with a pencil."""
    return _decimal(number).quantize(Decimal(1).scaleb(last), rounding=way, context=_EXACT)


def u_figures(u: float, rule: str) -> int:
    """How many significant figures of ``u`` > 0 to keep by the house rule ``rounding``.

    ``pdg``: the Particle Data Group's rule: by the three leading digits, up to 354 two figures, up to 949 one, above that the
    uncertainty is rounded up to 1000 and two figures are kept.
    """
    if rule in ("one", "two"):
        return 1 if rule == "one" else 2
    figures = _decimal(u).scaleb(-_decade(u))
    if rule == "pdg":
        return 1 if 355 <= int(figures.scaleb(2)) <= 949 else 2
    return 2 if _to(figures, -1) < 2 else 1  # 0.096 keeps one and is written 0.10


def last_decade(u: float, rule: str) -> int:
    """The decade of the last figure kept of ``u``: -2 for 0.04, 0 for 3."""
    figures, decade = u_figures(u, rule), _decade(u)
    last = decade - figures + 1
    # What rounds up to the next decade keeps its number of figures: 9.96 by two is 10, 0.096 by one is 0.1, 0.964 by pdg is 1.0. By
    # one or two, 0.096 becomes 0.10, for that starts with 1.
    up = _to(u, last).adjusted() > decade and rule in ("one", "two")
    if rule == "pdg":
        up = int(_decimal(u).scaleb(2 - decade)) > 949
    return last + up


def in_step(value: float, u: float, rule: str = "one_or_two") -> Rounded:
    """Round ``value`` to the last figure kept of ``u``. Without a usable ``u``, four significant figures. Halves go away from zero."""
    if not math.isfinite(value):
        return Rounded("", "", 0)
    usable = math.isfinite(u) and u > 0
    last = last_decade(u, rule) if usable else (_decade(value) - 3 if value else 0)
    last = max(last, _decade(value) - MOST_FIGURES + 1) if value else last
    rounded = _to(value, last)
    spread = _to(u, last) if usable else Decimal(0)
    if usable and not spread:
        spread = _to(u, last, ROUND_UP)
    largest = max(abs(rounded), spread)
    top = largest.adjusted() if largest else 0
    plain = _PLAIN_DECADES[0] <= top < _PLAIN_DECADES[1] and last <= 0
    exponent = 0 if plain else top
    return Rounded(_digits(rounded, exponent), _digits(spread, exponent) if usable else "", exponent, last)


def at_decade(value: float, last: int, exponent: int) -> str:
    """``value`` as digits down to the decade ``last``, times ``10**exponent``: another number on the scale of one that is rounded already."""
    return _digits(_to(value, last), exponent) if math.isfinite(value) else ""


def _digits(rounded: Decimal, exponent: int) -> str:
    text = f"{rounded.scaleb(-exponent, context=_EXACT):f}"
    return text if text.strip("-0.") else text.lstrip("-")


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


@lru_cache(maxsize=16384)  # a table of five hundred rows shows most of its numbers again in each save
def fixed(value: float, decimals: int) -> str:
    """A number with ``decimals`` decimals and a real minus sign; empty for NaN."""
    if not math.isfinite(value):
        return ""
    return _digits(_to(value, -max(decimals, 0)), 0).replace("-", MINUS)


@lru_cache(maxsize=16384)
def significant(value: float, figures: int = 2) -> str:
    """A number to ``figures`` significant figures, without a power of ten where that stays readable."""
    if not math.isfinite(value):
        return ""
    if value == 0:
        return "0"
    last = _decade(value) - figures + 1
    rounded = _to(value, last)
    decade = rounded.adjusted()
    last = decade - figures + 1
    if decade < -4 or decade > 5:
        return f"{_digits(_to(rounded, last), decade)}{power(decade)}".replace("-", MINUS)
    return _digits(_to(rounded, min(last, 0)), 0).replace("-", MINUS)


def percent(share: float) -> str:
    """A percentage for a sentence: ``0.2``, ``3.1``, ``18``."""
    return significant(share, 2) if abs(share) >= 0.095 else significant(share, 1)
