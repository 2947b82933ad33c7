"""What one experiment takes out of the laboratory: instruments by their kind, values by their name or by what is compared with them, rules."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any

from pydantic import Field

from cavrel.core.definition import Amount, Definition, Instrument, Key
from cavrel.core.definition.parts import Model
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.laboratory.document import Laboratory, OwnInstrument
from cavrel.core.quantity import units
from cavrel.core.remember import by_identity


class CourseValue(Model):
    """An accepted value as a run holds it: as the laboratory says it, with the ``results`` of this experiment compared with it."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    value: Amount
    u: Annotated[str, Field(max_length=60)] = ""
    source: Annotated[str, Field(max_length=200)] = ""
    results: tuple[Key, ...] = ()

    def reference(self) -> ReferenceValue:
        """The same in SI. Raises UnitError."""
        value, unit = units.quantity(self.value)
        u, of_u = units.quantity(self.u) if self.u else (0.0, unit)
        return ReferenceValue(
            value,
            abs(u - of_u.offset) if self.u else 0.0,
            unit.text,
            self.label,
            self.source or "the laboratory’s value",
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Selection:
    """What a run begins with.

    ``rules``: of the course.
    ``instruments``: the definition's name of an instrument -> what the laboratory's own says of it.
    ``accepted``: name -> value.
    """

    rules: Mapping[str, Any] = field(default_factory=dict)
    instruments: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    accepted: Mapping[str, CourseValue] = field(default_factory=dict)


NOTHING = Selection()


def taken(laboratory: Laboratory, definition: Definition, kinds: Mapping[str, Mapping[str, Any]]) -> Selection:
    """What ``definition`` takes out of ``laboratory``. ``kinds``: the shared list of instruments."""
    usual = {own.kind: own for own in laboratory.instruments.values() if own.usual}
    accepted = {}
    for name, value in laboratory.accepted.items():
        results = tuple(r.partition(".")[2] for r in value.results if r.partition(".")[0] == definition.id)
        accepted[name] = CourseValue(
            label=value.label,
            value=value.value,
            u=value.u,
            source=value.source,
            results=tuple(r for r in results if r in definition.results),
        )
    words = _words(definition)
    return Selection(
        rules=laboratory.rules,
        instruments={
            name: in_place_of(own, usual[own.kind], kinds)
            for name, own in definition.instruments.items()
            if own.kind in usual
        },
        accepted={name: value for name, value in accepted.items() if value.results or name in words},
    )


def in_place_of(own: Instrument, other: OwnInstrument, kinds: Mapping[str, Mapping[str, Any]]) -> dict[str, str]:
    """The fields of a run's instrument where the laboratory's ``other`` reads what ``own`` of the definition reads."""
    return {**other.fields(), **of_task(own, kinds)}


def of_task(own: Instrument, kinds: Mapping[str, Mapping[str, Any]]) -> dict[str, str]:
    """What a definition says of placing and reaction beyond the instrument's kind: it belongs to what is read, and stays when another
    instrument reads it. ``kinds``: the shared list."""
    usual = kinds.get(own.kind, {})
    return {
        name: text
        for name, text in (("placement", own.placement), ("reaction", own.reaction))
        if text is not None and text != usual.get(name)
    }


@by_identity(512)
def _words(definition: Definition) -> frozenset[str]:
    """Every word of a definition, those of its formulas among them: what it may name a value by."""
    return frozenset(re.findall(r"[A-Za-z][A-Za-z0-9_]*", definition.model_dump_json()))
