"""A whole database as one archive of plain CSV tables, and back: read in one snapshot, checked before and after it is put back.

The archive is a ZIP file: ``manifest.json`` names every table with its columns, rows and SHA-256, and each table is a CSV file as PostgreSQL
writes it. It does not depend on the version of the server.
"""

import contextlib
import hashlib
import json
import os
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime, timezone
from graphlib import TopologicalSorter
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql

from cavrel.store import numbers
from cavrel.store.locks import MIGRATION
from cavrel.store.migrate import NewerDatabase, begin, known, migrate

FORMAT = "cavrel-backup/1"
_APART = {"migration", "work", "work_part", "paper", "backup_made"}
"""Tables that are not kept: the schema's own, and what long work has made, all of which can be made again."""
_BLOCK = 1 << 20
_MOST_MANIFEST = 1 << 20


class BackupError(Exception):
    """A backup that cannot be made or put back; says what stands in the way and what to do."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Kept:
    """What a backup holds.

    ``schema``: the migration its database stood at.
    ``made_at``: the moment of its snapshot.
    ``rows``: table -> rows.
    """

    schema: int
    made_at: str
    rows: Mapping[str, int]


def backup(url: str, file: Path) -> Kept:
    """Write everything in the database at ``url`` to ``file``, which appears there whole or not at all.

    People may go on working meanwhile: what is kept is one moment. Raises BackupError.
    """
    if file.exists():
        raise BackupError(f"{file} is there already; a backup never writes over another. Choose another name.")
    part = file.with_name(f"{file.name}.part")
    try:
        with _connected(url) as connection:
            connection.execute("set transaction isolation level repeatable read read only")
            kept = _written(connection, part)
        with part.open("rb") as done:
            os.fsync(done.fileno())
        part.rename(file)
    except OSError as fault:
        raise BackupError(f"cannot write {file}: {fault.strerror or fault}") from fault
    finally:
        part.unlink(missing_ok=True)
    return kept


def _written(connection: psycopg.Connection[Any], part: Path) -> Kept:
    schema = _schema(connection)
    if schema == 0:
        raise BackupError("there is no database of Cavrel's here; nothing to keep")
    if schema > max(known()):
        raise BackupError(
            f"this database was written by a newer Cavrel (schema {schema}; this one knows {max(known())}): it may hold what this one does "
            "not know of. Make the backup with that version."
        )
    made_at = datetime.now(timezone.utc).isoformat()
    tables = []
    with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as packed:
        for name in _tables(connection):
            columns = _columns(connection, name)
            digest, size = hashlib.sha256(), 0
            with packed.open(f"{name}.csv", "w", force_zip64=True) as sink:
                for block in _out(connection, name, columns):
                    digest.update(block)
                    size += len(block)
                    sink.write(block)
            tables.append(
                {
                    "name": name,
                    "columns": columns,
                    "rows": _count(connection, name),
                    "bytes": size,
                    "sha256": digest.hexdigest(),
                }
            )
        manifest = {"format": FORMAT, "schema": schema, "made_at": made_at, "tables": tables}
        packed.writestr("manifest.json", json.dumps(manifest, indent=2) + "\n")
    return Kept(schema=schema, made_at=made_at, rows={str(t["name"]): int(t["rows"]) for t in tables})  # type: ignore[call-overload]


def restore(url: str, file: Path) -> Kept:
    """Put a backup into the database at ``url``, which must be empty, and bring it up to date.

    The archive is checked before anything is written; its tables are exactly those of its schema, are read back and compared after; and all of
    it, the schema too, is one transaction: a backup that is damaged, or a process that is killed, leaves the database as it was. Raises
    BackupError.
    """
    with _reading(file), zipfile.ZipFile(file) as packed:
        manifest = _manifest(packed, file)
        _check(packed, manifest, file)
        schema = manifest["schema"]
        with _connected(url) as connection:
            connection.execute("select pg_advisory_xact_lock(%s)", [MIGRATION])
            if _schema(connection) == 0:
                begin(connection, schema)
            _refuse_used(connection, schema)
            tables = _held_against(connection, manifest, file)
            connection.execute("delete from setting")
            with _least_rights(connection, list(tables)):
                for name, table in tables.items():
                    _in(connection, packed, name, table)
            for name, table in tables.items():
                _compare(connection, name, table)
            numbers.go_on(connection)
    with _connected(url):
        migrate(url)
    return Kept(schema=schema, made_at=manifest["made_at"], rows={n: t["rows"] for n, t in tables.items()})


@contextlib.contextmanager
def _reading(file: Path) -> Iterator[None]:
    """What stands in the way of reading a backup, in one line. Raises BackupError."""
    try:
        yield
    except OSError as fault:
        raise BackupError(f"cannot read {file}: {fault.strerror or fault}") from fault
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, OverflowError) as fault:
        raise BackupError(f"{file} is no backup, or is damaged: {str(fault)[:200]}. Nothing was changed.") from fault


def _manifest(packed: zipfile.ZipFile, file: Path) -> dict[str, Any]:
    no_backup = BackupError(f"{file} is no backup of Cavrel's: its manifest.json cannot be read. Nothing was changed.")
    try:
        if packed.getinfo("manifest.json").file_size > _MOST_MANIFEST:
            raise no_backup
        manifest = json.loads(packed.read("manifest.json"))
        good = manifest["format"] == FORMAT and type(manifest["schema"]) is int and isinstance(manifest["made_at"], str)
        good = good and all(
            isinstance(t["name"], str)
            and all(isinstance(c, str) for c in t["columns"])
            and type(t["rows"]) is int
            and isinstance(t["sha256"], str)
            for t in manifest["tables"]
        )
    except (KeyError, TypeError, ValueError, RecursionError) as fault:
        raise no_backup from fault
    if not good or manifest["schema"] not in known():
        if good and manifest["schema"] > max(known()):
            raise BackupError(
                f"{file} was made by a newer Cavrel (schema {manifest['schema']}; this one knows {max(known())}). "
                "Restore it with that version. Nothing was changed."
            )
        raise BackupError(f"{file} is no backup that this version knows. Nothing was changed.")
    return dict(manifest)


def _check(packed: zipfile.ZipFile, manifest: Mapping[str, Any], file: Path) -> None:
    for table in manifest["tables"]:
        digest = hashlib.sha256()
        try:
            with packed.open(f"{table['name']}.csv") as source:
                while block := source.read(_BLOCK):
                    digest.update(block)
        except (KeyError, zipfile.BadZipFile, zlib.error, EOFError) as fault:
            raise BackupError(
                f"{file} is damaged: {table['name'][:60]}.csv is missing or broken. Nothing was changed."
            ) from fault
        if digest.hexdigest() != table["sha256"]:
            raise BackupError(
                f"{file} is damaged: {table['name'][:60]}.csv is not what was written. Nothing was changed."
            )


def _held_against(
    connection: psycopg.Connection[Any], manifest: Mapping[str, Any], file: Path
) -> dict[str, Mapping[str, Any]]:
    """The tables of the backup by name, in the order in which they go in: exactly those of its schema, with its columns. Raises BackupError."""
    wanted = {name: _columns(connection, name) for name in _tables(connection)}
    found = {table["name"]: table for table in manifest["tables"]}
    if len(found) < len(manifest["tables"]) or set(found) != set(wanted):
        odd = sorted(set(found) ^ set(wanted)) or ["one of them twice"]
        raise BackupError(
            f"{file} does not hold the tables of schema {manifest['schema']}: {', '.join(odd)[:200]}. Nothing was changed."
        )
    for name, columns in wanted.items():
        if found[name]["columns"] != columns:
            raise BackupError(
                f"{file} does not hold the columns of table {name} at schema {manifest['schema']}. Nothing was changed."
            )
    return {name: found[name] for name in wanted}


@contextlib.contextmanager
def _least_rights(connection: psycopg.Connection[Any], tables: list[str]) -> Iterator[None]:
    """Within the block the transaction may add rows to these tables and do nothing else, where its user may arrange that."""
    row = connection.execute("select rolsuper from pg_roles where rolname = current_user").fetchone()
    if not row or not row[0]:
        yield  # a user of less is what it is
        return
    role = sql.Identifier(f"cavrel_restore_{os.getpid()}")
    named = sql.SQL(", ").join(map(sql.Identifier, tables))
    connection.execute(sql.SQL("create role {} nologin").format(role))
    connection.execute(sql.SQL("grant usage on schema {} to {}").format(sql.Identifier(_here(connection)), role))
    connection.execute(sql.SQL("grant insert on {} to {}").format(named, role))
    connection.execute(sql.SQL("set local role {}").format(role))
    yield
    connection.execute("reset role")
    connection.execute(sql.SQL("drop owned by {}").format(role))
    connection.execute(sql.SQL("drop role {}").format(role))


def _here(connection: psycopg.Connection[Any]) -> str:
    row = connection.execute("select current_schema()").fetchone()
    return str(row[0]) if row else "public"


def _refuse_used(connection: psycopg.Connection[Any], schema: int) -> None:
    stands = _schema(connection)
    for name in _tables(connection) if stands in known() else []:
        if name != "setting" and _count(connection, name):
            raise BackupError(
                f"this database holds data already (table {name}). A backup goes into an empty one: name another in "
                "DATABASE_URL, or another folder in CAVREL_DATA. Nothing was changed."
            )
    if stands != schema:
        raise BackupError(
            f"this database stands at schema {stands} already and the backup at {schema}: name a database, or a folder, "
            "that no Cavrel has opened yet. Nothing was changed."
        )


@contextlib.contextmanager
def _connected(url: str) -> Iterator[psycopg.Connection[Any]]:
    """One transaction, with times and numbers written in one way. Raises BackupError."""
    try:
        with psycopg.connect(url, connect_timeout=5, options="-c timezone=UTC -c datestyle=ISO") as connection:
            yield connection
    except NewerDatabase as fault:
        raise BackupError(str(fault)) from fault
    except psycopg.OperationalError as fault:
        raise BackupError(f"the database does not answer: {str(fault).strip().splitlines()[0]}") from fault
    except psycopg.Error as fault:
        raise BackupError(
            f"the database refused: {str(fault).strip().splitlines()[0]}. Nothing was changed."
        ) from fault


def _schema(connection: psycopg.Connection[Any]) -> int:
    if connection.execute("select to_regclass('migration')").fetchone() == (None,):
        return 0
    row = connection.execute("select coalesce(max(number), 0) from migration").fetchone()
    return int(row[0]) if row else 0


def _tables(connection: psycopg.Connection[Any]) -> list[str]:
    """Tables, each after those that it refers to."""
    rows = connection.execute(
        "select relname from pg_class where relkind = 'r' and relnamespace = current_schema()::regnamespace order by relname"
    )
    names = [name for (name,) in rows if name not in _APART]
    refers = connection.execute(
        """select child.relname, parent.relname from pg_constraint
        join pg_class child on child.oid = conrelid join pg_class parent on parent.oid = confrelid
        where contype = 'f' and child.relnamespace = current_schema()::regnamespace and child.oid <> parent.oid"""
    ).fetchall()
    order = TopologicalSorter({name: sorted(p for c, p in refers if c == name) for name in names})
    return [name for name in order.static_order() if name in names]


def _columns(connection: psycopg.Connection[Any], table: str) -> list[str]:
    rows = connection.execute(
        "select attname from pg_attribute where attrelid = %s::regclass and attnum > 0 and not attisdropped order by attnum",
        [table],
    )
    return [name for (name,) in rows]


def _copy_out(table: str, columns: list[str]) -> sql.Composed:
    """In the order of its first two columns, by which every table's rows are told apart."""
    named = sql.SQL(", ").join(map(sql.Identifier, columns))
    order = sql.SQL(", ").join(map(sql.Identifier, columns[:2]))
    return sql.SQL("copy (select {} from {} order by {}) to stdout (format csv, header true)").format(
        named, sql.Identifier(table), order
    )


