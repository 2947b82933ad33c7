"""Long work carried out: run by run, each kept as it is made, so that a process that dies is followed by one that goes on."""

import io
import logging
import zipfile
from collections.abc import Callable, Mapping
from typing import Any
from uuid import UUID

from cavrel.core.errors import CavrelError
from cavrel.service import archive
from cavrel.service.opening import open_run
from cavrel.service.run_view import RunView
from cavrel.store import courses
from cavrel.store import work as store
from cavrel.store.courses import Course
from cavrel.store.pool import Pool, transaction

log = logging.getLogger("cavrel")

KINDS = {"package": "Archive of the course", "pdf": "Every report as PDF", "xlsx": "Every run as a workbook"}
"""What can be asked for, by the format of a run in it."""
Make = Callable[[RunView, str, Mapping[str, Any]], tuple[str, bytes]]
"""A run as a file of a format, with options: its name and what it holds."""


def ask(pool: Pool, course: Course, kind: str, options: Mapping[str, Any], author: str, key: UUID) -> int:
    """Ask for work over every run of a course; returns its number. Raises CavrelError for a kind that there is not."""
    if kind not in KINDS:
        raise CavrelError("kind", f"there is no '{kind[:20]}'; there are {', '.join(KINDS)}")
    total = len(archive.runs_of(pool, course.id))
    with transaction(pool) as connection:
        return store.ask(connection, course.id, kind, options, total, author, key)


def carry_out(pool: Pool, number: int, make: Make) -> bool:
    """Do a piece of work, or what is left of it; false where another process does it. Raises DatabaseAway."""
    with transaction(pool) as held:
        # The lock is the session's: it goes with this process, however that ends.
        if not store.mine(held, number):
            return False
        with transaction(pool) as connection:
            work = store.get(connection, number)
            done = store.parts(connection, number) if work is not None else set()
        if work is None or work.ended_at is not None:
            return True
        for run in archive.runs_of(pool, work.course):
            if run in done:
                continue
            with transaction(pool) as connection:
                now = store.get(connection, number)
            if now is None or now.stopped:
                with transaction(pool) as connection:
                    store.end(connection, number, "", None)
                return True
            _one(pool, number, run, work, make)
        _end(pool, number, work)
        return True


def _one(pool: Pool, number: int, run: int, work: store.Work, make: Make) -> None:
    name, body, fault = "", b"", ""
    try:
        opened = open_run(pool, run)
        if opened is not None:
            name, body = make(opened, work.kind, work.options)
            name = f"{run:04d}-{name}"
    except CavrelError as what:
        fault = f"run {run}: {what}"
    except Exception:
        log.exception("run %s cannot be made into a %s", run, work.kind)
        fault = f"run {run}: cannot be made; see the server’s log"
    with transaction(pool) as connection:
        store.part(connection, number, run, name, body, fault)


def _end(pool: Pool, number: int, work: store.Work) -> None:
    """All parts as one archive; a course's own next to its runs."""
    sink = io.BytesIO()
    with transaction(pool) as connection:
        course = courses.get(connection, work.course)
    assert course is not None
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as packed:
        if work.kind == "package":
            for name, body in archive.head(pool, course).items():
                archive.add(packed, name, body)
        with transaction(pool) as connection:
            for name, body in store.made(connection, number):
                archive.add(packed, f"runs/{name}" if work.kind == "package" else name, body)
            now = store.get(connection, number)
        if now is not None and now.faults:
            archive.add(packed, "missing.txt", now.faults.encode())
    with transaction(pool) as connection:
        store.end(connection, number, f"{course.slug}-{work.kind}.zip", sink.getvalue())
