"""PDFs that are asked for: a line of those that wait, and what was made, by its hash."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from psycopg.types.json import Json

from cavrel.store import locks
from cavrel.store.pool import Connection

AT_ONCE = 2
"""Of all processes together."""
_KEPT = 200
_GONE = "10 seconds"
"""Who has not looked for so long waits no more."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Paper:
    """A PDF that was asked for.

    ``digest``: what it is known by.
    ``file``: its name.
    ``body``: it; None while it is not made.
    ``fault``: why it cannot be made; empty where it can.
    ``before``: how many are before it in the line.
    """

    digest: str
    file: str
    body: bytes | None
    fault: str
    before: int


def ask(connection: Connection, digest: str, source: Mapping[str, Any], file: str) -> None:
    """Put it in the line, unless it stands there or is made."""
    connection.execute(
        "insert into paper (digest, source, file) values (%s, %s, %s) on conflict (digest) do nothing",
        [digest, Json(dict(source)), file],
    )


def look(connection: Connection, digest: str) -> Paper | None:
    """How it stands; who looks goes on waiting. None where nobody asked for it, or it is kept no longer."""
    row = connection.execute(
        "update paper set looked_at = clock_timestamp() where digest = %s returning digest, file, body, fault, asked_at, made_at",
        [digest],
    ).fetchone()
    if row is None:
        return None
    before = 0
    if row["made_at"] is None:
        found = connection.execute(
            f"""select count(*) as many from paper where made_at is null and (asked_at, digest) < (%s, %s)
            and looked_at > clock_timestamp() - interval '{_GONE}'""",
            [row["asked_at"], digest],
        ).fetchone()
        before = int(found["many"]) if found else 0
    body = None if row["body"] is None else bytes(row["body"])
    return Paper(digest=digest, file=row["file"], body=body, fault=row["fault"], before=before)


def mine(connection: Connection, digest: str) -> Mapping[str, Any] | None:
    """What to set it from, where it is not made and this transaction may make it now: nobody else makes it, and not too many others are made.
    None otherwise."""
    if not locks.mine_until_end(connection, locks.Of.PAPER, AT_ONCE + int(digest[:7], 16)):
        return None
    if not any(locks.mine_until_end(connection, locks.Of.PAPER, slot) for slot in range(AT_ONCE)):
        return None
    row = connection.execute("select source from paper where digest = %s and made_at is null", [digest]).fetchone()
    return dict(row["source"]) if row else None


def keep(connection: Connection, digest: str, body: bytes | None, fault: str = "") -> None:
    """It is made, or cannot be; those kept longest go."""
    connection.execute(
        "update paper set body = %s, fault = %s, source = null, made_at = clock_timestamp() where digest = %s",
        [body, fault, digest],
    )
    connection.execute(
        "delete from paper where digest in (select digest from paper order by looked_at desc offset %s)", [_KEPT]
    )
