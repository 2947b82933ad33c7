"""A run's own headings: what its table calls a column, the unit it is read in, and whether a computed one is shown."""

from collections.abc import Mapping
from typing import Annotated

from pydantic import Field

from cavrel.core.definition.parts import Key, Model, UnitText
from cavrel.core.definition.whole import Definition
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.quantity import units
from cavrel.core.remember import by_identity


class Heading(Model):
    """What a run says of a column (``series.column``) or a quantity; of a series, ``label`` names a column of marks.

    ``label``: what it is called.
    ``symbol``: the letter that its head shows; the law keeps its own.
    ``unit``: that it is read or shown in.
    ``hidden``: a computed column that is computed and not shown.
    """

    label: Annotated[str, Field(max_length=80)] = ""
    symbol: Key | None = None
    unit: UnitText | None = None
    hidden: bool = False


@by_identity(256)
def headed(definition: Definition, headings: Mapping[str, Heading]) -> Definition:
    """The definition with its columns and quantities called and measured as ``headings`` say. Raises DefinitionError."""
    series, quantities = dict(definition.series), dict(definition.quantities)
    for key, heading in headings.items():
        check(definition, key, heading)
        name, _, column = key.partition(".")
        changed: dict[str, str] = {"label": heading.label} if heading.label else {}
        if heading.unit is not None:
            changed["unit"] = heading.unit
        if column:
            columns = dict(series[name].columns)
            columns[column] = columns[column].model_copy(update=changed)
            series[name] = series[name].model_copy(update={"columns": columns})
        elif name in quantities:
            quantities[name] = quantities[name].model_copy(update=changed)
    return definition.model_copy(update={"series": series, "quantities": quantities})


def check(definition: Definition, key: str, heading: Heading) -> None:
    """Raises DefinitionError where a heading does not fit what it stands over."""
    place = f"headings.{key}"
    name, _, column = key.partition(".")
    if column:
        if name not in definition.series or column not in definition.series[name].columns:
            raise DefinitionError(place, "the experiment has no such column")
        body = definition.series[name].columns[column]
        if heading.hidden and body.column_role.typed:
            raise DefinitionError(place, "only a computed column can be hidden; this one is typed")
        _fits(place, body.unit, heading.unit)
    elif name in definition.series:
        if heading.symbol or heading.unit or heading.hidden:
            raise DefinitionError(place, "a column of marks has a label and nothing else")
    elif name in definition.quantities:
        quantity = definition.quantities[name]
        if heading.unit is not None and quantity.default is not None:
            raise DefinitionError(place, "it has a usual value, which is meant in its own unit")
        if heading.hidden:
            raise DefinitionError(place, "only a computed column can be hidden")
        _fits(place, quantity.unit, heading.unit)
    else:
        raise DefinitionError(place, "the experiment has nothing of this name")


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
