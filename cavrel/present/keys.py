"""Every key of a definition, with what it may hold and an example from an experiment that ships: for who writes one."""

import json
import tomllib
import types
import typing
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from cavrel import catalogue
from cavrel.core.definition import Definition


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyOf:
    """A key. ``path``: with NAME where the author chooses one; ``holds``: in words; ``needed``; ``example``: a line of TOML; ``of``: the experiment
    that it stands in, empty where none uses it."""

    path: str
    holds: str
    needed: bool
    example: str
    of: str


_LONGEST = 240
"""Letters of an example."""


@cache
def keys() -> tuple[KeyOf, ...]:
    """All keys, in the order of the models."""
    return tuple(_of_model(Definition, ()))


def _of_model(model: type[BaseModel], path: tuple[str, ...]) -> Iterator[KeyOf]:
    for name, field in model.model_fields.items():
        own = (*path, field.alias or name)
        inner, shape = _inner(field.annotation)
        if inner is not None:
            below = {"one": own, "named": (*own, "NAME"), "list": (*own, "[]")}[shape]
            yield from _of_model(inner, below)
            continue
        example, of = _example(own)
        yield KeyOf(
            path=".".join(own).replace(".[]", "[]"),
            holds=_words(field.annotation),
            needed=field.is_required(),
            example=example,
            of=of,
        )


def _inner(annotation: Any) -> tuple[type[BaseModel] | None, str]:
    """The model behind a field, and whether it stands once, by names, or in a list."""
    origin, arguments = typing.get_origin(annotation), typing.get_args(annotation)
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation, "one"
    if origin is typing.Annotated:
        return _inner(arguments[0])
    if origin in (typing.Union, types.UnionType):
        found = [_inner(a) for a in arguments if a is not type(None)]
        return found[0] if len(found) == 1 else (None, "one")
    if origin is dict:
        return _inner(arguments[1])[0], "named"
    if origin in (tuple, list):
        return _inner(arguments[0])[0], "list"
    return None, "one"


def _words(annotation: Any) -> str:
    origin, arguments = typing.get_origin(annotation), typing.get_args(annotation)
    if origin is typing.Annotated:
        return _words(arguments[0])
    if origin is typing.Literal:
        return " or ".join(json.dumps(a) for a in arguments)
    if origin in (typing.Union, types.UnionType):
        return " or ".join(dict.fromkeys(_words(a) for a in arguments if a is not type(None)))
    if origin in (tuple, list):
        return f"a list of {_words(arguments[0])}s" if arguments and arguments[0] is not Any else "a list"
    if origin is dict:
        return f"a table of {_words(arguments[1])}s by name"
    plain = {str: "text", bool: "true or false", int: "whole number", float: "number"}
    return plain.get(annotation, "anything")


TAUGHT = " "
PAGE = Path(__file__).resolve().parent.parent.parent / "docs" / "help" / "author.md"


def taught() -> list[str]:
    """The definitions that the author's page teaches by."""
    if not PAGE.is_file():
        return []
    return [part.split("```")[0] for part in PAGE.read_text(encoding="utf-8").split("```toml\n")[1:]]


@cache
def _shipped() -> Mapping[str, Mapping[str, Any]]:
    folder = catalogue.HERE / "experiments"
    found = {path.stem: tomllib.loads(path.read_text(encoding="utf-8")) for path in sorted(folder.glob("*.toml"))}
    return found | {f"{TAUGHT}{i}": tomllib.loads(block) for i, block in enumerate(taught())}


def _documents() -> Iterator[tuple[str, Mapping[str, Any]]]:
    """What ships, then what the choices of its options put in the place of parts of it."""
    yield from _shipped().items()
    for name, document in _shipped().items():
        for option in document.get("options", {}).values():
            for choice in option.get("choices", {}).values():
                for place, value in choice.get("set", {}).items():
                    yield name, _nested(place.split("."), value)


def _nested(place: list[str], value: Any) -> Mapping[str, Any]:
    return {place[0]: _nested(place[1:], value) if len(place) > 1 else value}


def _example(path: tuple[str, ...]) -> tuple[str, str]:
    """A line of TOML that uses a key, and the experiment it is from: the shortest one."""
    best: tuple[str, str] = ("", "")
    for name, document in _documents():
        for place, value in _found(document, path, ()):
            line = f"{place} = {_toml(value)}"
            if len(line) < _LONGEST and (not best[0] or len(line) < len(best[0])):
                best = (line, "" if name.startswith(TAUGHT) else name)
    return best


def _found(document: Any, path: tuple[str, ...], done: tuple[str, ...]) -> Iterator[tuple[str, Any]]:
    if not path:
        yield ".".join(done), document
        return
    head, rest = path[0], path[1:]
    if head == "NAME" and isinstance(document, Mapping):
        for name, body in document.items():
            yield from _found(body, rest, (*done, f'"{name}"' if "." in name else name))
    elif head == "[]" and isinstance(document, list):
        for body in document:
            yield from _found(body, rest, done)
    elif isinstance(document, Mapping) and head in document:
        yield from _found(document[head], rest, (*done, head))


def _toml(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, list):
        return f"[{', '.join(map(_toml, value))}]"
    if isinstance(value, Mapping):
        return f"{{ {', '.join(f'{json.dumps(k)} = {_toml(v)}' for k, v in value.items())} }}"
    return str(value)
