"""Remembering what follows from something that never changes."""

from collections import OrderedDict
from collections.abc import Callable, Mapping
from functools import wraps
from threading import Lock
from typing import Any, ParamSpec, TypeVar

Made = TypeVar("Made")
Given = ParamSpec("Given")


def by_identity(most: int) -> Callable[[Callable[Given, Made]], Callable[Given, Made]]:
    """Remember the ``most`` recent results of a function of one frozen object, known by its identity, and of mappings of texts.

    An error is not remembered. What is remembered is held, and so is the object it came from.
    """

    def decorate(work: Callable[Given, Made]) -> Callable[Given, Made]:
        kept: OrderedDict[tuple[object, ...], tuple[object, Made]] = OrderedDict()
        lock = Lock()

        @wraps(work)
        def remembered(*given: Given.args, **named: Given.kwargs) -> Made:
            thing, *more = given
            key = (id(thing), *(_frozen(one) for one in more), _frozen(named))
            with lock:
                found = kept.get(key)
                if found is not None:
                    kept.move_to_end(key)
                    return found[1]
            made = work(*given, **named)
            with lock:
                kept[key] = thing, made
                while len(kept) > most:
                    kept.popitem(last=False)
            return made

        return remembered

    return decorate


def _frozen(value: Any) -> object:
    if isinstance(value, Mapping):
        return tuple(sorted((str(name), _frozen(inner)) for name, inner in value.items())) or None
    return value
