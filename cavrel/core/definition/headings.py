"""A run's own headings: what its table calls a column, the unit it is read in, whether a computed one is shown; and columns of its own."""

import re
from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import Field, ValidationError

from cavrel.core.definition.evaluation import Fit
from cavrel.core.definition.loading import first_fault
from cavrel.core.definition.mark_lines import lined, unlined
from cavrel.core.definition.part_left_out import without_parts
from cavrel.core.definition.parts import Formula, Key, Model, UnitText
from cavrel.core.definition.readings import Column, Outcome
from cavrel.core.definition.whole import Definition
from cavrel.core.errors import CavrelError, DefinitionError, FormulaError
from cavrel.core.formula.nodes import AGGREGATES, FUNCTIONS, Call, Number, walk
from cavrel.core.formula.parse import parse
from cavrel.core.quantity import units
from cavrel.core.remember import by_identity

_FORMULAS = {"formula", "x", "y", "range", "rule", "accepted", "at"}
"""Keys of a definition that hold formulas."""
_PARTED = re.compile(r"[,;](?![^()]*\))")
_WORD, _UNIT = re.compile(r"[A-Za-z]\w*"), re.compile(r"\[[^\]]*\]")


MOST_MEETING = 500
"""Rows of a table up to which a run's own column may take something from other rows."""


class Heading(Model):
    """What a run says of a column (``series.column``) or a quantity; of a series, ``label`` names a column of marks.

    ``label``: what it is called.
    ``symbol``: the letter that its head shows; the law keeps its own.
    ``unit``: that it is read or shown in.
    ``hidden``: a computed column that is computed and not shown, None as the definition has it; of a series, the part is left out.
    ``reversed``: of a column from samples, whether its sensor counts the other way in this run, None as the definition has it.
    ``formula``: of a column that the experiment does not have, in the words of its table.
    ``words``: of a series, the words for its rows, each with the condition under which a row has it by rule: ``up, down: m < above(m)``.
    ``at``: of a fit by a tangent, ``fits.name``, where it touches: ``75 s``.
    ``points``: over how many rows.
    ``lines``: those words of a series that have lines and results of their own: ``up, down``.
    """

    label: Annotated[str, Field(max_length=80)] = ""
    symbol: Key | None = None
    unit: UnitText | None = None
    hidden: bool | None = None
    reversed: bool | None = None
    formula: Formula | None = None
    words: Annotated[str, Field(max_length=600)] = ""
    lines: Annotated[str, Field(max_length=600)] = ""
    at: Annotated[str, Field(max_length=40)] = ""
    points: Annotated[int, Field(ge=3, le=2000)] | None = None

    @property
    def with_lines(self) -> list[str]:
        """The words that have lines of their own."""
        return [word.strip() for word in self.lines.split(",") if word.strip()]

    @property
    def choices(self) -> dict[str, str]:
        """The words with their conditions, empty where a word has none; commas within brackets part nothing."""
        parts = (part.partition(":") for part in _PARTED.split(self.words))
        return {word.strip(): condition.strip() for word, _, condition in parts if word.strip()}


