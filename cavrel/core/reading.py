"""A reading as a person types it: ``39.0``, ``39,0``, ``390 mm``, ``49.8 ± 0.1``, ``1.2e-3``, ``1:23.45``, ``31°24′``.

The text is what is kept; everything here is derived from it.
"""

import math
import re
from functools import lru_cache
from typing import NamedTuple

from cavrel.core import units
from cavrel.core.errors import ReadingError, UnitError
from cavrel.core.units import Unit

LONGEST = 80

_NUMBER = r"[-+]?(?:\d+(?:[.,]\d*)?|[.,]\d+)"
_POWER = r"(?:[eE]([-+]?\d{1,3})|\s*[x×*·]\s*10\s*\^?\s*([-+]?\d{1,3}|[⁻⁺]?[⁰¹²³⁴⁵⁶⁷⁸⁹]{1,3}))?"
_READING = re.compile(
    rf"\s*(?P<open>\()?\s*(?P<number>{_NUMBER})(?:\((?P<digits>\d{{1,3}})\))?"
    rf"(?P<power1>{_POWER})\s*(?:(?:±|\+/-|\+-)\s*(?P<stated>{_NUMBER})(?P<power2>{_POWER}))?\s*"
    rf"(?P<close>\))?(?P<power3>{_POWER})\s*(?P<unit>\D.*?)?\s*"
)
_PLAIN = re.compile(r"-?\d{1,15}(?:[.,](\d{0,15}))?", re.ASCII)
_CLOCK = re.compile(r"\s*(\d{1,3}):([0-5]\d(?:[.,]\d+)?)\s*(?:s|min)?\s*")
_SMALL = r"[0-5]?\d(?:[.,]\d+)?"
_ARC = re.compile(
    rf"\s*(?P<sign>[-+]?)(?P<degrees>\d{{1,3}})\s*°\s*(?P<minutes>{_SMALL})\s*['′’]"
    rf"\s*(?:(?P<seconds>{_SMALL})\s*(?:\"|″|''|′′))?\s*"
)
_SUPERSCRIPTS = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻⁺", "0123456789-+")


class Reading(NamedTuple):
    """A reading understood.

    ``value`` SI; ``decimals`` as typed, counted in ``unit`` (negative for 1.2e3: -2); ``stated`` the ± part, SI, or None.
    """

    text: str
    value: float
    decimals: int
    unit: Unit
    stated: float | None = None

    @property
    def last_digit(self) -> float:
        """The size, SI, of one step of the last digit typed."""
        return float(self.unit.factor * 10.0**-self.decimals)


@lru_cache(maxsize=16384)
def read(text: str, unit_text: str) -> Reading:
    """Understand ``text``; a number without a unit is in ``unit_text``.

    Raises ReadingError with what is wrong; the caller keeps the text whatever happens.
    """
    default = units.unit(unit_text)
    plain = _PLAIN.fullmatch(text)
    if plain:  # nearly every reading; the long way round is for the others
        value = float(text.replace(",", ".")) * default.factor + default.offset
        return Reading(text, value, len(plain[1] or ""), default)
    written = text.replace("−", "-").replace("\u2009", " ").replace("\u00a0", " ").replace("\u202f", " ")
    if len(written) > LONGEST:
        raise ReadingError("", f"a reading this long ({len(text)} characters) cannot be right")
    arc = _ARC.fullmatch(written)
    if arc:
        return _arc(text, arc, default)
    clock = _CLOCK.fullmatch(written)
    if clock:
        return _clock(text, clock, default)
    match = _READING.fullmatch(written)
    if not match:
        raise ReadingError("", f"'{text}' is not a number; write it like 39.0, 39,0 or 1.2e-3")
    if bool(match["open"]) != bool(match["close"]):
        raise ReadingError("", f"a bracket is not closed in '{text}'")
    if re.match(r"[\d.,]", match["unit"] or "") or re.search(r"\d[.,]\d*[.,]", written):
        raise ReadingError("", f"'{text}' holds two decimal marks; write 1234.5 without a mark for thousands")
    unit = _own_unit(text, match["unit"], default)
    number = match["number"].replace(",", ".")
    outer = _exponent(match["power3"])
    exponent = _exponent(match["power1"]) + outer
    decimals = len(number.partition(".")[2]) - exponent
    value = unit.to_si(float(f"{number}e{exponent}"))
    stated = None
    if match["digits"]:
        stated = unit.factor * int(match["digits"]) * 10.0**-decimals
    if match["stated"]:
        if match["digits"]:
            raise ReadingError("", f"'{text}' gives its uncertainty twice")
        stated = unit.factor * float(f"{match['stated'].replace(',', '.')}e{_exponent(match['power2']) + outer}")
        if stated < 0:
            raise ReadingError("", f"the uncertainty in '{text}' is negative")
    if not abs(value) < 1e300:
        raise ReadingError("", f"'{text}' is too large to be a reading")
    return Reading(text, value, decimals, unit, stated)


def _exponent(text: str) -> int:
    digits = text.translate(_SUPERSCRIPTS).replace("^", " ")
    found = re.search(r"[-+]?\d+\s*$", digits)
    return int(found.group()) if found else 0


def _own_unit(text: str, own: str | None, default: Unit) -> Unit:
    if not own:
        return default
    try:
        unit = units.unit(own)
    except UnitError as fault:
        raise ReadingError("", f"{fault.what} in '{text}'") from fault
    if unit.dimension != default.dimension:
        raise ReadingError(
            "", f"'{text}' is in {unit.pretty}, but this column is in {default.pretty or 'plain numbers'}"
        )
    return unit


def _clock(text: str, match: re.Match[str], default: Unit) -> Reading:
    second = units.unit("s")
    if default.dimension != second.dimension:
        raise ReadingError(
            "", f"'{text}' is minutes and seconds, but this column is in {default.pretty or 'plain numbers'}"
        )
    seconds = match[2].replace(",", ".")
    return Reading(text, 60.0 * int(match[1]) + float(seconds), len(seconds.partition(".")[2]), second)


def _arc(text: str, match: re.Match[str], default: Unit) -> Reading:
    """Degrees, minutes and seconds of arc; the last digit is that of the smallest part typed."""
    if not default.dimension.plain or default.text == "":
        raise ReadingError(
            "", f"'{text}' is degrees and minutes, but this column is in {default.pretty or 'plain numbers'}"
        )
    smallest = units.unit("arcsec" if match["seconds"] else "arcmin")
    minutes, seconds = match["minutes"].replace(",", "."), (match["seconds"] or "0").replace(",", ".")
    value = (60.0 * int(match["degrees"]) + float(minutes)) * units.unit("arcmin").factor
    value += float(seconds) * units.unit("arcsec").factor
    last = seconds if match["seconds"] else minutes
    return Reading(text, -value if match["sign"] == "-" else value, len(last.partition(".")[2]), smallest)


def decimals_of(least_count: float, unit: Unit) -> int:
    """How many decimals an instrument gives in ``unit``: 1 mm in cm is 1, 0.05 mm in mm is 2, a minute of arc in degrees 2. ``least_count``
    SI."""
    step = least_count / unit.factor
    decimals = len(f"{step:.9f}".rstrip("0").partition(".")[2])
    # A step that no decimals can write, such as a sixtieth, needs those that tell it from its neighbour.
    return decimals if decimals < 8 or step <= 0 else max(0, math.ceil(-math.log10(step)))
