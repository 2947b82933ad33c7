"""A reading as a person types it: ``39.0``, ``39,0``, ``390 mm``, ``49.8 ± 0.1``, ``1.2e-3``, ``1:23.45``, ``31°24′``, ``30 to 60``,
``300 lines/mm``, ``1/300 mm``; on a vernier ``4.3 + 7``.

The text is what is kept; everything here is derived from it.
"""

import math
import re
from collections.abc import Sequence
from functools import lru_cache
from itertools import accumulate
from typing import NamedTuple

from cavrel.core.errors import ReadingError, UnitError
from cavrel.core.quantity import units
from cavrel.core.quantity.units import Unit

LONGEST = 80

_NUMBER = r"[-+]?(?:\d+(?:[.,]\d*)?|[.,]\d+)"
_POWER = r"(?:[eE]([-+]?\d{1,4})|\s*[x×*·]\s*10(?:\s*\^\s*([-+]?\d{1,4})|([⁻⁺]?[⁰¹²³⁴⁵⁶⁷⁸⁹]{1,4})|([-+]\d{1,4})))"
_SIDE = re.compile(
    rf"(?P<number>{_NUMBER})(?:\((?P<digits>\d{{1,3}}(?:[.,]\d{{1,3}})?)\))?(?P<power>{_POWER})?\s*(?P<unit>\D.*)?",
    re.ASCII,
)
_TAIL = re.compile(rf"(?P<power>{_POWER})?\s*(?P<unit>\D.*)?", re.ASCII)
_ABOUT = re.compile(r"±|\+/-|\+-")
_PLAIN = re.compile(r"-?\d{1,15}(?:\.(\d{0,15}))?", re.ASCII)
_CLOCK = re.compile(r"\s*(\d{1,3}):([0-5]\d(?:[.,]\d+)?)\s*(?:s|min)?\s*", re.ASCII)
_SMALL = r"[0-5]?\d(?:[.,]\d+)?"
_ARC = re.compile(
    rf"\s*(?P<sign>[-+]?)(?P<degrees>\d{{1,3}})\s*°\s*(?P<minutes>{_SMALL})\s*['′]"
    rf"\s*(?:(?P<seconds>{_SMALL})\s*(?:\"|″|''|′′))?\s*",
    re.ASCII,
)
_COINCIDENCE = re.compile(r"(?P<main>\d[^eExX×*·+±]*[\d°'′\"″])\s*\+\s*(?P<mark>\d{1,3})")
_INTERVAL = re.compile(r"(?P<begin>.*\S)\s+to\s+(?P<end>\S.*)")
_LINES = re.compile(rf"(?P<number>{_NUMBER})\s*(?:lines?|slits?)?\s*(?:/|per)\s*(?P<unit>[^\W\d]\S*)", re.ASCII)
_SHARE = re.compile(rf"1\s*/\s*(?P<number>{_NUMBER})\s*(?P<unit>[^\W\d]\S*)?", re.ASCII)
_SUPERSCRIPTS = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻⁺", "0123456789-+")
_SPACES = str.maketrans("−\u2009\u00a0\u202f’", "-   ′")
_THOUSANDS = re.compile(r"[-+]?[1-9]\d{0,2},\d{3}")
_REACH = 300
"""Readings and their last digits lie within so many powers of ten, where no product of two of them is expected yet."""


class Reading(NamedTuple):
    """A reading understood.

    ``value``: SI.
    ``decimals``: as typed, counted in ``unit`` (negative for 1.2e3: -2).
    ``stated``: the ± part, SI, or None.
    ``doubt``: how it was understood, where it can be meant in two ways; else empty.
    ``ends``: where an interval begins and ends, SI; its value is its middle.
    """

    text: str
    value: float
    decimals: int
    unit: Unit
    stated: float | None = None
    doubt: str = ""
    ends: tuple[float, float] | None = None

    @property
    def last_digit(self) -> float:
        """The size, SI, of one step of the last digit typed."""
        return float(self.unit.factor * 10.0**-self.decimals)