@by_identity(256)
def headed(definition: Definition, headings: Mapping[str, Heading]) -> Definition:
    """The definition with its columns and quantities called and measured as ``headings`` say. Raises DefinitionError."""
    series, quantities = dict(definition.series), dict(definition.quantities)
    for key, heading in headings.items():
        check(definition, key, heading)
        name, _, column = key.partition(".")
        if name == "fits":
            continue
        changed: dict[str, str | bool] = {"label": heading.label} if heading.label else {}
        if heading.reversed is not None:
            changed["reversed"] = heading.reversed
        if heading.unit is not None:
            changed["unit"] = heading.unit
        if column:
            columns = dict(series[name].columns)
            if heading.formula is not None:
                columns[column] = _own(column, heading)
            else:
                columns[column] = columns[column].model_copy(update=changed)
            series[name] = series[name].model_copy(update={"columns": columns})
        elif name in quantities:
            quantities[name] = quantities[name].model_copy(update=changed)
        elif heading.words:
            label = heading.label or "Mark"
            words = Outcome(label=label, choices=heading.choices, by_rule=any(heading.choices.values()))
            series[name] = series[name].model_copy(update={"outcome": words})
    found = definition.model_copy(update={"series": series, "quantities": quantities})
    touched = {key.removeprefix("fits."): heading for key, heading in headings.items() if key.startswith("fits.")}
    if touched:
        fits = {name: _touching(fit, touched[name]) if name in touched else fit for name, fit in found.fits.items()}
        found = found.model_copy(update={"fits": fits})
    for key, heading in headings.items():
        if heading.lines and key in series:
            found = lined(found, key, heading.with_lines)
    gone = frozenset(key for key, heading in headings.items() if heading.hidden and key in series)
    return without_parts(found, gone) if gone else found


def check(definition: Definition, key: str, heading: Heading) -> None:
    """Raises DefinitionError where a heading does not fit what it stands over."""
    place = f"headings.{key}"
    name, _, column = key.partition(".")
    if name == "fits":
        _check_tangent(definition, place, column, heading)
    elif column:
        if heading.formula is not None:
            _check_own(definition, name, column, heading)
            return
        if name not in definition.series or column not in definition.series[name].columns:
            if heading == Heading() and name in definition.series:
                return  # a column of the run's own that is taken away
            raise DefinitionError(place, "the experiment has no such column")
        body = definition.series[name].columns[column]
        if heading.hidden and body.column_role.typed:
            raise DefinitionError(place, "only a computed column can be hidden; this one is typed")
        if heading.reversed is not None and body.source is None:
            raise DefinitionError(place, "only a column from samples has a sensor that can count the other way")
        _fits(place, body.unit, heading.unit)
    elif name in definition.series:
        if heading.symbol or heading.unit or heading.reversed is not None:
            raise DefinitionError(place, "a column of marks has a label, words and lines, and nothing else")
        if heading.words:
            _check_words(place, heading)
    elif name in definition.quantities:
        quantity = definition.quantities[name]
        if heading.unit is not None and quantity.default is not None:
            raise DefinitionError(place, "it has a usual value, which is meant in its own unit")
        if heading.hidden or heading.reversed is not None:
            what = "a computed column can be hidden" if heading.hidden else "a column from samples can be reversed"
            raise DefinitionError(place, f"only {what}")
        _fits(place, quantity.unit, heading.unit)
    else:
        raise DefinitionError(place, "the experiment has nothing of this name")


def hidden(body: Column, heading: Heading | None) -> bool:
    """Whether a column is computed and not shown."""
    return heading.hidden if heading is not None and heading.hidden is not None else body.off


def _check_tangent(definition: Definition, place: str, name: str, heading: Heading) -> None:
    fit = definition.fits.get(name)
    if fit is None or fit.model != "tangent":
        raise DefinitionError(place, "the experiment has no tangent of this name")
    if heading.model_copy(update={"at": "", "points": None}) != Heading():
        raise DefinitionError(place, "a tangent is told where it touches and over how many rows, and nothing else")
    if heading.at:
        try:
            units.quantity(heading.at)
        except CavrelError as fault:
            raise DefinitionError(f"{place}.at", fault.what) from fault


def _touching(fit: Fit, heading: Heading) -> Fit:
    """A tangent where the run puts it."""
    value, unit = units.quantity(heading.at) if heading.at else (0.0, units.unit(""))
    name = unit.dimension.named()
    at = fit.at if not heading.at else f"{value!r}[{name}]" if name else repr(value)
    return fit.model_copy(update={"at": at, "points": heading.points or fit.points})


