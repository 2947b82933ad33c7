"""Numbers and words as pages show them."""

import json
import math
from collections.abc import Iterable
from datetime import datetime, timezone

import numpy as np
from markupsafe import Markup

from cavrel.catalogue.places import TextFault
from cavrel.core.analysis import Values
from cavrel.core.formula import mathml
from cavrel.core.formula.parse import parse, parse_law
from cavrel.core.formula.text import typeset
from cavrel.core.quantity import units
from cavrel.core.quantity.rounding import fixed, last_decade
from cavrel.core.words import counted


def symbol(name: str, sub: str = "") -> Markup:
    """A name as mathematics, with an index: t₁."""
    inner = mathml.name(name)
    if sub:
        inner = f"<msub>{inner}<mn>{sub}</mn></msub>"
    return Markup(mathml.math(inner))


def mean_symbol(name: str) -> Markup:
    """The mean of a repeated reading: t with a bar."""
    return Markup(mathml.math(f'<mover>{mathml.name(name)}<mo stretchy="false">¯</mo></mover>'))


def u_symbol(name: str) -> Markup:
    """u(T)."""
    return Markup(mathml.math(f"<mi>u</mi><mo>(</mo>{mathml.name(name)}<mo>)</mo>"))


def formula(text: str) -> Markup:
    """A formula as mathematics."""
    return Markup(mathml.math(mathml.row(parse(text)), label=typeset(parse(text))))


def law(text: str) -> Markup:
    """A law, both sides, as mathematics."""
    left, right = parse_law(text)
    return Markup(mathml.math(mathml.equation(left, right), display=True, label=f"{typeset(left)} = {typeset(right)}"))


def one_line(text: str) -> str:
    """A formula on one line of text."""
    return typeset(parse(text))


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


def clock(moment: datetime) -> str:
    """``14:02:11`` in the server's time zone."""
    return moment.astimezone().strftime("%H:%M:%S")


def day(moment: datetime) -> str:
    """``25 November 2026``."""
    local = moment.astimezone()
    return f"{local.day} {local.strftime('%B %Y')}"


def slug(place: str) -> str:
    """A place as an HTML id: ``swings.t.4.2`` is ``swings-t-4-2``."""
    return "".join(c if c.isalnum() else "-" for c in place)


def fault_list(faults: Iterable[TextFault]) -> str:
    """The faults of a text as JSON for the page's script."""
    return json.dumps([{"line": fault.line, "what": fault.what} for fault in faults])


FILTERS = {
    "fault_list": fault_list,
    "clock": clock,
    "day": day,
    "slug": slug,
    "pretty_unit": units.pretty,
    "one_line": one_line,
}
GLOBALS = {
    "now": now,
    "symbol": symbol,
    "mean_symbol": mean_symbol,
    "u_symbol": u_symbol,
    "formula": formula,
    "law": law,
    "count": counted,
}
