"""The demonstration course: Bench Physics in the lighthouse at Tallow Quay. All of it is invented."""

import json
from pathlib import Path
from uuid import UUID, uuid5

from cavrel.store import course_exists
from cavrel.store.pool import Pool, transaction

FILE = Path(__file__).resolve().parent / "demo.json"
_SPACE = UUID("6a1c7b52-8f0e-4d3a-9b61-0c2f5a7e9d14")


def key(what: str) -> UUID:
    """The key of a run, an entry or a lesson of the course: always the same one."""
    return uuid5(_SPACE, what)


def load(pool: Pool) -> None:
    """Put the course into the database, unless it stands there already. Loading twice changes nothing."""
    body = json.loads(FILE.read_text(encoding="utf-8"))
    course = body["course"]
    runs, lessons = ([key(f"{kind} {i}") for i in range(len(body[f"{kind}s"]))] for kind in ("run", "lesson"))
    with transaction(pool) as connection:
        if course_exists.there(connection, course["slug"], course["benches"], lessons, runs):
            return
    # The computation takes a second to load, and a server that starts has no need of it.
    from cavrel.democourse import put

    put(pool, body, key)
