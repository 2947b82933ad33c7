"""The experiments, instruments and accepted values that ship with Cavrel, and the programs compiled from them."""

import tomllib
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from cavrel.catalogue import constants
from cavrel.core import definition as definitions
from cavrel.core import straighten
from cavrel.core.accepted import Accepted
from cavrel.core.definition import Definition
from cavrel.core.errors import DefinitionError
from cavrel.core.program import compile_program
from cavrel.core.steps import Program
from cavrel.core.straighten import LineMeaning

HERE = Path(__file__).resolve().parent


@lru_cache(maxsize=1)
def instruments() -> Mapping[str, Mapping[str, Any]]:
    """The shared instrument list by kind."""
    return tomllib.loads((HERE / "instruments.toml").read_text(encoding="utf-8"))


@lru_cache(maxsize=1)
def accepted() -> Mapping[str, Accepted]:
    """Named accepted values."""
    return constants.table()


@lru_cache(maxsize=1)
def experiments() -> Mapping[str, Definition]:
    """Every experiment that ships, by id."""
    found = {}
    for path in sorted((HERE / "experiments").glob("*.toml")):
        loaded = read_toml(path.read_text(encoding="utf-8"))
        found[loaded.id] = loaded
    return found


def read_toml(text: str) -> Definition:
    """A definition from its TOML text. Raises DefinitionError."""
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as fault:
        raise DefinitionError("", f"not readable as TOML: {fault}") from fault
    except RecursionError as fault:
        raise DefinitionError("", "brackets stand too deep inside each other") from fault
    return definitions.load(document, instruments())


def resolve(experiment: str | Mapping[str, Any]) -> Definition:
    """The definition a run document names or carries. Raises DefinitionError."""
    if isinstance(experiment, str):
        if experiment not in experiments():
            raise DefinitionError(
                "experiment", f"unknown experiment '{experiment}'; there are {', '.join(experiments())}"
            )
        return experiments()[experiment]
    try:
        return definitions.load(experiment, instruments())
    except DefinitionError as fault:
        raise fault.at("experiment") from fault


def program_of(
    definition: Definition,
    overrides: Mapping[str, Mapping[str, str]] | None = None,
    options: Mapping[str, str] | None = None,
) -> Program:
    """The compiled program, kept for the next call; ``overrides`` are a run's own instrument fields, ``options`` its conventions.

    Raises DefinitionError.
    """
    if definition.options or options:
        definition = definitions.choose(definition, options or {})
    own = tuple(sorted((name, tuple(sorted(fields.items()))) for name, fields in (overrides or {}).items()))
    return _program(definition.model_dump_json(by_alias=True), own)


@lru_cache(maxsize=256)
def _program(text: str, overrides: tuple[tuple[str, tuple[tuple[str, str], ...]], ...]) -> Program:
    document = Definition.model_validate_json(text).document()
    for name, fields in overrides:
        if name not in document.get("instruments", {}):
            raise DefinitionError(f"instruments.{name}", "the experiment has no such instrument")
        document["instruments"][name] = {**document["instruments"][name], **dict(fields)}
    return compile_program(definitions.load(document), accepted())


def warm() -> None:
    """Compile every experiment that ships and read its law, so that no page waits for it."""
    for definition in experiments().values():
        program_of(definition)
        meanings_of(definition)


def validate(definition: Definition) -> Mapping[str, LineMeaning]:
    """Compile a definition, with each choice of each option, and hold its results against its law; returns what its lines mean.

    Raises DefinitionError.
    """
    found = _validate(definitions.choose(definition, {}))
    for name, option in definition.options.items():
        for choice in option.choices:
            if choice != option.default:
                try:
                    _validate(definitions.choose(definition, {name: choice}))
                except DefinitionError as fault:
                    raise DefinitionError(fault.place, f"{fault.what} (with {name} = {choice})") from fault
    return found


def _validate(definition: Definition) -> Mapping[str, LineMeaning]:
    try:
        program_of(definition)
    except DefinitionError as fault:
        if fault.place.startswith("results."):
            # Where a result's units cannot be right, the law often knows the formula that was meant.
            meanings_of(definition)
        raise
    return meanings_of(definition)


def meanings_of(definition: Definition, options: Mapping[str, str] | None = None) -> Mapping[str, LineMeaning]:
    """What slope and intercept stand for in each line of a definition. Raises DefinitionError where it contradicts its law."""
    if definition.options or options:
        definition = definitions.choose(definition, options or {})
    return straighten.meanings(definition.model_dump_json(by_alias=True))