class _Side(NamedTuple):
    """One side of ±: digits as typed (a point for the decimal mark), power of ten, its own uncertainty's digits, its unit's text."""

    number: str
    exponent: int
    digits: str
    unit: str
    text: str


def read_plain(texts: Sequence[str], unit_text: str, difference: bool = False) -> list[Reading] | None:
    """`read` for a whole column of plain numbers, as nearly all are; None where any is something else."""
    default, found = _default(unit_text, difference), list[Reading]()
    for text in texts:
        plain = _PLAIN.fullmatch(text)
        if plain is None:
            return None
        found.append(_plain(plain, default))
    return found


@lru_cache(maxsize=16384)
def read(text: str, unit_text: str, difference: bool = False) -> Reading:
    """Understand ``text``; a number without a unit is in ``unit_text``. ``difference``: the place holds differences, in which 5 °C is 5 K.

    Raises ReadingError with what is wrong; the caller keeps the text whatever happens.
    """
    default = _default(unit_text, difference)
    plain = _PLAIN.fullmatch(text)
    if plain:
        return _plain(plain, default)
    written = text.translate(_SPACES).strip()
    if len(written) > LONGEST:
        raise ReadingError("", f"a reading this long ({len(text)} characters) cannot be right")
    sides = [side.strip() for side in _ABOUT.split(written)]
    if len(sides) > 2:
        raise ReadingError("", f"'{text}' gives its uncertainty twice")
    clock = _CLOCK.fullmatch(sides[0])
    if clock and len(sides) == 1:
        return _clock(text, clock, default)
    arc = _ARC.fullmatch(sides[0])
    if arc:
        found = _arc(text, arc, default)
        return found if len(sides) == 1 else found._replace(stated=_stated_alone(text, sides[1], found.unit))
    if len(sides) == 1 and (
        special := _interval(text, sides[0], unit_text, difference) or _lines(text, sides[0], default)
    ):
        return special
    return _number(text, sides, default, difference)


def read_at(text: str, unit_text: str, difference: bool, least_count: float | None) -> Reading:
    """`read`, on an instrument of this least count, SI: ``4.3 + 7`` is the main scale's mark and the line of the vernier that meets one.
    Raises ReadingError."""
    found = _COINCIDENCE.fullmatch(text.translate(_SPACES).strip())
    if found is None:
        return read(text, unit_text, difference)
    if not least_count:
        raise ReadingError("", f"'{text}' needs the vernier's least count; enter it in Plan, or type one number")
    main = read(found["main"], unit_text, difference)
    value = main.value + int(found["mark"]) * least_count
    return Reading(text, value, max(decimals_of(least_count, main.unit), main.decimals), main.unit)


def _interval(text: str, side: str, unit_text: str, difference: bool) -> Reading | None:
    """``30 to 60``: what a counter counted through; its value is the middle."""
    found = _INTERVAL.fullmatch(side)
    if found is None:
        return None
    end = read(found["end"], unit_text, difference)
    begin = read(found["begin"], end.unit.text if _PLAIN.fullmatch(found["begin"]) else unit_text, difference)
    if begin.unit.dimension != end.unit.dimension:
        raise ReadingError("", f"the ends of '{text}' are in different units")
    if not begin.value < end.value:
        raise ReadingError("", f"'{text}' ends before it begins")
    return Reading(
        text, (begin.value + end.value) / 2, max(begin.decimals, end.decimals), end.unit, ends=(begin.value, end.value)
    )


