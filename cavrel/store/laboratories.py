"""Versions of a course's laboratory."""

import hashlib
import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from psycopg.types.json import Json

from cavrel.core.laboratory import Laboratory
from cavrel.store import locks
from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True, kw_only=True)
class Version:
    """One version, without what it holds.

    ``version``: its number, from 1.
    ``digest``: what it holds is known by.
    ``author``: who made it.
    ``made_at``: when.
    """

    version: int
    digest: str
    author: str
    made_at: datetime


def versions(connection: Connection, course: int, most: int = 50) -> list[Version]:
    """The newest versions, newest first."""
    rows = connection.execute(
        "select version, digest, author, made_at from laboratory where course = %s order by version desc limit %s",
        [course, most],
    )
    return [Version(**row) for row in rows]


def body(connection: Connection, course: int, version: int) -> dict[str, Any]:
    """What a version holds. Raises LookupError."""
    row = connection.execute(
        "select body from laboratory where course = %s and version = %s", [course, version]
    ).fetchone()
    if row is None:
        raise LookupError(version)
    return dict(row["body"])


def lock(connection: Connection, course: int) -> None:
    """Until the end of the transaction nobody else makes a version."""
    locks.hold(connection, locks.Of.CUPBOARD, course)


def save(connection: Connection, course: int, laboratory: Laboratory, author: str = "", key: UUID | None = None) -> int:
    """Keep a new version and return its number; the same ``key`` again returns the one it made. The caller holds the lock."""
    if key is not None:
        known = connection.execute("select version from laboratory where client_key = %s", [key]).fetchone()
        if known is not None:
            return int(known["version"])
    document = laboratory.model_dump(mode="json", by_alias=True, exclude_defaults=True) | {"format": laboratory.format}
    digest = hashlib.sha256(json.dumps(document, sort_keys=True).encode()).hexdigest()
    row = connection.execute(
        """insert into laboratory (course, version, body, digest, author, client_key)
        select %(course)s, coalesce(max(version), 0) + 1, %(body)s, %(digest)s, %(author)s, %(key)s from laboratory where course = %(course)s
        returning version""",
        {"course": course, "body": Json(document), "digest": digest, "author": author[:80], "key": key},
    ).fetchone()
    assert row is not None
    return int(row["version"])