def _copy_in(table: str, columns: list[str]) -> sql.Composed:
    named = sql.SQL(", ").join(map(sql.Identifier, columns))
    return sql.SQL("copy {} ({}) from stdin (format csv, header true)").format(sql.Identifier(table), named)


def _out(connection: psycopg.Connection[Any], table: str, columns: list[str]) -> Iterator[bytes]:
    with connection.cursor() as cursor, cursor.copy(_copy_out(table, columns)) as source:
        for block in source:
            yield bytes(block)


def _in(connection: psycopg.Connection[Any], packed: zipfile.ZipFile, name: str, table: Mapping[str, Any]) -> None:
    with (
        packed.open(f"{name}.csv") as source,
        connection.cursor() as cursor,
        cursor.copy(_copy_in(name, table["columns"])) as sink,
    ):
        while block := source.read(_BLOCK):
            sink.write(block)


def _compare(connection: psycopg.Connection[Any], name: str, table: Mapping[str, Any]) -> None:
    """Read a table back and hold it against what was written. Raises BackupError."""
    digest = hashlib.sha256()
    for block in _out(connection, name, table["columns"]):
        digest.update(block)
    if digest.hexdigest() != table["sha256"] or _count(connection, name) != table["rows"]:
        raise BackupError(f"table {name} does not come back as it was written. Nothing was changed.")


def _count(connection: psycopg.Connection[Any], table: str) -> int:
    row = connection.execute(sql.SQL("select count(*) from {}").format(sql.Identifier(table))).fetchone()
    return int(row[0]) if row else 0
