"""The store: appending once, keeping everything, refusing to forget."""

import threading
from datetime import datetime, timezone
from uuid import UUID, uuid4

import psycopg
import pytest

from cavrel import catalogue
from cavrel.core.laboratory import EMPTY
from cavrel.core.logbook import assemble
from cavrel.service import saving
from cavrel.store import courses, entries, locks, runs, settings
from cavrel.store.courses import About
from cavrel.store.entries import NewEntry
from cavrel.store.migrate import NewerDatabase, known, migrate
from cavrel.store.pool import LONGEST_WAIT, Busy, DatabaseAway, Pool, open_pool, transaction

PENDULUM = catalogue.experiments()["pendulum"]


def entry(kind: str, slot: str, key: UUID | None = None, **body) -> NewEntry:
    return NewEntry(
        kind=kind, slot=slot, body=body, author="Prism", made_at=datetime.now(timezone.utc), client_key=key or uuid4()
    )


@pytest.fixture
def run(pool: Pool) -> int:
    with transaction(pool) as connection:
        course = courses.make(connection, "evening", About(title="Evening"), EMPTY, ["Prism", "Wick"])
        bench = courses.benches(connection, course.id)[0]
        return runs.start(connection, course.id, bench.id, PENDULUM, "A run", uuid4())


def append(pool: Pool, run: int, *new: NewEntry):
    with transaction(pool) as connection:
        return entries.append(connection, run, list(new))


def book(pool: Pool, run: int):
    with transaction(pool) as connection:
        return entries.of_run(connection, run)


def test_a_repeated_send_counts_once(pool: Pool, run: int) -> None:
    first = entry("reading", "swings.t.1.1", text="31.1")
    made, again = append(pool, run, first), append(pool, run, first, first)
    assert {e.id for e in again} == {made[0].id}
    assert len(book(pool, run)) == 1


def test_a_reading_over_another_becomes_a_correction(pool: Pool, run: int) -> None:
    append(pool, run, entry("reading", "swings.t.1.1", text="13.1"))
    made = append(pool, run, entry("reading", "swings.t.1.1", text="31.1"))[0]
    assert (made.kind, made.body["was"]) == ("correction", "13.1")
    reason = append(pool, run, entry("correction", "swings.t.1.1", text="31.1", reason="digits swapped"))[0]
    assert reason.body["reason"] == "digits swapped"
    state = assemble(PENDULUM, book(pool, run))
    assert state.corrections["swings.t.1.1"].texts == ("13.1",)
    assert state.corrections["swings.t.1.1"].reason == "digits swapped"
    assert [e.body["text"] for e in book(pool, run)] == ["13.1", "31.1", "31.1"]


def test_undo_is_one_more_entry(pool: Pool, run: int) -> None:
    append(pool, run, entry("reading", "swings.t.1.1", text="31.1"))
    undo = entry("undo", "swings.t.1.1")
    append(pool, run, undo, undo)
    assert [e.kind for e in book(pool, run)] == ["reading", "undo"]
    assert assemble(PENDULUM, book(pool, run)).run.series == {}
    assert append(pool, run, entry("undo", "swings.t.7.1")) == []


@pytest.mark.parametrize("statement", ["update entry set body = '{}'", "delete from entry", "truncate entry"])
def test_the_logbook_only_grows(pool: Pool, run: int, statement: str) -> None:
    append(pool, run, entry("reading", "swings.t.1.1", text="31.1"))
    with pytest.raises(psycopg.errors.RaiseException, match="the logbook only grows"), transaction(pool) as connection:
        connection.execute(statement)
    assert len(book(pool, run)) == 1


def test_a_transaction_that_fails_saves_nothing(pool: Pool, run: int) -> None:
    with pytest.raises(psycopg.errors.CheckViolation):
        append(pool, run, entry("reading", "swings.t.1.1", text="31.1"), entry("note", "n" * 300, text="x"))
    assert book(pool, run) == []