def _lines(text: str, side: str, default: Unit) -> Reading | None:
    """``300 lines/mm`` and ``1/300 mm``: so many lines on a length, or the distance between two of them, whichever the place holds."""
    lines, share = _LINES.fullmatch(side), _SHARE.fullmatch(side)
    if share is None and (lines is None or not re.search("line|slit", side)):
        return None
    found = share or lines
    assert found is not None
    number = float(found["number"].replace(",", "."))
    if not number > 0:
        raise ReadingError("", f"'{text}' names no number of lines")
    per = units.unit(f"1/{found['unit']}") if found["unit"] else units.unit("")
    value, step = number * per.factor, per.factor * 10.0 ** -len(found["number"].replace(",", ".").partition(".")[2])
    if default.dimension == units.unit("").dimension / per.dimension and not (default.dimension.plain and lines):
        value, step = 1 / value, step / value**2
    elif default.dimension != per.dimension or share is not None:
        raise ReadingError("", f"'{text}' cannot be a reading in {default.pretty or 'plain numbers'}")
    return Reading(text, value, -math.floor(math.log10(step / default.factor)), default)


def _default(unit_text: str, difference: bool) -> Unit:
    """The unit of a number that names none."""
    unit = units.unit(unit_text)
    return unit.difference if difference else unit


def _plain(match: re.Match[str], unit: Unit) -> Reading:
    return Reading(match[0], float(match[0]) * unit.factor + unit.offset, len(match[1] or ""), unit)


def _number(text: str, sides: list[str], default: Unit, difference: bool) -> Reading:
    outer, own = 0, ""
    if sides[0].startswith("("):
        sides, outer, own = _unbracketed(text, sides)
    value = _side(text, sides[0])
    stated = _side(text, sides[1]) if len(sides) == 2 else None
    if own and (value.unit or (stated and stated.unit)):
        raise ReadingError("", f"'{text}' names its unit twice")
    if stated is not None and (value.digits or stated.digits):
        raise ReadingError("", f"'{text}' gives its uncertainty twice")
    of_value = (stated.unit if stated and stated.unit and not value.unit else value.unit) or own
    relative = stated is not None and not own and _relative(text, value, stated, default)
    unit = _own_unit(text, value.unit if relative else of_value, default, difference)
    exponent = value.exponent + outer
    decimals = len(value.number.partition(".")[2]) - exponent
    if abs(exponent) > _REACH or abs(decimals) > _REACH:
        raise ReadingError("", f"'{text}' is too large or too small to be a reading")
    si = unit.to_si(float(f"{value.number}e{exponent}"))
    spread = None
    if value.digits:
        given = value.digits.replace(",", ".")  # in steps of the last digit, or with a mark of its own: 12.3(1.0)
        spread = unit.factor * float(f"{given}e{exponent if '.' in given else -decimals}")
    if stated is not None:
        power = stated.exponent + outer
        if stated.number.startswith("-"):
            raise ReadingError("", f"the uncertainty in '{text}' is negative")
        if abs(power) > _REACH:
            raise ReadingError("", f"'{text}' is too large or too small to be a reading")
        size = float(f"{stated.number}e{power}")
        if relative:
            spread = abs(si - unit.offset) * size / 100
        else:
            other = _own_unit(text, stated.unit, unit, difference) if stated.unit and value.unit else unit
            spread = other.factor * size
    if not abs(si) < 1e300 or (spread is not None and not spread < 1e300):
        raise ReadingError("", f"'{text}' is too large to be a reading")
    doubt = ""
    if _THOUSANDS.fullmatch(sides[0].partition(" ")[0]) and not value.exponent:
        plain = value.number.replace(".", "")
        doubt = f"The comma was taken as the decimal mark: {value.number}. If you mean {plain}, write {plain}."
    return Reading(text, si, decimals, unit, spread, doubt)


def _unbracketed(text: str, sides: list[str]) -> tuple[list[str], int, str]:
    """``(6.7 ± 0.2) × 10⁻¹¹ m``: what stands inside, and the power and unit that stand outside."""
    whole = " ± ".join(sides)
    depths = list(accumulate((c == "(") - (c == ")") for c in whole))
    if 0 not in depths:
        raise ReadingError("", f"a bracket is not closed in '{text}'")
    end = depths.index(0)
    inside, tail = whole[1:end], whole[end + 1 :]
    match = _TAIL.fullmatch(tail.rstrip())
    if not match:
        raise ReadingError("", f"'{text}' is not a number; write it like 39.0, 39,0 or 1.2e-3")
    return [s.strip() for s in inside.split("±")], _exponent(match["power"]), (match["unit"] or "").strip()


