"""Long work: run by run, gone on with after a crash, stopped, never done twice at once."""

import io
import zipfile
from concurrent.futures import ThreadPoolExecutor
from uuid import uuid4

import pytest

from cavrel import demo
from cavrel.core.errors import CavrelError
from cavrel.jobs import work_off
from cavrel.service import archive, working
from cavrel.service.run_view import RunView
from cavrel.store import queue
from cavrel.store import work as store
from cavrel.store.pool import Pool, transaction
from cavrel.store.work import Work


@pytest.fixture(scope="module")
def filled(pool: Pool) -> Pool:
    demo.load(pool)
    return pool


def ask(pool: Pool, kind: str = "xlsx") -> int:
    return working.ask(pool, archive.course_named(pool, ""), kind, {}, "Ines", uuid4())


def get(pool: Pool, number: int) -> Work:
    with transaction(pool) as connection:
        found = store.get(connection, number)
    assert found is not None
    return found


def named(opened: RunView, kind: str, _: object) -> tuple[str, bytes]:
    return f"{opened.run.title}.{kind}", opened.run.title.encode()


def files(pool: Pool, number: int) -> dict[str, bytes]:
    with transaction(pool) as connection:
        found = store.body(connection, number)
    assert found is not None
    with zipfile.ZipFile(io.BytesIO(found[1])) as packed:
        return {name: packed.read(name) for name in packed.namelist()}


def test_every_run_is_made_once(filled: Pool) -> None:
    number = ask(filled)
    assert working.carry_out(filled, number, named)
    work = get(filled, number)
    assert (work.done, work.ended_at is not None, work.file) == (work.total, True, "tallow-quay-xlsx.zip")
    assert len(files(filled, number)) == work.total


def test_an_archive_holds_the_course_beside_its_runs(filled: Pool) -> None:
    number = ask(filled, "package")
    working.carry_out(filled, number, named)
    assert {"course.json", "laboratory.json"} <= files(filled, number).keys()


def test_what_a_dead_process_made_is_not_made_again(filled: Pool) -> None:
    number = ask(filled)
    seen: list[int] = []

    def dies(opened: RunView, kind: str, options: object) -> tuple[str, bytes]:
        if len(seen) == 4:
            raise KeyboardInterrupt
        seen.append(opened.run.id)
        return named(opened, kind, options)

    with pytest.raises(KeyboardInterrupt):
        working.carry_out(filled, number, dies)
    assert get(filled, number).done == 4

    def goes_on(opened: RunView, kind: str, options: object) -> tuple[str, bytes]:
        seen.append(opened.run.id)
        return named(opened, kind, options)

    working.carry_out(filled, number, goes_on)
    assert len(seen) == len(set(seen)) == get(filled, number).total
    assert len(files(filled, number)) == len(seen)


def test_one_that_cannot_be_made_is_said_and_costs_the_others_nothing(filled: Pool) -> None:
    number = ask(filled)
    with transaction(filled) as connection:
        second, third = [row["id"] for row in connection.execute("select id from run order by id")][1:3]

    def fails(opened: RunView, kind: str, options: object) -> tuple[str, bytes]:
        if opened.run.id == second:
            raise CavrelError("form", "has no end")
        if opened.run.id == third:
            raise ZeroDivisionError
        return named(opened, kind, options)

    working.carry_out(filled, number, fails)
    work = get(filled, number)
    assert work.faults.splitlines() == [
        f"run {second}: form: has no end",
        f"run {third}: cannot be made; see the server’s log",
    ]
    made = files(filled, number)
    assert len(made) == work.total - 2 + 1
    assert made["missing.txt"].decode() == work.faults


def test_it_stops_when_it_is_asked(filled: Pool) -> None:
    number = ask(filled)

    def stops(opened: RunView, kind: str, options: object) -> tuple[str, bytes]:
        with transaction(filled) as connection:
            store.stop(connection, number)
        return named(opened, kind, options)

    working.carry_out(filled, number, stops)
    work = get(filled, number)
    assert (work.done, work.file, work.ended_at is not None) == (1, "", True)
    with transaction(filled) as connection:
        assert store.parts(connection, number) == set()


def test_two_processes_never_do_one_piece_at_once(filled: Pool) -> None:
    number = ask(filled)
    asked: list[bool] = []

    def meanwhile(opened: RunView, kind: str, options: object) -> tuple[str, bytes]:
        if not asked:
            asked.append(working.carry_out(filled, number, named))
        return named(opened, kind, options)

    assert working.carry_out(filled, number, meanwhile)
    assert asked == [False]


def test_the_same_form_twice_asks_once_and_nonsense_is_refused(filled: Pool) -> None:
    key = uuid4()
    course = archive.course_named(filled, "")
    made = {working.ask(filled, course, "pdf", {}, "", key) for _ in range(2)}
    assert len(made) == 1
    with transaction(filled) as connection:
        store.stop(connection, made.pop())
    with pytest.raises(CavrelError, match="there is no 'gold'"):
        working.ask(filled, course, "gold", {}, "", uuid4())


def test_the_queue_is_worked_off(filled: Pool, database: str) -> None:
    number = ask(filled, "xlsx")
    for _ in range(3):
        queue.put(database, number)  # put in line often, it waits there once
    # In a thread of its own, for the browser's driver keeps a loop running in this one.
    with ThreadPoolExecutor(1) as pool:
        pool.submit(work_off, database).result(timeout=120)
    work = get(filled, number)
    assert work.ended_at is not None
    assert work.file
    made = files(filled, number)
    assert all(name.endswith(".xlsx") and body[:2] == b"PK" for name, body in made.items())
