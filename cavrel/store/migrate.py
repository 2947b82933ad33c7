"""The schema: numbered SQL files, applied in order, each in a transaction of its own."""

import logging
import time
from pathlib import Path
from typing import Any

import psycopg

from cavrel.store import numbers
from cavrel.store.locks import MIGRATION

log = logging.getLogger("cavrel")
FOLDER = Path(__file__).resolve().parent / "migrations"
PATIENCE = 120.0
"""Seconds that a start waits for another one that brings the same database up to date."""


class NewerDatabase(Exception):
    """The database was written by a newer Cavrel than this one."""


class Migrating(Exception):
    """Another start brings the database up to date, and does not end."""


def _wait(connection: "psycopg.Connection[tuple[object, ...]]") -> None:
    """Take the lock of whoever migrates, saying so where that takes a while. Raises Migrating."""
    began, said = time.monotonic(), False
    while connection.execute("select pg_try_advisory_lock(%s)", [MIGRATION]).fetchone() != (True,):
        if time.monotonic() - began > PATIENCE:
            raise Migrating(
                f"another start has brought this database up to date for over {PATIENCE:.0f} s and has not ended. "
                "See what it is doing, then start again. Nothing was changed."
            )
        if not said and time.monotonic() - began > 1:
            log.warning("waiting for another start that brings this database up to date")
            said = True
        time.sleep(0.1)


def known() -> dict[int, Path]:
    """Migrations by number."""
    return {int(path.name.split("_")[0]): path for path in sorted(FOLDER.glob("[0-9]*.sql"))}


def begin(connection: "psycopg.Connection[Any]", most: int) -> None:
    """The schema as of migration ``most`` in a database that has none, within the caller's transaction."""
    connection.execute(_TABLE)
    for number, path in known().items():
        if number <= most:
            connection.execute(path.read_bytes())
            connection.execute("insert into migration (number) values (%s)", [number])


_TABLE = "create table if not exists migration (number int primary key, made_at timestamptz not null default now())"


def migrate(url: str, most: int | None = None) -> list[int]:
    """Bring the database at ``url`` up to date, or to migration ``most``; returns the migrations applied.

    Raises NewerDatabase when it holds migrations this version does not know, Migrating where another start has not ended within `PATIENCE`, and
    psycopg's errors when it cannot be reached.
    """
    files = known()
    applied = []
    with psycopg.connect(url, autocommit=True, connect_timeout=5) as connection:
        _wait(connection)
        connection.execute(_TABLE)
        done = {row[0] for row in connection.execute("select number from migration")}
        unknown = done - files.keys()
        if unknown:
            raise NewerDatabase(
                f"this database was written by a newer Cavrel (schema {max(unknown)}; this one knows {max(files)}). "
                "Start the newer version, or point DATABASE_URL or CAVREL_DATA elsewhere. Nothing was changed."
            )
        for number, path in files.items():
            if number not in done and (most is None or number <= most):
                with connection.transaction():
                    connection.execute(path.read_bytes())
                    connection.execute("insert into migration (number) values (%s)", [number])
                applied.append(number)
        numbers.go_on(connection)
    return applied
