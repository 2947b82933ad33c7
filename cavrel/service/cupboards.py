"""The cupboard of a course: each version read once a process, a change made on the newest one and tried before it is kept."""

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from uuid import UUID

from cavrel import catalogue
from cavrel.core import cupboard as cupboards
from cavrel.core.cupboard import Cupboard, Taken
from cavrel.core.cupboard.document import CupboardError
from cavrel.core.definition import Definition
from cavrel.core.errors import CavrelError
from cavrel.core.remember import by_identity
from cavrel.store import brought
from cavrel.store import cupboards as store
from cavrel.store.pool import Connection

MOST = 64
_known: OrderedDict[str, Cupboard] = OrderedDict()
_lock = Lock()


def cupboard_of(connection: Connection, course: int, version: int, digest: str) -> Cupboard:
    """A version of a course's cupboard, known by its ``digest``; version 0 came with a run from a file. Raises LookupError."""
    with _lock:
        found = _known.get(digest)
        if found is not None:
            _known.move_to_end(digest)
            return found
    made = cupboards.load(store.body(connection, course, version) if version else brought.cupboard(connection, digest))
    with _lock:
        made = _known.setdefault(digest, made)
        while len(_known) > MOST:
            _known.popitem(last=False)
    return made


@by_identity(512)
def taken(definition: Definition, cupboard: Cupboard) -> Taken:
    """What an experiment, under its conventions, takes out of the cupboard."""
    return cupboards.taken(cupboard, definition, catalogue.instruments())


def change(
    connection: Connection,
    course: int,
    make: Callable[[Cupboard], Cupboard],
    own: list[Definition],
    author: str = "",
    key: UUID | None = None,
) -> int:
    """Make the next version of what the newest one becomes by ``make``, and return its number; the newest one's where that changes nothing.

    ``own``: experiments that the course wrote. Raises CupboardError where it cannot be used, or an experiment cannot be worked out with it.
    """
    store.lock(connection, course)
    newest = store.versions(connection, course, 1)[0]
    before = cupboard_of(connection, course, newest.version, newest.digest)
    after = make(before)
    if after == before:
        return newest.version
    _try(before, after, [*catalogue.experiments().values(), *own])
    return store.save(connection, course, after, author, key)


def _try(before: Cupboard, after: Cupboard, definitions: list[Definition]) -> None:
    """Compile every experiment that takes something else out than before. Raises CupboardError."""
    known = {definition.id: definition for definition in definitions}
    for value in after.accepted.values():
        for place in value.results:
            experiment, _, result = place.partition(".")
            if experiment not in known or result not in known[experiment].results:
                raise CupboardError(f"{value.label}", f"no experiment has a result '{place}'")
    for definition in definitions:
        now = taken(definition, after)
        was = taken(definition, before)
        if (now.instruments, now.accepted) == (was.instruments, was.accepted):
            continue
        try:
            catalogue.program_of(definition, now.instruments, None, now.accepted)
        except CavrelError as fault:
            raise CupboardError(
                definition.title, f"this experiment could not be worked out with it: {fault.what}"
            ) from fault
