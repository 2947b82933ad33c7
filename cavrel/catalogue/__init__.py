"""The experiments, instruments and accepted values that ship with Cavrel, and the programs compiled from them."""

import itertools
import math
import tomllib
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from cavrel.catalogue import algebra
from cavrel.catalogue.lists import accepted as accepted
from cavrel.catalogue.lists import families as families
from cavrel.catalogue.lists import instruments as instruments
from cavrel.catalogue.programs import alternatives as alternatives
from cavrel.catalogue.programs import at_hand as at_hand
from cavrel.catalogue.programs import planner as planner
from cavrel.catalogue.programs import program_of as program_of
from cavrel.core import definition as definitions
from cavrel.core.definition import Definition, law
from cavrel.core.errors import DefinitionError
from cavrel.core.findings.meaning import LineMeaning
from cavrel.core.formula.text import unparse
from cavrel.core.remember import by_identity

HERE = Path(__file__).resolve().parent

LONGEST = 200_000
_MOST_PARTS = 12
"""A key in a definition has so many parts at most; reading one takes time by their square."""
_DEEPEST = 40


def too_deep(text: str) -> bool:
    """Whether keys or brackets stand deeper in each other than any definition's."""
    heads = (line.partition("=")[0] for line in text.splitlines())
    return "[" * _DEEPEST in text or any(
        head.count(".") > _MOST_PARTS and not set(head) - _OF_KEYS for head in heads if len(head) > 2 * _MOST_PARTS
    )


_OF_KEYS = set("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-.[]'\"\t ")


@lru_cache(maxsize=1)
def experiments() -> Mapping[str, Definition]:
    """Every experiment that ships, by id."""
    found = {}
    for path in sorted((HERE / "experiments").glob("*.toml")):
        loaded = read_toml(path.read_text(encoding="utf-8"))
        found[loaded.id] = loaded
    return found


@lru_cache(maxsize=1)
def house() -> Definition:
    """The small sheet that the house rules are shown on."""
    return read_toml((HERE / "house.toml").read_text(encoding="utf-8"))


def read_toml(text: str) -> Definition:
    """A definition from its TOML text. Raises DefinitionError."""
    if len(text) > LONGEST:
        raise DefinitionError("", f"a definition may have {LONGEST} characters; this one has {len(text)}")
    if too_deep(text):
        raise DefinitionError("", "a key of more than a dozen parts leads nowhere in a definition")
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as fault:
        raise DefinitionError("", f"not readable as TOML: {fault}") from fault
    except ValueError as fault:  # such as a number of more digits than Python reads
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


def warm() -> None:
    """Compile every experiment that ships, so that no page waits for it."""
    for definition in experiments().values():
        program_of(definition)
        meanings_of(definition)


def validate(definition: Definition) -> Mapping[str, LineMeaning]:
    """Compile a definition, with every combination of its options' choices, and hold its results against its law; returns what its lines
    mean.

    Raises DefinitionError.
    """
    found = _validate(definitions.choose(definition, {}))
    for chosen in combinations(definition):
        try:
            made = definitions.choose(definition, chosen)
            if len(chosen) == 1:
                _validate(made)
            else:
                program_of(made)
        except DefinitionError as fault:
            with_these = " and ".join(f"{name} = {choice}" for name, choice in chosen.items())
            raise DefinitionError(fault.place, f"{fault.what} (with {with_these})") from fault
    return found


def rehearse(definition: Definition) -> None:
    """What is asked of a definition that is being written, beyond that it can be used: its law names what there is, and its simulation goes
    through the experiment, under the default conventions and each other choice. Raises DefinitionError."""
    from cavrel.catalogue import rehearsal  # an analysis's worth of modules, which a start need not wait for

    for chosen in ({}, *(one for one in combinations(definition) if len(one) == 1)):
        try:
            law.names(definitions.choose(definition, chosen))
            rehearsal.rehearse(program_of(definition, options=chosen), chosen)
        except DefinitionError as fault:
            with_this = "".join(f" (with {name} = {choice})" for name, choice in chosen.items())
            raise DefinitionError(fault.place, f"{fault.what}{with_this}") from fault


MOST_COMBINATIONS = 256


def combinations(definition: Definition) -> list[dict[str, str]]:
    """Choices other than the defaults, alone and together: all of them, or, of more than can be tried, each with each other one."""
    others = {name: [c for c in option.choices if c != option.default] for name, option in definition.options.items()}
    whole = math.prod(len(choices) + 1 for choices in others.values())
    most = len(others) if whole <= MOST_COMBINATIONS else 2
    return [
        dict(zip(names, chosen, strict=True))
        for many in range(1, most + 1)
        for names in itertools.combinations(others, many)
        for chosen in itertools.product(*(others[name] for name in names))
    ]


def _validate(definition: Definition) -> Mapping[str, LineMeaning]:
    try:
        program_of(definition)
    except DefinitionError as fault:
        if fault.place.startswith("results."):
            _hold(definition)  # where a result's units cannot be right, the law often knows the formula that was meant
        raise
    _hold(definition)
    return meanings_of(definition)


def _hold(definition: Definition) -> None:
    """Hold results against the law; the error says, where algebra reaches, what the law gives instead."""
    try:
        law.check(definition)
    except DefinitionError as fault:
        raise DefinitionError(fault.place, f"{fault.what}{_advice(definition, fault.place)}") from fault


def _advice(definition: Definition, place: str) -> str:
    """What the law gives for the result at fault, where it reaches."""
    owner, _, name = place.partition(".")
    if owner != "results":
        return ""
    wanted = name.partition(".")[0]
    try:
        for meaning in meanings_of(definition).values():
            for constant, formula in meaning.constants:
                if constant == wanted:
                    return f"; the law gives {wanted} = {unparse(formula)}"
    except DefinitionError:
        pass
    return ""


def meanings_of(definition: Definition, options: Mapping[str, str] | None = None) -> Mapping[str, LineMeaning]:
    """What slope and intercept stand for in each line of a definition, as far as algebra ends in time. Raises DefinitionError where it
    contradicts its law."""
    try:
        return _meanings(definition, options or {})
    except algebra.Late:
        return {}


@by_identity(512)
def _meanings(definition: Definition, options: Mapping[str, str]) -> Mapping[str, LineMeaning]:
    if definition.options or options:
        definition = definitions.choose(definition, options)
    return algebra.meanings(definition)


def laws() -> dict[str, str]:
    """Every experiment that ships, under every combination of its conventions: what its law's answer is known by -> what algebra is asked."""
    found = {}
    for definition in experiments().values():
        for chosen in ({}, *combinations(definition)):
            text = algebra.asked(definitions.choose(definition, chosen))
            found[algebra.known_by(text)] = text
    return found


def solved_in_time(definition: Definition) -> bool:
    """Whether the algebra of a definition's law, under the usual conventions, ended before its deadline."""
    try:
        _meanings(definition, {})
    except algebra.Late:
        return False
    return True
