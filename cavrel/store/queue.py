"""The queue of long work: procrastinate's tables, in a schema of their own next to ours."""

import contextlib

import psycopg
from procrastinate import App, PsycopgConnector, SyncPsycopgConnector
from procrastinate.exceptions import AlreadyEnqueued
from procrastinate.schema import SchemaManager

from cavrel.store.locks import QUEUE

SCHEMA = "queue"
TASK = "carry-out"
_OPTIONS = f"-c search_path={SCHEMA}"


def prepare(url: str) -> None:
    """Make the queue, if it is not there."""
    with psycopg.connect(url, autocommit=True, connect_timeout=5) as connection:
        if _there(connection):
            return
        connection.execute("select pg_advisory_lock(%s)", [QUEUE])
        if _there(connection):
            return
        with connection.transaction():
            connection.execute(f"create schema if not exists {SCHEMA}")
            connection.execute(f"set local search_path = {SCHEMA}")
            connection.execute(SchemaManager.get_schema().encode())


def _there(connection: "psycopg.Connection[tuple[object, ...]]") -> bool:
    return connection.execute(f"select to_regclass('{SCHEMA}.procrastinate_jobs')").fetchone() != (None,)


def working(url: str) -> App:
    """The queue for the process that works it off."""
    return App(connector=PsycopgConnector(conninfo=url, kwargs={"options": _OPTIONS}, min_size=1, max_size=3))


def put(url: str, work: int) -> None:
    """Put a piece of work into the queue, unless it waits there."""
    prepare(url)
    app = App(connector=SyncPsycopgConnector(conninfo=url, kwargs={"options": _OPTIONS}, min_size=1, max_size=1))
    with app.open(), contextlib.suppress(AlreadyEnqueued):
        app.configure_task(TASK, allow_unknown=True, queueing_lock=f"work {work}").defer(work=work)