def test_many_pages_at_once_lose_nothing(pool: Pool, run: int) -> None:
    """Twelve writers on one cell: all entries are there, and each correction names the text before it."""
    threads = [
        threading.Thread(target=append, args=(pool, run, entry("reading", "swings.t.1.1", text=str(i))))
        for i in range(12)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    lines = book(pool, run)
    assert sorted(e.body["text"] for e in lines) == sorted(str(i) for i in range(12))
    assert [e.body["was"] for e in lines[1:]] == [e.body["text"] for e in lines[:-1]]


def test_a_run_started_twice_is_one_run(pool: Pool) -> None:
    key = uuid4()
    with transaction(pool) as connection:
        course = courses.make(connection, "evening", About(title="Evening"), EMPTY, ["Prism"])
        bench = courses.benches(connection, course.id)[0]
        first = runs.start(connection, course.id, bench.id, PENDULUM, "A run", key)
        assert runs.start(connection, course.id, bench.id, PENDULUM, "A run", key) == first
        with pytest.raises(runs.KeyInUse):
            runs.start(connection, course.id, bench.id, PENDULUM, "Another", key)
        found = runs.get(connection, first)
        assert found is not None
        assert found.title == "A run"
        assert runs.pinned(connection, found.hash) == PENDULUM.document()


def test_a_count_set_back_by_a_crash_loses_no_entry(database: str, pool: Pool, run: int) -> None:
    """The number of the next row is taken: nothing was wrong with the entry."""
    made = append(pool, run, *(entry("reading", f"swings.t.{i}.1", text="31.1") for i in range(1, 4)))
    with transaction(pool) as connection:
        connection.execute("select setval('entry_id_seq', %s, false)", [made[0].id])
    sent = {"key": str(uuid4()), "kind": "reading", "slot": "swings.t.4.1", "body": {"text": "31.2"}}
    sent["made_at"] = datetime.now(timezone.utc).isoformat()
    saved = saving.save(pool, run, [sent])
    assert saved is not None
    assert saved.refused == {}
    assert [e.id for e in book(pool, run)] == [e.id for e in made] + [made[-1].id + 1]
    with transaction(pool) as connection:
        connection.execute("select setval('run_id_seq', %s, false)", [run])
    migrate(database)
    with transaction(pool) as connection:
        course = courses.courses(connection)[0]
        assert (
            runs.start(
                connection, course.id, courses.benches(connection, course.id)[0].id, PENDULUM, "Another", uuid4()
            )
            == run + 1
        )


@pytest.mark.parametrize(
    ("asked", "kinds", "given"),
    [
        (entries.STANDING, "uuid[], text[], bigint", "array[gen_random_uuid()], array['swings.t.1.1'], 1"),
        (entries.STANDING_OF_ONE, "uuid, bigint, text", "gen_random_uuid(), 1, 'swings.t.1.1'"),
    ],
)
def test_what_stands_is_found_by_index_whatever_the_planner_knows(
    pool: Pool, run: int, asked: str, kinds: str, given: str
) -> None:
    """A plan for any keys, made while the table holds next to nothing, is the one that a full table is searched by."""
    for i in (1, 2, 3):
        asked = asked.replace("%s", f"${i}", 1)
    with transaction(pool) as connection:
        connection.execute("set local plan_cache_mode = force_generic_plan")
        connection.execute(f"prepare standing ({kinds}) as {asked}")
        plan = connection.execute(f"explain execute standing ({given})")
        lines = " ".join(str(row["QUERY PLAN"]) for row in plan)
        connection.execute("deallocate standing")
    assert "entry_client_key_key" in lines and "entry_by_slot" in lines
    assert "Seq Scan" not in lines


def test_migrating_again_does_nothing(database: str) -> None:
    assert migrate(database) == []


def test_a_database_of_a_newer_version_is_left_alone(cluster) -> None:
    cluster.create_database("newer")
    url = cluster.url("newer")
    migrate(url)
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("insert into migration (number) values (999)")
    with pytest.raises(
        NewerDatabase, match=f"newer Cavrel .schema 999; this one knows {max(known())}.*Nothing was changed"
    ):
        migrate(url)


def test_one_secret_for_all_processes(pool: Pool) -> None:
    with transaction(pool) as connection:
        assert settings.secret_key(connection) == settings.secret_key(connection)


def test_a_database_that_does_not_answer_says_so(cluster) -> None:
    url = cluster.url("postgres").replace("@127.0.0.1:", "@127.0.0.1:1")[:-9] + "/x"
    with open_pool(url) as pool, pytest.raises(DatabaseAway), transaction(pool):
        pass


def test_locks_of_different_things_never_meet(pool: Pool) -> None:
    """A lesson is changed while long work of the same number runs: once both were class 3, and one waited for the other without end."""
    with transaction(pool) as one, transaction(pool) as other:
        for of in locks.Of:
            assert locks.mine(one, of, 77)
        other.execute("set local lock_timeout = '200ms'")
        for of in locks.Of:
            assert not locks.mine(other, of, 77)
            assert locks.mine(other, of, 78)
        for connection in (one, other):  # they are a session's, and the pool keeps its sessions
            connection.execute("select pg_advisory_unlock_all()")
    assert len({int(of) for of in locks.Of}) == len(locks.Of)


def test_a_wait_for_what_another_holds_has_an_end(pool: Pool) -> None:
    with transaction(pool) as holder:
        locks.hold(holder, locks.Of.LESSON, 5)
        with pytest.raises(Busy), transaction(pool) as waiting:
            waiting.execute("set local lock_timeout = '150ms'")
            locks.hold(waiting, locks.Of.LESSON, 5)
    with transaction(pool) as connection:
        row = connection.execute("show lock_timeout").fetchone()
    assert row is not None and row["lock_timeout"] == f"{LONGEST_WAIT}s"
