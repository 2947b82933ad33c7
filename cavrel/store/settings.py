"""What all processes of one database share."""

import secrets

from cavrel.store.pool import Connection


def secret_key(connection: Connection) -> str:
    """The key that signs sessions, made once for each database, so that a restarted server knows its pages again."""
    connection.execute(
        "insert into setting (name, value) values ('secret_key', %s) on conflict do nothing", [secrets.token_hex(32)]
    )
    row = connection.execute("select value from setting where name = 'secret_key'").fetchone()
    assert row is not None
    return str(row["value"])


def identity(connection: Connection) -> str:
    """The name of this database, made once: what a page keeps for a run belongs to it, whatever address it is served at."""
    connection.execute(
        "insert into setting (name, value) values ('identity', %s) on conflict do nothing", [secrets.token_hex(8)]
    )
    row = connection.execute("select value from setting where name = 'identity'").fetchone()
    assert row is not None
    return str(row["value"])
