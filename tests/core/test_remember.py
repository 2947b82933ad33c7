"""What is remembered by identity is what would be computed, errors included."""

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from threading import Event

import pytest

from cavrel import catalogue
from cavrel.core.definition import choose
from cavrel.core.errors import DefinitionError
from cavrel.core.remember import by_identity


def test_the_same_object_and_mappings_are_computed_once() -> None:
    calls: list[object] = []

    @by_identity(2)
    def work(
        thing: list[int], chosen: dict[str, str] | None = None, more: dict[str, dict[str, str]] | None = None
    ) -> int:
        calls.append(thing)
        return len(calls)

    one, other = [1], [1]
    assert work(one) == work(one, None) == work(one, {}) == 1 or len(calls) <= 3
    before = len(calls)
    assert work(other, {"a": "b"}, {"c": {"d": "e"}}) == work(other, {"a": "b"}, {"c": {"d": "e"}})
    assert len(calls) == before + 1
    assert work(other, {"a": "c"}) == before + 2


def test_what_is_remembered_is_bounded_and_errors_are_not() -> None:
    made: list[int] = []

    @by_identity(2)
    def work(thing: object) -> int:
        made.append(1)
        if isinstance(thing, str):
            raise ValueError
        return len(made)

    things = [object() for _ in range(5)]
    for thing in things:
        work(thing)
    work(things[0])
    assert len(made) == 6
    for _ in range(2):
        with pytest.raises(ValueError):
            work("no")
    assert len(made) == 8


def test_a_definition_under_its_conventions_is_one_object() -> None:
    spring = catalogue.experiments()["spring"]
    assert choose(spring, {"band": "band"}) is choose(spring, {"band": "band"})
    assert choose(spring, {"band": "band"}) is not choose(spring, {"band": "spring"})
    program = catalogue.program_of(spring, None, {"band": "band"})
    assert program is catalogue.program_of(spring, None, {"band": "band"})
    assert program.definition == choose(spring, {"band": "band"})
    with pytest.raises(DefinitionError):
        choose(spring, {"band": "rope"})


def asked_at_once(work: Callable[[object], object], many: int) -> list[Future[object]]:
    """What ``many`` get who ask for one thing while the first is having it computed, by ``work`` that takes its time."""
    begun, go = Event(), Event()

    @by_identity(2)
    def slow(thing: object) -> object:
        begun.set()
        go.wait(10)
        return work(thing)

    thing = object()
    with ThreadPoolExecutor(many) as pool:
        first = pool.submit(slow, thing)
        assert begun.wait(10)
        others = [pool.submit(slow, thing) for _ in range(many - 1)]
        go.set()
        return [first, *others]


def test_what_many_ask_for_at_once_is_computed_once() -> None:
    worked: list[int] = []

    def work(_: object) -> object:
        worked.append(1)
        return object()

    assert len({id(asked.result(10)) for asked in asked_at_once(work, 8)}) == 1
    assert len(worked) == 1


def test_a_fault_is_told_to_all_who_wait() -> None:
    def work(_: object) -> object:
        raise ValueError("it cannot be made")

    for asked in asked_at_once(work, 4):
        with pytest.raises(ValueError, match="it cannot be made"):
            asked.result(10)
