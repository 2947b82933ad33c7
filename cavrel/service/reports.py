"""Signing a report: what it holds is computed and kept under the run's lock, so that nothing is saved between the two."""

from collections.abc import Callable, Mapping
from datetime import datetime, timezone
from typing import Any
from uuid import UUID, uuid5

from cavrel.service.opening import follow, load
from cavrel.service.run_view import RunView
from cavrel.store import entries as entry_store
from cavrel.store import reports
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Pool, transaction
from cavrel.store.reports import SignedReport


def sign(
    pool: Pool, run: int, author: str, key: UUID, seen: str, frozen: Callable[[RunView], Mapping[str, Any]]
) -> SignedReport | None:
    """Sign the report of a run, with an entry in its logbook; the same ``key`` again returns what it made. None where entries that the
    signer had not ``seen``, by the number of the newest one, are there. Raises DatabaseAway."""
    with transaction(pool) as connection:
        entry_store.lock(connection, run)
        known = reports.by_key(connection, run, key)
        if known is not None:
            return known
        loaded = load(connection, run)
        if loaded is None:
            return None
        opened = follow(loaded)
        if seen != str(opened.last):
            return None
        made = reports.sign(connection, run, frozen(opened), author, key)
        entry = NewEntry(
            kind="signed",
            slot=f"signed:{made.version}",
            body={"digest": made.digest},
            author=author,
            made_at=datetime.now(timezone.utc),
            client_key=uuid5(key, "signed"),
        )
        entry_store.append(connection, run, [entry], locked=True)
        return made
