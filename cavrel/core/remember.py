"""Remembering what follows from something that never changes."""

from collections import OrderedDict
from collections.abc import Callable, Mapping
from functools import update_wrapper
from threading import Event, Lock
from typing import Any, Generic, ParamSpec, TypeVar

Made = TypeVar("Made")
Given = ParamSpec("Given")


class _Coming(Generic[Made]):
    """A result that is being computed. ``done``: told to those who wait for it, None while nobody does; ``made``: it, once it is there."""

    __slots__ = ("done", "fault", "made")

    def __init__(self) -> None:
        self.done: Event | None = None
        self.made: list[Made] = []
        self.fault: BaseException | None = None

    def wait(self) -> Made:
        """Raises what working it out raised."""
        assert self.done is not None
        self.done.wait()
        if self.fault is not None:
            raise self.fault
        return self.made[0]


class Remembering(Generic[Given, Made]):
    """A function that remembers its ``most`` recent results."""

    def __init__(self, work: Callable[Given, Made], most: int) -> None:
        self._work, self._most = work, most
        self._kept: OrderedDict[tuple[object, ...], tuple[object, Made]] = OrderedDict()
        self._coming: dict[tuple[object, ...], _Coming[Made]] = {}
        self._lock = Lock()
        update_wrapper(self, work)

    def __call__(self, *given: Given.args, **named: Given.kwargs) -> Made:
        thing, *more = given
        key = (id(thing), *(_frozen(one) for one in more), _frozen(named))
        with self._lock:
            found = self._kept.get(key)
            if found is not None:
                self._kept.move_to_end(key)
                return found[1]
            coming = self._coming.get(key)
            if coming is None:
                coming = self._coming[key] = _Coming[Made]()
                first = True
            else:
                first = False
                coming.done = coming.done or Event()
        if not first:  # forty benches that ask for one thing at once have it computed once
            return coming.wait()
        try:
            coming.made.append(self._work(*given, **named))
        except BaseException as fault:
            coming.fault = fault
            raise
        finally:
            with self._lock:
                del self._coming[key]
                for made in coming.made:
                    self._kept[key] = thing, made
                while len(self._kept) > self._most:
                    self._kept.popitem(last=False)
            if coming.done is not None:
                coming.done.set()
        return coming.made[0]

    def forget(self) -> None:
        """Work everything out anew from here on."""
        with self._lock:
            self._kept.clear()


def by_identity(most: int) -> Callable[[Callable[Given, Made]], Remembering[Given, Made]]:
    """Remember the ``most`` recent results of a function of one frozen object, known by its identity, and of mappings of texts and values
    that can be told apart.

    An error is not remembered. What is remembered is held, and so is the object it came from.
    """
    return lambda work: Remembering(work, most)


def _frozen(value: Any) -> object:
    if isinstance(value, Mapping):
        return tuple(sorted((str(name), _frozen(inner)) for name, inner in value.items())) or None
    return value
