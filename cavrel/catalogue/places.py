"""Where in a definition's TOML text a fault lies: from the place that an error names to the line of the text."""

import json
import re
import tomllib
from dataclasses import dataclass

from pydantic import ValidationError

from cavrel import bounded, catalogue
from cavrel.core import definition as definitions
from cavrel.core.definition import Definition
from cavrel.core.errors import DefinitionError

LONGEST = 200_000

_TABLE = re.compile(r"\s*(\[\[?)\s*([^\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""\s*((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*'))*)\s*=""")
_AT_LINE = re.compile(r"\(at line (\d+), column \d+\)")


@dataclass(frozen=True, slots=True)
class TextFault:
    """What is wrong, at which ``line`` of the text (from 1), and the ``place`` in the definition."""

    line: int
    place: str
    what: str


@dataclass(frozen=True, slots=True)
class ReadText:
    """A text understood, or the ``faults`` in it."""

    definition: Definition | None
    faults: tuple[TextFault, ...]


TASK = bounded.Task(name="cavrel.catalogue.places:checked", what="this text", seconds=12, megabytes=600)


def read_text(text: str) -> ReadText:
    """Read a definition from its text, compile it and hold it against its law, in a process of its own. Never raises for what a person
    typed."""
    if len(text) > LONGEST:
        return ReadText(None, (TextFault(1, "", f"a definition may have {LONGEST} characters"),))
    try:
        document, faults = bounded.run(TASK, text)
    except bounded.Over as fault:
        return ReadText(None, (TextFault(1, "", fault.what),))
    made = definitions.load(json.loads(document), catalogue.instruments()) if document else None
    return ReadText(made, tuple(TextFault(*one) for one in faults))


def checked(text: str) -> tuple[str, list[tuple[int, str, str]]]:
    """The same as plain data: the definition as JSON, empty where there are faults; and the faults."""
    read = _checked(text)
    faults = [(fault.line, fault.place, fault.what) for fault in read.faults]
    return json.dumps(read.definition.document()) if read.definition else "", faults


def _checked(text: str) -> ReadText:
    if catalogue.too_deep(text):
        return ReadText(None, (TextFault(1, "", "a key of more than a dozen parts leads nowhere in a definition"),))
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as fault:
        match = _AT_LINE.search(str(fault))
        line = int(match[1]) if match else max(text.count("\n"), 1)
        what = _AT_LINE.sub("", str(fault)).strip()
        return ReadText(None, (TextFault(line, "", f"not readable as TOML: {what[0].lower()}{what[1:]}"),))
    except ValueError as fault:  # such as a number of more digits than Python reads
        return ReadText(None, (TextFault(1, "", f"not readable as TOML: {fault}"),))
    except RecursionError:
        return ReadText(None, (TextFault(1, "", "brackets stand too deep inside each other"),))
    try:
        definition = definitions.load(document, catalogue.instruments())
        catalogue.validate(definition)
        catalogue.rehearse(definition)
    except DefinitionError as fault:
        cause = fault.__cause__
        if isinstance(cause, ValidationError):
            every = [definitions.fault_of(error) for error in cause.errors(include_url=False)]
            return ReadText(None, tuple(TextFault(line_of(text, place), place, what) for place, what in every[:20]))
        return ReadText(None, (TextFault(line_of(text, fault.place), fault.place, fault.what),))
    return ReadText(definition, ())


def line_of(text: str, place: str) -> int:
    """The line, from 1, that ``place`` such as ``series.swings.columns.T.formula`` stands on; the nearest table above it where the key
    itself is not there."""
    wanted = tuple(part for part in place.split(".") if part)
    best, line = 0, 1
    for path, number in _paths(text):
        shared = 0
        while shared < min(len(path), len(wanted)) and path[shared] == wanted[shared]:
            shared += 1
        if shared == len(path) and shared > best:
            best, line = shared, number
    return line


def _paths(text: str) -> list[tuple[tuple[str, ...], int]]:
    """Every table and key of the text with its line."""
    found: list[tuple[tuple[str, ...], int]] = []
    seen: dict[tuple[str, ...], int] = {}
    table: tuple[str, ...] = ()
    inside = ""
    for number, line in enumerate(text.split("\n"), 1):
        if inside:
            inside = "" if inside in line else inside
            continue
        header = _TABLE.match(line)
        if header:
            table = _split(header[2])
            if header[1] == "[[":
                seen[table] = seen.get(table, -1) + 1
                table = (*table, str(seen[table]))
            found.append((table, number))
            continue
        key = _KEY.match(line)
        if key:
            found.append(((*table, *_split(key[1])), number))
            rest = line[key.end() :]
            for quotes in ('"""', "'''"):
                if rest.count(quotes) == 1:
                    inside = quotes
    return found


def _split(key: str) -> tuple[str, ...]:
    parts = re.findall(r"""[A-Za-z0-9_-]+|"[^"]*"|'[^']*'""", key)
    return tuple(p for part in parts for p in part.strip("\"'").split("."))
