"""Backups by themselves: when one is due, which are kept, whether the newest can be put back, and what became of each."""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any
from uuid import uuid4

import psycopg
from psycopg import sql
from psycopg.conninfo import make_conninfo
from psycopg.rows import dict_row

from cavrel.store import backup, locks
from cavrel.store.backup import BackupError

DAYS, MONTHS = 14, 12
TRIED_EVERY = timedelta(days=7)
_NAME = re.compile(r"cavrel-(\d{4}-\d{2}-\d{2})(?:-\d{4})?\.zip")


@dataclass(frozen=True, slots=True, kw_only=True)
class Last:
    """How backups stand.

    ``made_at``: when the last good one was made, or None.
    ``file``: where it lies.
    ``tried_at``: when one was last put back to see whether it can be, or None.
    ``fault``: what went wrong in the newest attempt; empty where nothing did.
    """

    made_at: datetime | None
    file: str
    tried_at: datetime | None
    fault: str


def due(last: datetime, now: datetime, at: time) -> bool:
    """Whether the hour ``at`` has come since ``last``; all in one zone."""
    latest = now.replace(hour=at.hour, minute=at.minute, second=0, microsecond=0)
    if latest > now:
        latest -= timedelta(days=1)
    return last < latest


def kept(days: Iterable[date], today: date) -> set[date]:
    """Of the days of which there are backups, those that are kept: the last 14, and the first there is of each of the last 12 months."""
    all_days = sorted(days)
    found = {day for day in all_days if (today - day).days < DAYS}
    firsts: dict[int, date] = {}
    for day in all_days:
        firsts.setdefault(12 * day.year + day.month, day)
    this = 12 * today.year + today.month
    return found | {day for month, day in firsts.items() if this - month < MONTHS}


def thinned(folder: Path, today: date) -> list[Path]:
    """Take away the backups in a folder that are kept no longer; what is called otherwise is left alone. Returns those that went."""
    found = {
        file: date.fromisoformat(m[1]) for file in folder.glob("cavrel-*.zip") if (m := _NAME.fullmatch(file.name))
    }
    stays = kept(found.values(), today)
    gone = [file for file, day in sorted(found.items()) if day not in stays]
    for file in gone:
        file.unlink(missing_ok=True)
    return gone


def last(connection: psycopg.Connection[Any]) -> Last:
    """How backups stand."""
    with connection.cursor(row_factory=dict_row) as cursor:
        good = cursor.execute(
            "select made_at, file from backup_made where fault = '' and bytes > 0 order by id desc limit 1"
        ).fetchone()
        tried = cursor.execute("select max(tried_at) as tried_at from backup_made where fault = ''").fetchone()
        newest = cursor.execute("select fault from backup_made order by id desc limit 1").fetchone()
    return Last(
        made_at=good["made_at"] if good else None,
        file=good["file"] if good else "",
        tried_at=tried["tried_at"] if tried else None,
        fault=newest["fault"] if newest else "",
    )


def look(url: str, folder: Path, at: time, now: datetime) -> str:
    """Make a backup where one is due, take old ones away, and put the newest back to see whether it can be, once a week; what was done, in
    words, empty for nothing. One process of a database does it at a time; a fault is kept, and said. ``now``: in the server's zone."""
    with psycopg.connect(url, autocommit=True, connect_timeout=5) as connection:
        if connection.execute("select pg_try_advisory_lock(%s, %s)", [int(locks.Of.BACKUP), 0]).fetchone() != (True,):
            return ""
        stands = last(connection)
        since = connection.execute("select min(made_at) from migration").fetchone()
        tried_before = connection.execute("select max(made_at) from backup_made").fetchone()
        before = stands.made_at or (since[0] if since else None)
        # After one that failed, the next attempt is an hour later.
        rests = stands.fault and tried_before and now - tried_before[0] < timedelta(hours=1)
        if before is not None and not rests and due(before.astimezone(now.tzinfo), now, at):
            return _make(connection, url, folder, now)
        if stands.made_at and not stands.fault and (stands.tried_at is None or now - stands.tried_at > TRIED_EVERY):
            return _try(connection, url, Path(stands.file), now)
    return ""


def _make(connection: psycopg.Connection[Any], url: str, folder: Path, now: datetime) -> str:
    file = folder / f"cavrel-{now.date()}.zip"
    if file.exists():
        file = folder / f"cavrel-{now.date()}-{now:%H%M}.zip"
    fault, size = "", 0
    try:
        folder.mkdir(parents=True, exist_ok=True)
        backup.backup(url, file)
        size = file.stat().st_size
        thinned(folder, now.date())
    except (BackupError, OSError) as what:
        fault = str(what)[:400]
    connection.execute(
        "insert into backup_made (made_at, file, bytes, fault) values (%s, %s, %s, %s)", [now, str(file), size, fault]
    )
    return f"no backup could be made: {fault}" if fault else f"backup made: {file}"


def _try(connection: psycopg.Connection[Any], url: str, file: Path, now: datetime) -> str:
    """Put a backup back into a database of its own, which goes again."""
    name = f"cavrel_trial_{uuid4().hex[:8]}"
    fault = ""
    try:
        connection.execute(sql.SQL("create database {}").format(sql.Identifier(name)))
        try:
            backup.restore(make_conninfo(url, dbname=name), file)
        finally:
            connection.execute(sql.SQL("drop database {} with (force)").format(sql.Identifier(name)))
    except (BackupError, psycopg.Error) as what:
        fault = f"{file} could not be restored: {str(what).splitlines()[0][:300]}"
    if fault:
        said = "insert into backup_made (made_at, file, fault, tried_at) values (%s, %s, %s, %s)"
        connection.execute(said, [now, str(file), fault, now])
    else:
        connection.execute(
            "update backup_made set tried_at = %s where file = %s and fault = '' and id = "
            "(select max(id) from backup_made where file = %s)",
            [now, str(file), str(file)],
        )
    return fault or f"backup restored on trial: {file}"
