"""What all processes of one database share."""

import secrets

from cavrel.store.pool import Connection


def _once(connection: Connection, name: str, value: str) -> str:
    """A setting made once for each database: ``value`` the first time, ever after what stands there."""
    connection.execute("insert into setting (name, value) values (%s, %s) on conflict do nothing", [name, value])
    row = connection.execute("select value from setting where name = %s", [name]).fetchone()
    assert row is not None
    return str(row["value"])


def secret_key(connection: Connection) -> str:
    """The key that signs sessions, so that a restarted server knows its pages again."""
    return _once(connection, "secret_key", secrets.token_hex(32))


def identity(connection: Connection) -> str:
    """The name of this database: what a page keeps for a run belongs to it, whatever address it is served at."""
    return _once(connection, "identity", secrets.token_hex(8))
