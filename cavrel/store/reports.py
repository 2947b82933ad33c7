"""Signed reports, version after version; none is ever changed."""

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from psycopg.types.json import Json

from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True, kw_only=True)
class SignedReport:
    """One version, without what it holds.

    ``version``: its number, from 1.
    ``digest``: SHA-256 of what it holds.
    ``last``: the newest entry of the logbook at that time.
    ``author``: who signed.
    ``made_at``: when.
    """

    version: int
    digest: str
    last: int
    author: str
    made_at: datetime


_COLUMNS = "version, digest, last, author, made_at"


def digest_of(body: Mapping[str, Any]) -> str:
    """SHA-256 of a body, whatever the order of its keys."""
    return hashlib.sha256(json.dumps(body, sort_keys=True, ensure_ascii=False).encode()).hexdigest()


def by_key(connection: Connection, run: int, key: UUID) -> SignedReport | None:
    """The version that a form's key made, or None."""
    row = connection.execute(f"select {_COLUMNS} from report where client_key = %s and run = %s", [key, run]).fetchone()
    return SignedReport(**row) if row else None


def sign(connection: Connection, run: int, body: Mapping[str, Any], author: str, key: UUID) -> SignedReport:
    """Keep the next version. The caller holds the run's lock, and knows that the key is new."""
    row = connection.execute(
        f"""insert into report (run, version, body, digest, last, author, client_key)
        select %(run)s, coalesce(max(version), 0) + 1, %(body)s, %(digest)s, %(last)s, %(author)s, %(key)s
        from report where run = %(run)s returning {_COLUMNS}""",
        {
            "run": run,
            "body": Json(body),
            "digest": digest_of(body),
            "last": body["last"],
            "author": author[:80],
            "key": key,
        },
    ).fetchone()
    assert row is not None
    return SignedReport(**row)


def of_run(connection: Connection, run: int) -> list[SignedReport]:
    """All versions, newest first."""
    rows = connection.execute(f"select {_COLUMNS} from report where run = %s order by version desc", [run])
    return [SignedReport(**row) for row in rows]


def body(connection: Connection, run: int, version: int) -> dict[str, Any]:
    """What a version holds. Raises LookupError."""
    row = connection.execute("select body from report where run = %s and version = %s", [run, version]).fetchone()
    if row is None:
        raise LookupError(version)
    return dict(row["body"])
