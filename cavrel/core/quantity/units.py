"""Units: from a text such as ``m/s^2`` to a factor and a dimension, once per text.

The grammar is ours, so that a hostile text costs nothing; the size of each named unit comes from pint. What pint says of the usual ones ships in
``units.json``, so that no start waits for it.
"""

import json
import math
import re
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import numpy as np
from numpy.typing import NDArray

from cavrel.core.errors import UnitError
from cavrel.core.quantity.dimension import BASE_UNIT, PLAIN, Dimension

if TYPE_CHECKING:
    import pint

SHIPPED = Path(__file__).resolve().parent / "units.json"
Real = TypeVar("Real", float, NDArray[np.float64])
_LONGEST = 60
_EXPONENT_LIMIT = 12
_SYMBOLS = {
    "°": "degree",
    "°C": "degC",
    "℃": "degC",
    "%": "percent",
    "′": "arcminute",
    "″": "arcsecond",
    "Ω": "ohm",
    "\u2126": "ohm",
    "‰": "permille",
    "Å": "angstrom",
    "\u212b": "angstrom",
}
# pint keeps the gauss to its own Gaussian system; laboratories write it for a tenth of a millitesla.
_GAUSS = {"G": 1e-4, "mG": 1e-7, "kG": 0.1, "µG": 1e-10, "gauss": 1e-4}
# pint counts physical constants among its units; in a formula they are values with an uncertainty, never units.
_NOT_UNITS = {"c", "k", "e", "hbar", "ℏ", "R_inf", "mu_0", "epsilon_0", "pi", "π"}
_SUPERSCRIPTS = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻", "0123456789-")
_RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")
_TOKEN = re.compile(
    r"\s*(?:(°[CF]|[A-Za-zµμΩ\u2126℃°%‰Å\u212b′″_]+)|(\^?\s*[-−]?\d+(?:/\d+)?|[⁻⁰¹²³⁴⁵⁶⁷⁸⁹]+)|([*·⋅/()]))"
)


@dataclass(frozen=True, slots=True)
class Unit:
    """A unit as written: SI value = ``factor`` × number + ``offset``."""

    text: str
    factor: float
    offset: float
    dimension: Dimension

    def to_si(self, number: Real) -> Real:
        return number * self.factor + self.offset

    @property
    def difference(self) -> "Unit":
        """The same unit for differences, whose zero is no difference: 5 °C of warming is 5 K."""
        return Unit(self.text, self.factor, 0.0, self.dimension) if self.offset else self

    @property
    def turning(self) -> str:
        """How a unit counts turning: ``angle`` for rad/s and °/s, ``turns`` for rpm and rps, empty where it says neither, such as Hz."""
        if self.dimension != _named("Hz")[2]:
            return ""
        if re.search(r"\b(?:rad|deg|degree|arcmin|arcsec)|[°′″]", self.text):
            return "angle"
        return "turns" if re.search(r"\b(?:rp[ms]|rev\w*|turns?|cycles?)\b", self.text) else ""

    def from_si(self, value: Real) -> Real:
        return (value - self.offset) / self.factor

    @property
    def pretty(self) -> str:
        """As a person writes it: ``m/s²``, ``kg m²``."""
        return pretty(self.text)


Named = tuple[float, float, Dimension]
"""Factor, offset and dimension of a named unit."""


@lru_cache(maxsize=1)
def _registry() -> "pint.UnitRegistry[float]":
    import pint  # half a second, which only an unusual unit asks for

    return pint.UnitRegistry(cache_folder=None)


@lru_cache(maxsize=1)
def shipped() -> Mapping[str, Named]:
    """What pint says of the usual units, by name."""
    table: dict[str, list[tuple[str, float, float]]] = json.loads(SHIPPED.read_text(encoding="utf-8"))
    kinds = {kind: _dimension(kind) for kind in table}
    return {name: (factor, zero, kinds[kind]) for kind, rows in table.items() for name, factor, zero in rows}


