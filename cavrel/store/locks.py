"""Advisory locks: the one list of what they are about. A wait for one has an end, as every wait for a row does (see `pool`)."""

from enum import IntEnum

from cavrel.store.pool import Connection


class Of(IntEnum):
    """What is locked; a number of its own for each, since a lock is known by two numbers alone."""

    CUPBOARD = 2
    LESSON = 3
    STANDIN = 4
    SAMPLES = 5
    WORK = 6
    EXPERIMENTS = 7
    COURSE = 8
    PAPER = 9
    BACKUP = 10


MIGRATION = 7_219_004_411
"""A lock of one number, the same for all Cavrel processes, so that two never migrate at once."""
QUEUE = 7_219_004_412
"""The same for the tables of the queue."""


def hold(connection: Connection, of: Of, number: int) -> None:
    """Until the end of the transaction nobody else holds it. Raises psycopg.errors.LockNotAvailable where somebody does for too long."""
    connection.execute("select pg_advisory_xact_lock(%s, %s)", [int(of), number % 2**31])


def mine_until_end(connection: Connection, of: Of, number: int) -> bool:
    """Whether this transaction holds it, until it ends; false where another one does."""
    row = connection.execute("select pg_try_advisory_xact_lock(%s, %s) as mine", [int(of), number % 2**31]).fetchone()
    return bool(row and row["mine"])


def mine(connection: Connection, of: Of, number: int) -> bool:
    """Whether this session holds it, until its connection ends; false where another one does."""
    row = connection.execute("select pg_try_advisory_lock(%s, %s) as mine", [int(of), number % 2**31]).fetchone()
    return bool(row and row["mine"])
