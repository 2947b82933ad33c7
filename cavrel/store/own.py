"""Experiments that a course wrote itself, version after version."""

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from cavrel.core.definition import Definition
from cavrel.store import locks
from cavrel.store.pool import Connection
from cavrel.store.runs import pin


@dataclass(frozen=True, slots=True)
class OwnExperiment:
    """One version: its TOML ``body`` as typed, and the ``hash`` of the definition it amounts to."""

    experiment: str
    version: int
    body: str
    hash: str
    made_at: datetime


_OWN = "select experiment, version, body, definition as hash, made_at from own_experiment where course = %s"


def latest(connection: Connection, course: int) -> list[OwnExperiment]:
    """The newest version of each, by id."""
    rows = connection.execute(
        "select distinct on (experiment) experiment, version, body, definition as hash, made_at from own_experiment "
        "where course = %s order by experiment, version desc",
        [course],
    )
    return [OwnExperiment(**row) for row in rows]


def versions(connection: Connection, course: int, experiment: str) -> list[OwnExperiment]:
    """All versions of one, newest first."""
    rows = connection.execute(_OWN + " and experiment = %s order by version desc", [course, experiment])
    return [OwnExperiment(**row) for row in rows]


def save(connection: Connection, course: int, definition: Definition, body: str, client_key: UUID) -> int:
    """Keep a new version and return its number; the same ``client_key`` again returns the one it made."""
    locks.hold(connection, locks.Of.EXPERIMENTS, course)
    known = connection.execute("select version from own_experiment where client_key = %s", [client_key]).fetchone()
    if known is None:
        known = connection.execute(
            """insert into own_experiment (course, experiment, version, body, definition, client_key)
            select %(course)s, %(id)s, coalesce(max(version), 0) + 1, %(body)s, %(hash)s, %(key)s
            from own_experiment where course = %(course)s and experiment = %(id)s returning version""",
            {
                "course": course,
                "id": definition.id,
                "body": body,
                "hash": pin(connection, definition),
                "key": client_key,
            },
        ).fetchone()
    assert known is not None
    return int(known["version"])
