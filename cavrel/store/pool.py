"""Connections to the database."""

import select
from collections.abc import Iterator
from contextlib import contextmanager
from threading import BoundedSemaphore

import psycopg
from psycopg.rows import DictRow, dict_row
from psycopg_pool import ConnectionPool, PoolTimeout

Connection = psycopg.Connection[DictRow]
Pool = ConnectionPool[Connection]


MOST_WAITING = 40
"""Requests that may wait for the database at once; more are answered at once that it is away, so that pages and files still get through."""
_waiting = BoundedSemaphore(MOST_WAITING)


class DatabaseAway(Exception):
    """The database does not answer; nothing was saved, and nothing that was saved is lost."""


Unkeepable = psycopg.DataError
"""What is raised for a text or number that no column holds, such as one with a character of number zero."""


class Busy(DatabaseAway):
    """Somebody else holds what is wanted for too long; nothing was saved."""


LONGEST_WAIT = 20
"""Seconds that a request waits for what another one holds."""


def open_pool(url: str, size: int = 12) -> Pool:
    """A pool of connections to ``url``. Each is tried before it is lent, so that a restarted database is met with a new one."""
    return ConnectionPool(
        url,
        connection_class=psycopg.Connection[DictRow],
        kwargs={"row_factory": dict_row, "connect_timeout": 3, "options": f"-c lock_timeout={LONGEST_WAIT}s"},
        min_size=1,
        max_size=size,
        timeout=4,
        check=_look,
        reconnect_timeout=2,  # longer rests between attempts would outlast what a request waits
        open=True,
        name="cavrel",
    )


def _look(connection: Connection) -> None:
    """Try a connection before it is lent. One whose socket says nothing is whole; one that a database closed, or wrote a last word to, can be
    read from, and only that one is asked. Raises psycopg.OperationalError."""
    waiting = select.poll()
    waiting.register(connection.fileno(), select.POLLIN | select.POLLPRI)
    if waiting.poll(0):
        ConnectionPool.check_connection(connection)


@contextmanager
def transaction(pool: Pool) -> Iterator[Connection]:
    """A connection inside a transaction: committed when the block ends, rolled back when it raises.

    Raises DatabaseAway when no connection can be had or it breaks on the way, Busy where it waits too long for what another one holds.
    """
    if not _waiting.acquire(blocking=False):
        raise DatabaseAway("too many requests wait for the database")
    try:
        with pool.connection() as connection:
            yield connection
    except psycopg.errors.LockNotAvailable as fault:
        raise Busy(str(fault)) from fault
    except (PoolTimeout, psycopg.OperationalError) as fault:
        raise DatabaseAway(str(fault)) from fault
    finally:
        _waiting.release()