def _dimension(kind: str) -> Dimension:
    """From ``length=1 time=-2``."""
    powers = (part.partition("=") for part in kind.split())
    return Dimension(tuple((f"[{name}]", Fraction(power)) for name, _, power in powers))


@lru_cache(maxsize=512)
def _named(name: str) -> Named:
    """One named unit, prefix included. Raises UnitError."""
    known = shipped().get(name)
    return known if known is not None else from_pint(name)


def from_pint(name: str) -> Named:
    """The same, always computed by pint. Raises UnitError for what is no unit of physics."""
    known = _SYMBOLS.get(name, name.replace("μ", "µ"))
    if known in _NOT_UNITS or len(known) > 24:
        raise UnitError("", f"unknown unit '{name}'")
    if known in _GAUSS:
        tesla, _, kind = from_pint("T")
        return _GAUSS[known] * tesla, 0.0, kind
    registry = _registry()
    try:
        unit = registry.Unit(known)
        zero, one, two = (registry.Quantity(n, unit).to_base_units().magnitude for n in (0.0, 1.0, 2.0))
        factor = one if not zero else registry.Quantity(1.0, f"delta_{unit}").to_base_units().magnitude
    except Exception as fault:  # pint raises many kinds, an AssertionError for some texts among them
        raise UnitError("", f"unknown unit '{name}'") from fault
    if not math.isclose(two - one, one - zero, rel_tol=1e-6):
        raise UnitError("", f"'{name}' is logarithmic; type the plain value instead")
    powers = tuple(sorted((str(n), Fraction(p).limit_denominator(12)) for n, p in unit.dimensionality.items() if p))
    if any(n not in BASE_UNIT for n, _ in powers):
        raise UnitError("", f"'{name}' is not a unit of physics")
    return float(factor), float(zero), Dimension(powers)


@lru_cache(maxsize=1024)
def unit(text: str) -> Unit:
    """Read a unit text: names, ``*`` or a space between, ``/``, brackets, whole or simple broken exponents.

    Raises UnitError with the part that cannot be read.
    """
    if len(text) > _LONGEST:
        raise UnitError("", "a unit this long cannot be right")
    stripped = text.strip()
    if stripped in ("", "1"):
        return Unit("", 1.0, 0.0, PLAIN)
    tokens = _tokens(stripped)
    if len(tokens) == 1:
        factor, offset, dimension = _named(tokens[0])
        return Unit(stripped, factor, offset, dimension)
    factor, dimension, rest = _product(tokens, stripped)
    if rest:
        raise UnitError("", f"cannot read the unit '{stripped}' from '{rest[0]}' on")
    return Unit(stripped, factor, 0.0, dimension)


def parts(text: str) -> list[tuple[str, Fraction]]:
    """The names in a unit's text with their powers, in writing order: ``m/s^2`` is m and s to the power -2. Raises UnitError."""
    found, tokens = list[tuple[str, Fraction]](), _tokens(text.strip())
    stack, sign = [1], 1
    for index, token in enumerate(tokens):
        if token == "(":
            stack.append(stack[-1] * sign)
            sign = 1
        elif token == ")":
            if index + 1 < len(tokens) and (tokens[index + 1][0] in "^⁻⁰¹²³⁴⁵⁶⁷⁸⁹"):
                raise UnitError("", "a bracket with a power")
            stack.pop()
        elif token in "*·⋅/":
            sign = -1 if token == "/" else 1
        elif token == "1":
            sign = 1
        elif token[0] in "^-−⁻⁰¹²³⁴⁵⁶⁷⁸⁹" or token[0].isdigit():
            name, power = found[-1]
            digits = token.lstrip("^").replace(" ", "").replace("−", "-").translate(_SUPERSCRIPTS)
            found[-1] = name, power * Fraction(digits)
        else:
            found.append((token, Fraction(stack[-1] * sign)))
            sign = 1
    return found


