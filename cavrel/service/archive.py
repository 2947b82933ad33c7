"""A course as one archive: every run as a package of its own, its laboratory, and the experiments that it wrote."""

import json
import zipfile
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

from cavrel.core.errors import CavrelError
from cavrel.service.laboratories import laboratory_of
from cavrel.service.opening import open_run
from cavrel.service.run_view import RunView
from cavrel.store import courses as course_store
from cavrel.store import own as own_store
from cavrel.store import runs as run_store
from cavrel.store.courses import Course
from cavrel.store.pool import Pool, transaction

FORMAT = "cavrel-course/1"
_MOMENT = (2020, 1, 1, 0, 0, 0)
Packed = Callable[[RunView], tuple[str, bytes]]
"""A run as a file: its name and what it holds."""


def course_named(pool: Pool, name: str) -> Course:
    """The course of this name in addresses, or the only one there is. Raises CavrelError."""
    with transaction(pool) as connection:
        found = course_store.courses(connection)
    fitting = [course for course in found if course.slug == name] if name else found
    if len(fitting) == 1:
        return fitting[0]
    if not found:
        raise CavrelError("course", "there is no course yet; create one with: cavrel course new")
    said = f"there is no course '{name}'" if name else "there are several courses"
    raise CavrelError("course", f"{said}; choose one of {', '.join(course.slug for course in found)}")


def runs_of(pool: Pool, course: int) -> list[int]:
    """The numbers of all runs of a course, oldest first, those archived included."""
    with transaction(pool) as connection:
        return run_store.numbers(connection, course)


def head(pool: Pool, course: Course) -> dict[str, bytes]:
    """What an archive holds besides the runs: the course, its laboratory, its own experiments as they were typed."""
    with transaction(pool) as connection:
        laboratory = laboratory_of(connection, course.id, course.version, course.digest)
        own = own_store.latest(connection, course.id)
        benches = [bench.name for bench in course_store.benches(connection, course.id)]
    body = {"format": FORMAT, "slug": course.slug, "title": course.title, "place": course.place, "benches": benches}
    laid_out = laboratory.model_dump(mode="json", by_alias=True, exclude_defaults=True) | {"format": laboratory.format}
    found = {"course.json": _json(body), "laboratory.json": _json(laid_out)}
    return found | {f"experiments/{one.experiment}.toml": one.body.encode() for one in own}


def _json(body: Mapping[str, Any]) -> bytes:
    return (json.dumps(body, indent=2, ensure_ascii=False) + "\n").encode()


def packed(pool: Pool, numbers: list[int], make: Packed) -> Iterator[tuple[str, bytes]]:
    """Each run as a file, its number before its name."""
    for number in numbers:
        opened = open_run(pool, number)
        if opened is not None:
            name, body = make(opened)
            yield f"runs/{number:04d}-{name}", body


def course(pool: Pool, name: str, file: Path, make: Packed) -> int:
    """Write the archive of the course ``name`` to ``file``, which appears there whole or not at all; returns how many runs.

    Raises OSError, CavrelError, DatabaseAway.
    """
    found = course_named(pool, name)
    part = file.with_name(f"{file.name}.part")
    count = 0
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as sink:
            for name, body in head(pool, found).items():
                add(sink, name, body)
            for name, body in packed(pool, runs_of(pool, found.id), make):
                add(sink, name, body)
                count += 1
        part.rename(file)
    finally:
        part.unlink(missing_ok=True)
    return count


def add(sink: zipfile.ZipFile, name: str, body: bytes) -> None:
    """One file, under one moment; what is packed already is not packed again."""
    entry = zipfile.ZipInfo(name, _MOMENT)
    entry.compress_type = (
        zipfile.ZIP_STORED if name.endswith((".zip", ".xlsx", ".ods", ".pdf")) else zipfile.ZIP_DEFLATED
    )
    sink.writestr(entry, body)
