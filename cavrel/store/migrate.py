"""The schema: numbered SQL files, applied in order, each in a transaction of its own."""

from pathlib import Path

import psycopg

from cavrel.store import numbers

FOLDER = Path(__file__).resolve().parent / "migrations"
_LOCK = 7_219_004_411  # any number, the same for all Cavrel processes, so that two never migrate at once


class NewerDatabase(Exception):
    """The database was written by a newer Cavrel than this one."""


def known() -> dict[int, Path]:
    """Migrations by number."""
    return {int(path.name.split("_")[0]): path for path in sorted(FOLDER.glob("[0-9]*.sql"))}


def migrate(url: str, most: int | None = None) -> list[int]:
    """Bring the database at ``url`` up to date, or to migration ``most``; returns the migrations applied.

    Raises NewerDatabase when it holds migrations this version does not know, and psycopg's errors when it cannot be reached.
    """
    files = known()
    applied = []
    with psycopg.connect(url, autocommit=True, connect_timeout=5) as connection:
        connection.execute("select pg_advisory_lock(%s)", [_LOCK])
        connection.execute(
            "create table if not exists migration (number int primary key, made_at timestamptz not null default now())"
        )
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
