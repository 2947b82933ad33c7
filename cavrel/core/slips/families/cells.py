"""Slips of the pen in one reading: digits swapped or misread, a decimal point moved, a sign lost."""

import itertools
from collections.abc import Iterator

from cavrel.core.quantity.reading import decimals_of
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.readings import One, Readings

CONFUSED = {"3": "8", "8": "306", "1": "7", "7": "1", "5": "6", "6": "580", "0": "68", "4": "9", "9": "4"}
"""Digits that are taken for each other in handwriting and on displays."""
NEIGHBOURS = 0.5
"""A digit one too high or low, a mark of the scale counted wrong, against one that is misread."""


def _digits(readings: Readings) -> Iterator[One]:
    for one in readings.ones:
        # A count of things, or a number of an order, is miscounted rather than misread.
        if one.plain and not one.spec.whole and not (one.spec.exact and one.plain.isdigit() and len(one.plain) < 2):
            yield one


def swapped(readings: Readings) -> Iterator[Hypothesis]:
    """Two neighbouring digits have changed places."""
    for one in _digits(readings):
        text = one.plain
        places = [i for i, c in enumerate(text) if c.isdigit()]
        for i, j in itertools.pairwise(places):
            changed = list(text)
            changed[i], changed[j] = changed[j], changed[i]
            cell = one.retyped("".join(changed))
            if cell is not None:
                yield Hypothesis(
                    family="swapped",
                    at=one.at,
                    say=f"two digits are swapped: {text} for {cell.text}",
                    do=f"write {cell.text}",
                    cells=(cell,),
                )


def misread(readings: Readings) -> Iterator[Hypothesis]:
    """One digit was taken for another, or for its neighbour."""
    for one in _digits(readings):
        text = one.plain
        for i, digit in enumerate(text):
            if not digit.isdigit():
                continue
            options = dict.fromkeys(CONFUSED.get(digit, ""), 1.0)
            for neighbour in (int(digit) - 1, int(digit) + 1):
                if 0 <= neighbour <= 9:
                    options.setdefault(str(neighbour), NEIGHBOURS)
            for other, share in options.items():
                cell = one.retyped(text[:i] + other + text[i + 1 :])
                if cell is not None:
                    yield Hypothesis(
                        family="misread",
                        at=one.at,
                        say=f"a digit is misread: {text} for {cell.text}",
                        do=f"write {cell.text}",
                        share=share,
                        cells=(cell,),
                    )


def decimal(readings: Readings) -> Iterator[Hypothesis]:
    """The decimal point stands a place or two from where it belongs."""
    for one in _digits(readings):
        for places, share in ((1, 1.0), (-1, 1.0), (2, 0.3), (-2, 0.3)):
            text = moved(one.plain, places)
            if one.spec.exact and one.plain.isdigit() and not text.isdigit():
                text = text.rstrip("0")
                if text[-1] not in ".,":  # what is counted is whole
                    continue
                text = text[:-1]
            cell = one.retyped(text)
            if cell is not None:
                yield Hypothesis(
                    family="decimal",
                    at=one.at,
                    say=f"the decimal point is moved: {one.plain} for {text}",
                    do=f"write {text}",
                    share=share,
                    cells=(cell,),
                    bonus=_DIGITS_FIT * (_too_fine(one, one.plain) - _too_fine(one, text)),
                )


_DIGITS_FIT = 2.0
"""What a text with more decimals than its instrument gives speaks for a point that was moved, as a logarithm."""


def _too_fine(one: One, text: str) -> int:
    gauge = one.spec.gauge
    if gauge is None or not gauge.least_count:
        return 0
    return int(len(text.replace(",", ".").partition(".")[2]) > decimals_of(gauge.least_count, one.spec.unit))


def sign(readings: Readings) -> Iterator[Hypothesis]:
    """A minus is lost or added, as when leads are the wrong way round."""
    for one in _digits(readings):
        text = one.plain[1:] if one.plain.startswith("-") else f"-{one.plain}"
        cell = one.retyped(text)
        if cell is not None:
            yield Hypothesis(
                family="sign",
                at=one.at,
                say="its sign is reversed",
                do=f"write {text}",
                cells=(cell,),
            )


def moved(text: str, places: int) -> str:
    """A plain number with its point moved right by ``places``: ``3.17`` by 1 is ``31.7``."""
    minus, digits = ("-", text[1:]) if text.startswith("-") else ("", text)
    mark = "," if "," in digits else "."
    whole, _, part = digits.replace(",", ".").partition(".")
    at = len(whole) + places
    all_digits = whole + part
    if at <= 0:
        all_digits, at = "0" * (1 - at) + all_digits, 1
    all_digits = all_digits.ljust(at, "0")
    left, right = all_digits[:at].lstrip("0") or "0", all_digits[at:]
    return f"{minus}{left}{mark}{right}" if right else f"{minus}{left}"
