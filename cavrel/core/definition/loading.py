"""A definition from a document, under the conventions chosen, or the first place where the document is at fault."""

import re
from collections.abc import Mapping
from copy import deepcopy
from typing import Any

from pydantic import ValidationError

from cavrel.core.definition.sources import source_of
from cavrel.core.definition.whole import Definition
from cavrel.core.errors import DefinitionError
from cavrel.core.remember import by_identity


def load(document: Mapping[str, Any], instruments: Mapping[str, Mapping[str, Any]] | None = None) -> Definition:
    """Validate a definition read from TOML or JSON.

    ``instruments``: the shared list by kind; its fields fill what the definition's instruments leave open.
    Raises DefinitionError naming the first place at fault.
    """
    if not isinstance(document, Mapping):
        raise DefinitionError("", "a definition is a table of keys")
    merged = dict(document)
    own = merged.get("instruments")
    if instruments and isinstance(own, Mapping):
        merged["instruments"] = {
            name: _with_defaults(f"instruments.{name}", body, instruments) for name, body in own.items()
        }
    if instruments and isinstance(merged.get("options"), Mapping):
        merged["options"] = {name: _option(name, body, instruments) for name, body in merged["options"].items()}
    series = merged.get("series")
    if isinstance(series, Mapping):
        merged["series"] = {name: _like(name, body, series) for name, body in series.items()}
    try:
        found = Definition.model_validate(merged)
    except ValidationError as fault:
        raise DefinitionError(*first_fault(fault)) from fault
    for name, option in found.options.items():
        for key, choice in option.choices.items():
            if choice.carries is not None and choice.carries not in found.results:
                what = f"there is no result '{choice.carries}' to apply; the results are {', '.join(found.results) or 'none'}"
                raise DefinitionError(f"options.{name}.choices.{key}.carries", what)
    return found


def _like(name: str, body: Any, series: Mapping[str, Any]) -> Any:
    """A series that repeats another's columns, with what it says itself put over them."""
    if not isinstance(body, Mapping) or "like" not in body:
        return body
    model = series.get(body["like"]) if isinstance(body["like"], str) else None
    if not isinstance(model, Mapping) or "like" in model:
        raise DefinitionError(f"series.{name}.like", f"'{body['like']}' is no series with columns of its own")
    own = {key: value for key, value in body.items() if key not in ("like", "columns")}
    columns = {
        key: dict(value) if isinstance(value, Mapping) else value for key, value in model.get("columns", {}).items()
    }
    for key, value in body.get("columns", {}).items():
        columns[key] = {**columns[key], **value} if key in columns and isinstance(value, Mapping) else value
    return {**model, **own, "columns": columns}


_INSTRUMENT = re.compile(r"instruments\.[A-Za-z]\w*")


@by_identity(512)
def choose(definition: Definition, chosen: Mapping[str, str]) -> Definition:
    """The definition as the chosen options make it; those not chosen take their default.

    Raises DefinitionError for an option or a choice that is not there, and for a path that leads nowhere.
    """
    for name, choice in chosen.items():
        if name not in definition.options:
            raise DefinitionError(f"options.{name}", "the experiment has no such option")
        if choice not in definition.options[name].choices:
            known = ", ".join(definition.options[name].choices)
            raise DefinitionError(f"options.{name}", f"'{choice}' is none of its choices: {known}")
    document = definition.document()
    for name, option in definition.options.items():
        key = chosen.get(name, option.default)
        for path, value in option.choices[key].set.items():
            # A table that one choice puts in may be changed by the next; the choice keeps its own.
            _put(document, path, deepcopy(value), f"options.{name}.choices.{key}.set.{path}")
    if document == definition.document():
        return definition
    return load(document)


def _put(document: Any, path: str, value: Any, place: str) -> None:
    *way, last = path.split(".")
    for key in way:
        inside = document.get(key) if isinstance(document, dict) else None
        if isinstance(document, list) and key.isdigit() and int(key) < len(document):
            inside = document[int(key)]
        if not isinstance(inside, dict | list):
            raise DefinitionError(place, f"the path leads nowhere: there is no '{key}'")
        document = inside
    if isinstance(document, list):
        if not last.isdigit() or int(last) >= len(document):
            raise DefinitionError(place, f"the path leads nowhere: there is no '{last}'")
        document[int(last)] = value
    elif value in (None, ""):  # TOML has no null: an empty text takes a key away
        document.pop(last, None)
    else:
        document[last] = value


def _option(name: str, body: Any, shared: Mapping[str, Mapping[str, Any]]) -> Any:
    """An option whose choices put instruments in, with what the shared list says of these."""
    if not isinstance(body, Mapping) or not isinstance(body.get("choices"), Mapping):
        return body
    choices = {}
    for key, choice in body["choices"].items():
        if isinstance(choice, Mapping) and isinstance(choice.get("set"), Mapping):
            place = f"options.{name}.choices.{key}.set"
            own = {
                path: _with_defaults(f"{place}.{path}", value, shared) if _INSTRUMENT.fullmatch(path) else value
                for path, value in choice["set"].items()
            }
            choice = {**choice, "set": own}
        choices[key] = choice
    return {**body, "choices": choices}


def _with_defaults(place: str, body: Any, shared: Mapping[str, Mapping[str, Any]]) -> Any:
    if not isinstance(body, Mapping) or not body.get("kind"):
        return body
    kind = body["kind"]
    if not isinstance(kind, str):
        raise DefinitionError(f"{place}.kind", "is the name of an instrument of the shared list")
    if kind not in shared:
        known = ", ".join(sorted(shared))
        raise DefinitionError(f"{place}.kind", f"unknown instrument '{kind}'; the list has {known}")
    # Placing and reaction belong to what is read, so an experiment states its own.
    return {**shared[kind], **body, "source": source_of(shared[kind], body, "as estimated for this experiment")}


def first_fault(fault: ValidationError) -> tuple[str, str]:
    """Place and sentence of the first error pydantic found."""
    return fault_of(fault.errors(include_url=False)[0])


def fault_of(error: Mapping[str, Any]) -> tuple[str, str]:
    """Place and sentence of one error of pydantic's."""
    place = ".".join(str(part) for part in error["loc"] if part not in ("[key]",))
    given = error.get("input")
    what = error["msg"].removeprefix("Value error, ")
    if error["type"] == "extra_forbidden":
        what = "unknown key; remove it or correct its spelling"
    elif error["type"] == "missing":
        what = "is missing"
    elif isinstance(given, str | int | float):
        what = f"{what} (given: {str(given)[:40]!r})"
    return place, what[0].lower() + what[1:]