def _tokens(text: str) -> list[str]:
    tokens, position = [], 0
    while position < len(text):
        match = _TOKEN.match(text, position)
        if not match:
            raise UnitError("", f"cannot read '{text[position:]}' in the unit '{text}'")
        tokens.append(next(group for group in match.groups() if group))
        position = match.end()
    return tokens


def _product(tokens: list[str], text: str) -> tuple[float, Dimension, list[str]]:
    """A product or quotient from the front of ``tokens``; a quotient divides by the one factor that follows."""
    factor, dimension, sign = 1.0, PLAIN, 1
    first = True
    while tokens and tokens[0] != ")":
        if tokens[0] in "*·⋅/" and not first:
            sign = -1 if tokens[0] == "/" else 1
            tokens = tokens[1:]
        if not tokens:
            raise UnitError("", f"the unit '{text}' ends in the middle")
        size, kind, tokens = _factor(tokens, text)
        factor, dimension = factor * size**sign, dimension * kind ** Fraction(sign)
        sign, first = 1, False
    if first:
        raise UnitError("", f"an empty bracket in the unit '{text}'")
    return factor, dimension, tokens


def _factor(tokens: list[str], text: str) -> tuple[float, Dimension, list[str]]:
    head, tokens = tokens[0], tokens[1:]
    if head == "(":
        size, kind, tokens = _product(tokens, text)
        if not tokens:
            raise UnitError("", f"a bracket is not closed in the unit '{text}'")
        tokens = tokens[1:]
    elif head == "1":
        size, kind = 1.0, PLAIN
    elif head[0] in "^-−*·⋅/)" or head[0].isdigit() or head[0] in "⁻⁰¹²³⁴⁵⁶⁷⁸⁹":
        raise UnitError("", f"cannot read '{head}' in the unit '{text}'")
    else:
        size, offset, kind = _named(head)
        if offset:
            raise UnitError("", f"'{head}' has a zero of its own and cannot be part of '{text}'; use K")
    if tokens and (tokens[0][0] in "^-−⁻⁰¹²³⁴⁵⁶⁷⁸⁹" or tokens[0][0].isdigit()):
        digits = tokens[0].lstrip("^").replace(" ", "").replace("−", "-").translate(_SUPERSCRIPTS)
        if digits.endswith("/0"):
            raise UnitError("", f"an exponent in the unit '{text}' divides by zero")
        power = Fraction(digits)
        if abs(power) > _EXPONENT_LIMIT:
            raise UnitError("", f"an exponent in the unit '{text}' is too large")
        size, kind, tokens = size ** float(power), kind**power, tokens[1:]
    return size, kind, tokens


@lru_cache(maxsize=1024)
def pretty(text: str) -> str:
    """``m/s^2`` as ``m/s²``, ``N*m`` as ``N m``, ``1/µm`` as ``µm⁻¹``: behind a number its 1 would be read as a digit."""
    reciprocal = re.fullmatch(r"1/([^\W\d_]+)", text.strip())
    if reciprocal:
        return f"{pretty(reciprocal[1])}⁻¹"
    raised = re.sub(r"\^\s*([-−]?\d+)(?!/\d|\d)", lambda m: m.group(1).replace("−", "-").translate(_RAISED), text)
    return re.sub(r"ohm\b", "Ω", raised.replace("*", " "))


@lru_cache(maxsize=1024)
def quantity(text: str) -> tuple[float, Unit]:
    """Read a number with a unit, ``1 mm`` or ``0.5 %``; returns the SI value and the unit as written.

    Raises UnitError when there is no number at the front.
    """
    match = re.fullmatch(r"\s*([-+−]?\d+(?:[.,]\d+)?(?:[eE][-+]?\d{1,3})?)\s*(.*?)\s*", text)
    if not match or len(text) > 2 * _LONGEST:
        raise UnitError("", f"'{text[:40]}' is not a number with a unit, such as '1 mm'")
    as_unit = unit(match.group(2))
    return as_unit.to_si(float(match.group(1).replace(",", ".").replace("−", "-"))), as_unit
