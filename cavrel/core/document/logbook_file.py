"""A logbook on its way from one database to another, ``cavrel-logbook/1``: every entry as it was written, counted from 1."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from cavrel.core.definition import first_fault
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import Entry
from cavrel.core.logbook.entry import as_data

FORMAT = "cavrel-logbook/1"
MOST = 100_000
"""Entries of one logbook."""


class CarriedError(CavrelError):
    """A logbook that cannot be read."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Carried:
    """A run as it travels.

    ``title``: as it is called.
    ``bench``: whose it is.
    ``made_at``: when it was started.
    ``rules``: its own over the course's, as it was started.
    ``instruments``: its own over the definition's, as it was started.
    ``entries``: its logbook, numbered from 1; an undo names the number of what it undoes.
    """

    title: str
    bench: str
    made_at: datetime
    rules: Mapping[str, Any]
    instruments: Mapping[str, Any]
    entries: tuple[Entry, ...]


class _Line(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)

    kind: str = Field(max_length=40)
    slot: str = Field(max_length=160)
    body: dict[str, Any]
    author: str = Field(max_length=80)
    made_at: datetime
    saved_at: datetime


class _Document(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)

    format: Literal["cavrel-logbook/1"]
    title: str = Field(min_length=1, max_length=120)
    bench: str = Field(min_length=1, max_length=40)
    made_at: datetime
    rules: dict[str, Any] = {}
    instruments: dict[str, Any] = {}
    entries: list[_Line] = Field(max_length=MOST)


def document(carried: Carried) -> dict[str, Any]:
    """The document, for JSON."""
    return {
        "format": FORMAT,
        "title": carried.title,
        "bench": carried.bench,
        "made_at": carried.made_at.isoformat(),
        "rules": dict(carried.rules),
        "instruments": dict(carried.instruments),
        "entries": [as_data(e) for e in carried.entries],
    }


def read(body: Any) -> Carried:
    """The logbook in a document read from JSON. Raises CarriedError naming the first place at fault."""
    try:
        read_ = _Document.model_validate(body)
    except ValidationError as fault:
        raise CarriedError(*first_fault(fault)) from fault
    for number, line in enumerate(read_.entries, 1):
        if line.made_at.tzinfo is None or line.saved_at.tzinfo is None:
            raise CarriedError(f"entries.{number}", "its times say no time zone")
    return Carried(
        title=read_.title,
        bench=read_.bench,
        made_at=read_.made_at,
        rules=read_.rules,
        instruments=read_.instruments,
        entries=tuple(
            Entry(
                id=number,
                kind=line.kind,
                slot=line.slot,
                body=line.body,
                author=line.author,
                made_at=line.made_at,
                saved_at=line.saved_at,
            )
            for number, line in enumerate(read_.entries, 1)
        ),
    )


_NUMBERED = ("undoes", "over")
"""What of a body is the number of another entry."""


def renumbered(entries: Sequence[Entry], numbers: Mapping[int, int]) -> tuple[Entry, ...]:
    """The same entries under other numbers, old -> new, and so what they say of each other; a number that is not theirs becomes 0."""
    found = []
    for entry in entries:
        body = dict(entry.body)
        for key in _NUMBERED:
            if type(body.get(key)) is int:
                body[key] = numbers.get(body[key], 0)
        found.append(
            Entry(
                id=numbers[entry.id],
                kind=entry.kind,
                slot=entry.slot,
                body=body,
                author=entry.author,
                made_at=entry.made_at,
                saved_at=entry.saved_at,
            )
        )
    return tuple(found)
