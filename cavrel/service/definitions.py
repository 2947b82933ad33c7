"""Definitions that runs are pinned to. What a hash stands for never changes, so each is read and checked once a process."""

from collections import OrderedDict
from threading import Lock

from cavrel.core.definition import Definition
from cavrel.store import runs as run_store
from cavrel.store.pool import Connection

MOST = 512
_known: OrderedDict[str, Definition] = OrderedDict()
_lock = Lock()


def definition_of(connection: Connection, digest: str) -> Definition:
    """The definition a run is pinned to. Raises LookupError."""
    with _lock:
        found = _known.get(digest)
        if found is not None:
            _known.move_to_end(digest)
            return found
    made = Definition.model_validate(run_store.pinned(connection, digest))
    with _lock:
        _known[digest] = made
        while len(_known) > MOST:
            _known.popitem(last=False)
    return made
