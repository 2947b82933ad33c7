"""From the slope of a line to a constant, in steps that a bench can follow: the formula, the numbers with their units, the unit, the value."""

import math
from collections.abc import Mapping
from dataclasses import replace
from itertools import pairwise

import numpy as np

from cavrel.core.analysis import ResultAnalysis
from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.definition.steps import ResultStep
from cavrel.core.document import result_text
from cavrel.core.errors import CavrelError
from cavrel.core.formula import mathml
from cavrel.core.formula.evaluate import Compiled, Environment
from cavrel.core.formula.nodes import Member, Name, Node, Number, substitute, walk
from cavrel.core.formula.parse import parse
from cavrel.core.quantity import units
from cavrel.core.quantity.units import Unit
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView

MORE_FIGURES = 2
"""A number that is reckoned on with shows its uncertainty's place and one more."""


@optional("worked steps", list)
def steps(opened: RunView, fit: FitAnalysis) -> list[tuple[str, str]]:
    """(chain, text) of each result from ``fit``: the chain as MathML, a piece a side, so that it wraps; the text with its uncertainty."""
    found = []
    runs = {step.key: step.run for step in opened.program.steps if isinstance(step, ResultStep)}
    for name, result in opened.analysis.results.items():
        formula = opened.definition.results[name].formula
        if formula is None or result.reason:
            continue
        tree = parse(formula)
        if fit.name not in {n.owner for n in walk(tree) if isinstance(n, Member)}:
            continue
        own, formula_of = mathml.name(name), mathml.row(tree)
        # A result that is a parameter of its own name says nothing by being written twice.
        sides = [own] if formula_of == own else [own, formula_of]
        run = runs[name]
        numbers = _enough(opened, tree, run, result)
        if numbers and not isinstance(tree, Name | Member):
            sides.append(mathml.row(substitute(tree, {**numbers})))
        if run is not None and (own_unit := _in_its_unit(opened, tree, run, result.value, result.unit)):
            sides.append(own_unit)
        pieces = [mathml.math(f'<mo form="infix">=</mo>{side}' if place else side) for place, side in enumerate(sides)]
        found.append((" ".join(pieces), result_text(opened.analysis, result)))
    return found


MOST_FIGURES = 10
"""More figures than these are never shown on the way, whatever the end of it."""


def _enough(opened: RunView, tree: Node, run: Compiled | None, result: ResultAnalysis) -> dict[Node, Number]:
    """The numbers of a formula, each with as many figures as it takes that whoever reckons on with them finds the value that is shown."""
    numbers: dict[Node, Number] = {}
    for more in range(MORE_FIGURES, MOST_FIGURES):
        numbers = _numbers(opened, tree, more)
        if run is None or _comes_out(opened, numbers, run, result):
            break
    return numbers


def _comes_out(opened: RunView, numbers: Mapping[Node, Number], run: Compiled, result: ResultAnalysis) -> bool:
    """Whether a formula gives, with ``numbers``, what its result shows to the last digit."""
    values = dict(opened.analysis.nominal)
    for node, number in numbers.items():
        key = f"{node.owner}.{node.name}" if isinstance(node, Member) else str(getattr(node, "name", ""))
        values[key] = np.array([[units.unit(number.unit or "").to_si(number.value)]])
    with np.errstate(all="ignore"):
        found = float(np.ravel(run(Environment(values, opened.analysis.sheet.keep)))[0])
    shown = result_text(opened.analysis, result)
    return result_text(opened.analysis, replace(result, value=found)) == shown


def _numbers(opened: RunView, tree: Node, more: int) -> dict[Node, Number]:
    """What stands in a formula for each name that has one value: parameters of fits, quantities, other results."""
    found: dict[Node, Number] = {}
    for node in walk(tree):
        if isinstance(node, Member) and node.owner in opened.analysis.fits:
            parameter = opened.analysis.fits[node.owner].parameters.get(node.name)
            if parameter is not None and math.isfinite(parameter.value):
                found[node] = _number(parameter.value, parameter.u, parameter.unit, more)
        elif isinstance(node, Name) and node.name in opened.analysis.values:
            values = opened.analysis.values[node.name]
            if len(values.value) == 1 and math.isfinite(float(values.value[0])):
                found[node] = _number(float(values.value[0]), float(values.u[0]), values.unit, more)
        elif isinstance(node, Name) and node.name in opened.analysis.results:
            result = opened.analysis.results[node.name]
            if math.isfinite(result.value):
                found[node] = _number(result.value, result.u, result.unit, more)
    return found


def _number(value: float, u: float, unit: Unit, more: int) -> Number:
    shown = unit.from_si(value)
    size = abs(shown)
    figures = 2 + more
    if u > 0 and size > 0 and math.isfinite(u):
        figures = math.floor(math.log10(size)) - math.floor(math.log10(u / unit.factor)) + more
    return Number(float(f"{shown:.{min(max(figures, 2), MOST_FIGURES)}g}"), unit.text)


def _in_its_unit(opened: RunView, tree: Node, run: Compiled, value: float, wanted: Unit) -> str:
    """The value in the unit that the slope's own gives, where the formula is a power of one parameter: 981 cm/s² before 9.81 m/s²."""
    names = {n for n in walk(tree) if isinstance(n, Name | Member)} - {Name("pi")}
    if len(names) != 1 or not isinstance(only := next(iter(names)), Member):
        return ""
    unit = opened.analysis.fits[only.owner].parameters[only.name].unit
    power = _power(opened, run, f"{only.owner}.{only.name}")
    if power is None or not unit.text:
        return ""
    text = _raised(unit.text, power)
    try:
        own = units.unit(text)
    except CavrelError:
        return ""
    if own.dimension != wanted.dimension or math.isclose(own.factor, wanted.factor, rel_tol=1e-9):
        return ""
    shown = float(f"{own.from_si(value):.4g}")
    return mathml.row(Number(shown, text))


def _power(opened: RunView, run: Compiled, key: str) -> int | None:
    """The power, a whole number, with which a formula follows one value; None for any other formula."""
    values = dict(opened.analysis.nominal)
    at = float(values[key][0, 0])
    found = []
    for factor in (1.0, 2.0, 4.0):
        values[key] = values[key] * 0 + at * factor
        found.append(float(run(Environment(values, opened.analysis.sheet.keep))[0, 0]))
    first, second = (math.log2(abs(b / a)) if a * b > 0 else math.nan for a, b in pairwise(found))
    whole = round(first) if math.isfinite(first) else 0
    return whole if whole and abs(first - whole) < 1e-9 and abs(second - whole) < 1e-9 else None


def _raised(text: str, power: int) -> str:
    """A unit to a power, written with its parts above and below one line: ``s^2/cm`` to -1 is ``cm/s^2``."""
    above: list[str] = []
    below: list[str] = []
    for name, exponent in units.parts(text):
        total = exponent * power
        size = "" if abs(total) == 1 else f"^{abs(total)}"
        (above if total > 0 else below).append(f"{name}{size}")
    top = " ".join(above) or "1"
    return top if not below else f"{top}/{below[0]}" if len(below) == 1 else f"{top}/({' '.join(below)})"
