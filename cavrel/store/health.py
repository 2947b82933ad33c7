"""Whether the database can be worked with by this version."""

from dataclasses import dataclass

from cavrel.store import nightly
from cavrel.store.migrate import known
from cavrel.store.nightly import Last
from cavrel.store.pool import Connection


@dataclass(frozen=True, slots=True, kw_only=True)
class Database:
    """``schema``: the newest migration it holds; ``writable``: it takes what is written; ``backup``: how backups stand."""

    schema: int
    writable: bool
    backup: Last


def schema(connection: Connection) -> int:
    """The newest migration that the database holds."""
    row = connection.execute("select coalesce(max(number), 0) as number from migration").fetchone()
    return int(row["number"]) if row else 0


def newest() -> int:
    """The newest migration that this version knows."""
    return max(known())


def look(connection: Connection) -> Database:
    """How the database stands; one that takes no writing, such as a copy that only follows another, says so."""
    row = connection.execute(
        "select pg_is_in_recovery() or current_setting('transaction_read_only') = 'on' as closed"
    ).fetchone()
    writable = bool(row) and not (row and row["closed"])
    if writable:
        connection.execute("select pg_current_xact_id()")
    return Database(schema=schema(connection), writable=writable, backup=nightly.last(connection))
