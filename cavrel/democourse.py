"""Putting the demonstration course into a database."""

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta, timezone
from typing import Any
from uuid import UUID

from cavrel import catalogue
from cavrel.core import laboratory as laboratories
from cavrel.store import courses
from cavrel.store import entries as entry_store
from cavrel.store import lessons as lesson_store
from cavrel.store import runs as run_store
from cavrel.store.courses import About
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Pool, transaction


def put(pool: Pool, body: dict[str, Any], key: Callable[[str], UUID]) -> None:
    """Put what is not there yet into the database. ``body``: the course as its file has it; ``key``: of a run, an entry or a
    lesson, by what it is."""
    course = body["course"]
    with transaction(pool) as connection:
        about = About(title=course["title"], place=course["place"])
        made = courses.make(
            connection, course["slug"], about, laboratories.load(course["laboratory"]), course["benches"]
        )
        for i, lesson in enumerate(body["lessons"]):
            lesson_store.begin(connection, made.id, lesson, key(f"lesson {i}"))
        benches = {bench.name: bench.id for bench in courses.benches(connection, made.id)}
        for i, run in enumerate(body["runs"]):
            definition = catalogue.experiments()[run["experiment"]]
            own = key(f"run {i}")
            try:
                number = run_store.start(
                    connection,
                    made.id,
                    benches[run["bench"]],
                    definition,
                    run["title"],
                    own,
                    instruments=run.get("instruments"),
                )
            except run_store.KeyInUse:
                continue  # it was loaded by an earlier Cavrel, and stays pinned to the definition it began with
            if not entry_store.of_run(connection, number):
                entry_store.append(connection, number, list(_entries(run, i, key)), imported=True)


def _entries(run: dict[str, Any], index: int, key: Callable[[str], UUID]) -> Iterator[NewEntry]:
    """The entries of one run as its bench would have made them, one after the other on the evening of the course."""
    moment = datetime.fromisoformat(run["began"]).replace(tzinfo=timezone.utc)
    for i, (wait, kind, slot, body) in enumerate(run["entries"]):
        moment += timedelta(seconds=wait)
        own = key(f"run {index} entry {i}")
        yield NewEntry(
            kind=kind,
            slot=f"{slot}{own}" if slot.endswith(":") else slot,
            body=body,
            author=run["bench"],
            made_at=moment,
            client_key=own,
        )
