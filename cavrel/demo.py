"""The demonstration course: Bench Physics in the lighthouse at Tallow Quay. All of it is invented."""

import json
from collections.abc import Iterator
from datetime import datetime, timedelta, timezone
from pathlib import Path
from typing import Any
from uuid import UUID, uuid5

from cavrel import catalogue
from cavrel.core import cupboard as cupboards
from cavrel.store import entries as entry_store
from cavrel.store import lessons as lesson_store
from cavrel.store import runs as run_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Pool, transaction

FILE = Path(__file__).resolve().parent / "demo.json"
_SPACE = UUID("6a1c7b52-8f0e-4d3a-9b61-0c2f5a7e9d14")


def load(pool: Pool) -> None:
    """Put the course into the database, unless it stands there already. Loading twice changes nothing."""
    body = json.loads(FILE.read_text(encoding="utf-8"))
    course = body["course"]
    with transaction(pool) as connection:
        made = run_store.make_course(
            connection,
            course["slug"],
            course["title"],
            course["place"],
            cupboards.load(course["cupboard"]),
            course["benches"],
        )
        for i, lesson in enumerate(body["lessons"]):
            lesson_store.begin(connection, made.id, lesson, uuid5(_SPACE, f"lesson {i}"))
        benches = {bench.name: bench.id for bench in run_store.benches(connection, made.id)}
        for i, run in enumerate(body["runs"]):
            definition = catalogue.experiments()[run["experiment"]]
            key = uuid5(_SPACE, f"run {i}")
            try:
                number = run_store.start(
                    connection,
                    made.id,
                    benches[run["bench"]],
                    definition,
                    run["title"],
                    key,
                    instruments=run.get("instruments"),
                )
            except run_store.KeyInUse:
                continue  # it was loaded by an earlier Cavrel, and stays pinned to the definition it began with
            if not entry_store.of_run(connection, number):
                entry_store.append(connection, number, list(_entries(run, i)), imported=True)


def _entries(run: dict[str, Any], index: int) -> Iterator[NewEntry]:
    """The entries of one run as its bench would have made them, one after the other on the evening of the course."""
    moment = datetime.fromisoformat(run["began"]).replace(tzinfo=timezone.utc)
    for i, (wait, kind, slot, body) in enumerate(run["entries"]):
        moment += timedelta(seconds=wait)
        key = uuid5(_SPACE, f"run {index} entry {i}")
        yield NewEntry(
            kind=kind,
            slot=f"{slot}{key}" if slot.endswith(":") else slot,
            body=body,
            author=run["bench"],
            made_at=moment,
            client_key=key,
        )