def _side(text: str, side: str) -> _Side:
    match = _SIDE.fullmatch(side)
    if not match:
        raise ReadingError("", f"'{text}' is not a number; write it like 39.0, 39,0 or 1.2e-3")
    unit = (match["unit"] or "").strip()
    if re.match(r"[x×*·]\s*10", unit):
        raise ReadingError("", f"'{text}' can be read in two ways; write a power of ten as 2x10^3, 2 × 10³ or 2e3")
    if re.match(r"[.,]", unit) or re.search(r"\d[.,]\d*[.,]", match["number"] + unit):
        raise ReadingError("", f"'{text}' has two decimal marks; write 1234.5 without a mark for thousands")
    if ")" in unit and unit.count("(") != unit.count(")"):
        raise ReadingError("", f"a bracket is not closed in '{text}'")
    return _Side(match["number"].replace(",", "."), _exponent(match["power"]), match["digits"] or "", unit, side)


def _exponent(power: str | None) -> int:
    found = re.fullmatch(_POWER, power or "")
    if not found:
        return 0
    return int(next(group for group in found.groups() if group).translate(_SUPERSCRIPTS))


def _relative(text: str, value: _Side, stated: _Side, default: Unit) -> bool:
    """Whether the ± is a percentage of the value: ``39.0 cm ± 2 %``, or ``39.0 ± 2 %`` in a column of lengths."""
    if stated.unit != "%" or value.unit == "%" or (not value.unit and default.text == "%"):
        return False
    if not value.unit and default.text == "":
        raise ReadingError(
            "", f"'{text}' can be read in two ways; write {value.text} % ± {stated.text}, or the ± as a plain number"
        )
    return True


def _stated_alone(text: str, side: str, default: Unit) -> float:
    """The ± of a reading in degrees and minutes: in the smallest part typed, unless it names its unit."""
    stated = _side(text, side)
    unit = units.unit("arcmin") if stated.unit == "'" else _own_unit(text, stated.unit, default, True)
    size = float(f"{stated.number}e{stated.exponent}") * unit.factor if abs(stated.exponent) <= _REACH else math.inf
    if not 0 <= size < 1e300:
        raise ReadingError("", f"the uncertainty in '{text}' cannot be right")
    return size


def _own_unit(text: str, own: str, default: Unit, difference: bool = False) -> Unit:
    if not own:
        return default
    try:
        unit = units.unit(f"1{own}" if own.startswith("/") else own)
    except UnitError as fault:
        raise ReadingError("", f"{fault.what} in '{text}'") from fault
    if unit.dimension != default.dimension:
        raise ReadingError(
            "", f"'{text}' is in {unit.pretty}, but this column is in {default.pretty or 'plain numbers'}"
        )
    return _turned(unit.difference if difference else unit, default)


def _turned(unit: Unit, default: Unit) -> Unit:
    """``unit`` counted as the column counts: a frequency in turns a second, an angular velocity in radians a second."""
    share = 1.0
    if not default.turning:
        share = 1 / math.tau if unit.turning or (default.text == "" and unit.text in _TURNS) else 1.0
    elif not unit.turning and (default.turning == "turns" or "Hz" in unit.text):
        share = math.tau
    return unit if share == 1.0 else Unit(unit.text, unit.factor * share, unit.offset, unit.dimension)


_TURNS = ("turn", "turns", "revolution", "revolutions")


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
    return _decimals_of_step(least_count / unit.factor)


@lru_cache(512)
def _decimals_of_step(step: float) -> int:
    decimals = len(f"{step:.9f}".rstrip("0").partition(".")[2])
    # A step that no decimals can write, such as a sixtieth, needs those that tell it from its neighbour.
    return decimals if decimals < 8 or step <= 0 else max(0, math.ceil(-math.log10(step)))