def _check_words(place: str, heading: Heading) -> None:
    if not heading.choices:
        raise DefinitionError(f"{place}.words", "there is no word in it; write such as 'up, down: m < above(m)'")
    for word, condition in heading.choices.items():
        try:
            if condition:
                parse(condition)
        except FormulaError as fault:
            raise DefinitionError(f"{place}.words", f"the rule of {word}: {fault.what}") from fault
    try:
        Outcome(label="Mark", choices=heading.choices)
    except ValidationError as fault:
        raise DefinitionError(f"{place}.words", first_fault(fault)[1]) from fault


def adds(heading: Heading) -> bool:
    """Whether it adds something that is computed, so that it can clash with the rest."""
    return heading.formula is not None or bool(heading.words or heading.lines or heading.at)


def marks_label(definition: Definition, headings: Mapping[str, Heading], series: str) -> str:
    """What stands over a table's column of words: the run's own, else the outcome that the definition asks for; empty for none."""
    outcome = definition.series[series].outcome
    own = headings[series].label or ("Mark" if headings[series].words else "") if series in headings else ""
    return own or (outcome.label if outcome is not None else "")


def meets_rows(heading: Heading) -> bool:
    """Whether a column of the run's own takes something from other rows than its own: such a column costs with the square of their number."""
    calls = (node for node in walk(parse(heading.formula or "0")) if isinstance(node, Call))
    return any(
        c.function in {"above", *AGGREGATES} or (c.function in ("min", "max") and len(c.arguments) == 1) for c in calls
    )


def without_own(definition: Definition, headings: Mapping[str, Heading]) -> Definition:
    """The definition without the columns and lines that ``headings`` added to it."""
    series = dict(definition.series)
    for key, heading in headings.items():
        name, _, column = key.partition(".")
        if heading.formula is not None and name in series:
            columns = {c: body for c, body in series[name].columns.items() if c != column}
            series[name] = series[name].model_copy(update={"columns": columns})
    return unlined(definition.model_copy(update={"series": series}))


def _own(name: str, heading: Heading) -> Column:
    return Column(role="derived", label=heading.label or name, formula=heading.formula, unit=heading.unit)


def _check_own(definition: Definition, series: str, column: str, heading: Heading) -> None:
    place = f"headings.{series}.{column}"
    if series not in definition.series:
        raise DefinitionError(place, "the experiment has no such table")
    if column in definition.series[series].columns or column in _names(definition):
        raise DefinitionError(place, f"the experiment uses the letter {column} already; choose another")
    try:
        if not isinstance(parse(heading.formula or ""), Number):
            _own(column, heading)
            return
    except FormulaError as fault:
        raise DefinitionError(f"{place}.formula", fault.what) from fault
    except ValidationError as fault:
        raise DefinitionError(place, first_fault(fault)[1]) from fault
    raise DefinitionError(f"{place}.formula", "a column of one number alone says nothing; name another column in it")


@by_identity(256)
def _names(definition: Definition) -> frozenset[str]:
    """Every name that means something already: a column of that name would quietly stand for it in the definition's formulas."""
    found = {"pi", *FUNCTIONS, *definition.quantities, *definition.results, *definition.series, *definition.fits}

    def gather(part: Any) -> None:
        for key, value in part.items() if isinstance(part, Mapping) else enumerate(part):
            if isinstance(value, str) and key in _FORMULAS:
                found.update(_WORD.findall(_UNIT.sub("", value)))
            elif isinstance(value, Mapping | list):
                gather(value)

    gather(definition.document())
    return frozenset(found)


def _fits(place: str, usual: str | None, wanted: str | None) -> None:
    if wanted is None:
        return
    try:
        given = units.unit(wanted)
    except CavrelError as fault:
        raise DefinitionError(f"{place}.unit", fault.what) from fault
    own = units.unit(usual or "")
    if given.dimension != own.dimension or bool(given.offset) != bool(own.offset):
        raise DefinitionError(
            f"{place}.unit", f"{units.pretty(wanted)} cannot stand for {units.pretty(usual or '') or 'a plain number'}"
        )
