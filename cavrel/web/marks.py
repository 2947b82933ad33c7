"""Mathematics and drawings as templates show them: what is markup of our own, and safe to stand as it is."""

import json
from collections.abc import Iterable

from markupsafe import Markup

from cavrel.catalogue.places import TextFault
from cavrel.core.formula import mathml
from cavrel.core.formula.parse import parse, parse_law
from cavrel.core.formula.text import typeset
from cavrel.core.quantity import units
from cavrel.core.words import counted
from cavrel.present import decimals, zones
from cavrel.present.texts import clock, day, moment, now, one_line, paper_day, slug


def drawn(markup: str | None) -> Markup:
    """A drawing or formula made by Cavrel, as markup; nothing for none."""
    return Markup(markup or "")


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


def fault_list(faults: Iterable[TextFault]) -> str:
    """The faults of a text as JSON for the page's script."""
    return json.dumps([{"line": fault.line, "what": fault.what} for fault in faults])


FILTERS = {
    "drawn": drawn,
    "fault_list": fault_list,
    "from_json": json.loads,
    "paper_day": paper_day,
    "clock": clock,
    "moment": moment,
    "day": day,
    "slug": slug,
    "pretty_unit": units.pretty,
    "one_line": one_line,
}
GLOBALS = {
    "now": now,
    "zone_name": zones.name,
    "decimal_rule": decimals.rule,
    "symbol": symbol,
    "mean_symbol": mean_symbol,
    "u_symbol": u_symbol,
    "formula": formula,
    "law": law,
    "count": counted,
}
