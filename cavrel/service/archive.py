"""A course as one archive: every run as a package of its own, its cupboard, and the experiments that it wrote."""

import json
import zipfile
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

from cavrel.core.errors import CavrelError
from cavrel.service.cupboards import cupboard_of
from cavrel.service.opened import Opened
from cavrel.service.opening import open_run
from cavrel.store import own as own_store
from cavrel.store import runs as run_store
from cavrel.store.pool import Pool, transaction
from cavrel.store.runs import Course

FORMAT = "cavrel-course/1"
_MOMENT = (2020, 1, 1, 0, 0, 0)
Packed = Callable[[Opened], tuple[str, bytes]]
"""A run as a file: its name and what it holds."""


def first_course(pool: Pool) -> Course:
    """The course of this server. Raises CavrelError where there is none."""
    with transaction(pool) as connection:
        found = run_store.courses(connection)
    if not found:
        raise CavrelError("course", "there is no course yet")
    return found[0]


def runs_of(pool: Pool, course: int) -> list[int]:
    """The numbers of all runs of a course, oldest first, those put away included."""
    with transaction(pool) as connection:
        return run_store.numbers(connection, course)


def head(pool: Pool, course: Course) -> dict[str, bytes]:
    """What stands beside the runs: the course, its cupboard, its own experiments as they were typed."""
    with transaction(pool) as connection:
        cupboard = cupboard_of(connection, course.id, course.version, course.digest)
        own = own_store.latest(connection, course.id)
        benches = [bench.name for bench in run_store.benches(connection, course.id)]
    body = {"format": FORMAT, "slug": course.slug, "title": course.title, "place": course.place, "benches": benches}
    laid_out = cupboard.model_dump(mode="json", by_alias=True, exclude_defaults=True) | {"format": cupboard.format}
    found = {"course.json": _json(body), "cupboard.json": _json(laid_out)}
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


def course(pool: Pool, file: Path, make: Packed) -> int:
    """Write the archive of the course to ``file``, which appears there whole or not at all; returns how many runs. Raises OSError, CavrelError,
    DatabaseAway."""
    found = first_course(pool)
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
