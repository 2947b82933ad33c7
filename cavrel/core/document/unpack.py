"""A file that somebody imports, taken apart: nothing of it is believed before it is read, and nothing large is unpacked."""

import hashlib
import io
import json
import re
import zipfile
import zlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar

from cavrel.core import laboratory as laboratories
from cavrel.core.document import logbook_file
from cavrel.core.document.logbook_file import Carried
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import Laboratory, OwnValue
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.run import RunDocument

_Read = TypeVar("_Read")

MOST_BYTES = 20 * 1024 * 1024
"""Of a file that is imported."""
MOST_UNPACKED = 80 * 1024 * 1024
MOST_FILES = 200
MOST_OF_COURSE, MOST_RUNS = 1024 * 1024 * 1024, 5000
"""Of a course's archive, which only the command line takes."""


class FileError(CavrelError):
    """A file that cannot be imported; says where, what and what to do."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Parcel:
    """What a file holds.

    ``run``: the run document.
    ``experiment``: the definition's document, or the name of one that ships.
    ``carried``: its logbook, where that came with the file.
    ``laboratory``: by which it was made.
    ``sha256``: of the file.
    """

    run: RunDocument
    experiment: str | Mapping[str, Any]
    carried: Carried | None
    laboratory: Laboratory
    sha256: str


def unpack(body: bytes) -> Parcel:
    """A run document or a data package of Cavrel's. Raises CavrelError."""
    if len(body) > MOST_BYTES:
        raise FileError("", f"has {len(body) // 2**20} MB, and a file to import has {MOST_BYTES // 2**20} at most")
    digest = hashlib.sha256(body).hexdigest()
    if body[:2] == b"PK":
        return _package(_unzipped(body), digest)
    document = _json("", body)
    run = runs.load(document)
    return Parcel(run=run, experiment=run.experiment, carried=None, laboratory=_laboratory_of(run), sha256=digest)


def runs_in(body: bytes, name: str) -> dict[str, bytes]:
    """The runs in a file, each as a file of its own: those of a course's archive, or the one that it is. Raises FileError."""
    if body[:2] != b"PK" or b"course.json" not in body:
        return {name: body}
    files = _unzipped(body, MOST_OF_COURSE, MOST_RUNS)
    if "course.json" not in files:
        return {name: body}
    found = {part: one for part, one in sorted(files.items()) if part.endswith(".zip")}
    if not found:
        raise FileError("", "holds a course without a run")
    return found


def course_in(body: bytes) -> tuple[dict[str, Any], Laboratory] | None:
    """What a course's archive says of the course, and its laboratory; None for any other file. Raises CavrelError."""
    if body[:2] != b"PK" or b"course.json" not in body:
        return None
    files = _unzipped(body, MOST_OF_COURSE, MOST_RUNS)
    if "course.json" not in files:
        return None
    course = _json("course.json", files["course.json"])
    texts = (
        all(isinstance(course.get(key), str) for key in ("slug", "title", "place"))
        if isinstance(course, dict)
        else False
    )
    if (
        not texts
        or not isinstance(course.get("benches"), list)
        or not re.fullmatch(r"[a-z][a-z0-9-]{0,39}", course["slug"])
    ):
        raise FileError("course.json", "says no course that can be made: slug, title, place and benches")
    benches = [str(bench)[:40] for bench in course["benches"] if str(bench).strip()]
    laboratory = _laboratory_in(files) or laboratories.EMPTY
    return {**course, "title": course["title"][:120] or course["slug"], "benches": benches}, laboratory


def _package(files: Mapping[str, bytes], digest: str) -> Parcel:
    if "run.json" not in files:
        raise FileError(
            "run.json", "is missing: this is no data package of a run. A table of readings is imported on Measure."
        )
    run = _in("run.json", lambda: runs.load(_json("run.json", files["run.json"])))
    experiment: str | Mapping[str, Any] = run.experiment
    if "definition.json" in files:
        document = _json("definition.json", files["definition.json"])
        if not isinstance(document, Mapping):
            raise FileError("definition.json", "must be an object")
        experiment = document
    taken = None
    if "logbook.json" in files:
        taken = _in("logbook.json", lambda: logbook_file.read(_json("logbook.json", files["logbook.json"])))
    laboratory = (_laboratory_in(files) if taken is not None else None) or _laboratory_of(run)
    return Parcel(run=run, experiment=experiment, carried=taken, laboratory=laboratory, sha256=digest)


def _laboratory_in(files: Mapping[str, bytes]) -> Laboratory | None:
    """The laboratory that a package or archive holds, under the name of today or of earlier versions. Raises FileError."""
    name = next((name for name in ("laboratory.json", "cupboard.json") if name in files), None)
    return None if name is None else _in(name, lambda: laboratories.load(_json(name, files[name])))


def _in(file: str, read: Callable[[], _Read]) -> _Read:
    """What ``read`` makes; a fault says in which file. Raises FileError."""
    try:
        return read()
    except FileError:
        raise
    except CavrelError as fault:
        raise FileError(f"{file}{': ' if fault.place else ''}{fault.place}", fault.what) from fault


def _laboratory_of(run: RunDocument) -> Laboratory:
    """The laboratory that a run document's accepted values come from."""
    name = run.experiment if isinstance(run.experiment, str) else str(run.experiment.get("id", ""))
    return Laboratory(
        accepted={
            key: OwnValue(
                label=value.label,
                value=value.value,
                u=value.u,
                source=value.source,
                results=tuple(f"{name}.{result}" for result in value.results),
            )
            for key, value in run.accepted.items()
        }
    )


def _unzipped(body: bytes, left: int = MOST_UNPACKED, most: int = MOST_FILES) -> dict[str, bytes]:
    """The files of an archive by name, no more of each than the limits allow. Raises FileError."""
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as packed:
            members = [m for m in packed.infolist() if not m.is_dir()]
            if len(members) > most:
                raise FileError("", f"holds {len(members)} files, and {most} are the most")
            found: dict[str, bytes] = {}
            whole = left
            for member in members:
                if member.flag_bits & 1:
                    raise FileError(member.filename[:80], "is encrypted; import the archive as Cavrel wrote it")
                with packed.open(member) as source:
                    content = source.read(left + 1)
                left -= len(content)
                if left < 0:
                    raise FileError("", f"unpacks to more than {whole // 2**20} MB")
                # An archive that was unpacked and packed again holds its files in a folder.
                found[member.filename.replace("\\", "/").rpartition("/")[2]] = content
            return found
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, ValueError, OSError, RuntimeError) as fault:
        raise FileError("", f"is a damaged archive: {fault}") from fault


def _json(file: str, body: bytes) -> Any:
    try:
        return json.loads(body.decode("utf-8-sig"))
    except UnicodeDecodeError as fault:
        raise FileError(file, f"is no UTF-8 text (byte {fault.start + 1})") from fault
    except json.JSONDecodeError as fault:
        raise FileError(
            file, f"line {fault.lineno}, column {fault.colno}: not readable as JSON: {fault.msg}"
        ) from fault
    except (RecursionError, ValueError) as fault:
        raise FileError(file, "cannot be read as JSON: it stands too deep, or holds a number too long") from fault
