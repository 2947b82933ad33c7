"""Numbers and words as pages show them."""

import math
from datetime import datetime, timezone
from functools import lru_cache

import numpy as np

from cavrel.core.analysis import Values
from cavrel.core.errors import CavrelError
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.quantity import units
from cavrel.core.quantity.rounding import fixed, last_decade
from cavrel.present import zones


def one_line(text: str) -> str:
    """A formula on one line of text."""
    return typeset(parse(text))


def amount(text: str) -> str:
    """An amount with its unit as the bench writes it; what a maker prints, such as 0.5 % + 2 digits, as it is."""
    number, _, unit = text.partition(" ")
    try:
        units.quantity(text)
    except CavrelError:
        return text
    return f"{number} {units.pretty(unit)}".strip()


def decimals(values: Values) -> int:
    """How many decimals a computed column shows: enough for two figures of its typical uncertainty, the same in every row."""
    own = values.u[np.isfinite(values.u) & (values.u > 0)] / values.unit.factor
    if len(own):
        return min(max(-last_decade(float(np.median(own)), "two"), 0), 9)
    seen = np.abs(values.value[np.isfinite(values.value) & (values.value != 0)]) / values.unit.factor
    return min(max(3 - math.floor(math.log10(float(np.median(seen)))), 0), 9) if len(seen) else 0


def cell(values: Values, row: int, places: int) -> str:
    """One value of a column, empty where there is none."""
    if row >= len(values.value):
        return ""
    return fixed(values.unit.from_si(float(values.value[row])), places)


def u_cell(values: Values, row: int, places: int) -> str:
    """One standard uncertainty of a column, empty where there is none."""
    if row >= len(values.u) or not math.isfinite(values.value[row]) or not values.u[row] > 0:
        return ""
    return fixed(float(values.u[row]) / values.unit.factor, places)


def now() -> str:
    """This moment, for a page to say as of when it is."""
    return datetime.now(timezone.utc).isoformat()


def paper_day(moment: str) -> str:
    """The day of a moment as `now` gives it."""
    return day(datetime.fromisoformat(moment))


def clock(moment: datetime) -> str:
    """``14:02:11`` in the zone in which moments are told."""
    return zones.local(moment).strftime("%H:%M:%S")


def moment(at: datetime) -> str:
    """``14:02:11`` today, ``19 Nov, 14:02`` on another day of this year, with its year in any other."""
    local, today = zones.local(at), zones.local(datetime.now(timezone.utc))
    if local.date() == today.date():
        return local.strftime("%H:%M:%S")
    year = "" if local.year == today.year else f" {local.year}"
    return f"{local.day} {local.strftime('%b')}{year}, {local.strftime('%H:%M')}"


def day_and_time(local: datetime) -> str:
    """``26 November 2026, 18:30``, of a moment that has no zone."""
    return f"{local.day} {local.strftime('%B %Y, %H:%M')}"


def day(moment: datetime) -> str:
    """``25 November 2026``."""
    local = zones.local(moment)
    return f"{local.day} {local.strftime('%B %Y')}"


@lru_cache(maxsize=8192)
def slug(place: str) -> str:
    """A place as an HTML id: ``swings.t.4.2`` is ``swings-t-4-2``."""
    return "".join(c if c.isalnum() else "-" for c in place)
