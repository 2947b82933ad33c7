"""The laboratory of a course: each version read once a process, a change made on the newest one and tried before it is kept."""

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from uuid import UUID

from cavrel import catalogue
from cavrel.core import laboratory as laboratories
from cavrel.core.definition import Definition
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import Laboratory, Selection
from cavrel.core.laboratory.document import LaboratoryError
from cavrel.core.remember import by_identity
from cavrel.store import imported
from cavrel.store import laboratories as store
from cavrel.store.pool import Connection

MOST = 64
_known: OrderedDict[str, Laboratory] = OrderedDict()
_lock = Lock()


def laboratory_of(connection: Connection, course: int, version: int, digest: str) -> Laboratory:
    """A version of a course's laboratory, known by its ``digest``; version 0 came with a run from a file. Raises LookupError."""
    with _lock:
        found = _known.get(digest)
        if found is not None:
            _known.move_to_end(digest)
            return found
    made = laboratories.load(
        store.body(connection, course, version) if version else imported.laboratory(connection, digest)
    )
    with _lock:
        made = _known.setdefault(digest, made)
        while len(_known) > MOST:
            _known.popitem(last=False)
    return made


@by_identity(512)
def taken(definition: Definition, laboratory: Laboratory) -> Selection:
    """What an experiment, under its conventions, takes out of the laboratory."""
    return laboratories.taken(laboratory, definition, catalogue.instruments())


def change(
    connection: Connection,
    course: int,
    make: Callable[[Laboratory], Laboratory],
    own: list[Definition],
    author: str = "",
    key: UUID | None = None,
) -> int:
    """Make the next version of what the newest one becomes by ``make``, and return its number; the newest one's where that changes nothing.

    ``own``: experiments that the course wrote. Raises LaboratoryError where it cannot be used, or an experiment cannot be computed with it.
    """
    store.lock(connection, course)
    newest = store.versions(connection, course, 1)[0]
    before = laboratory_of(connection, course, newest.version, newest.digest)
    after = make(before)
    if after == before:
        return newest.version
    _try(before, after, [*catalogue.experiments().values(), *own])
    return store.save(connection, course, after, author, key)


def _try(before: Laboratory, after: Laboratory, definitions: list[Definition]) -> None:
    """Compile every experiment that takes something else out than before. Raises LaboratoryError."""
    known = {definition.id: definition for definition in definitions}
    for value in after.accepted.values():
        for place in value.results:
            experiment, _, result = place.partition(".")
            if experiment not in known or result not in known[experiment].results:
                raise LaboratoryError(f"{value.label}", f"no experiment has a result '{place}'")
    for definition in definitions:
        now = taken(definition, after)
        was = taken(definition, before)
        if (now.instruments, now.accepted) == (was.instruments, was.accepted):
            continue
        try:
            catalogue.program_of(definition, now.instruments, None, now.accepted)
        except CavrelError as fault:
            raise LaboratoryError(
                definition.title, f"this experiment cannot be computed with it: {fault.what}"
            ) from fault
