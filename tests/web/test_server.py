"""What the server says of itself is true: a database that takes nothing, one that is newer, answers that took long."""

import logging
from collections.abc import Iterator
from typing import Any

import psycopg
import pytest
from flask.testing import FlaskClient

from cavrel.store.pool import Pool, transaction
from cavrel.web import server
from tests.web.http import entry, start, text, token


def test_all_is_well(client: FlaskClient) -> None:
    answer = client.get("/health")
    assert answer.status_code == 200
    assert answer.json["ok"] is True
    assert answer.json["schema"] == answer.json["schema_known"]
    assert answer.json["disk_free"] > 0
    assert answer.json["backup"] == {"made_at": None, "tried_at": None, "fault": ""}
    page = text(client, "/server")
    assert "writable" in page
    assert "none yet" in page


def test_a_backup_is_told_of(client: FlaskClient, pool: Pool) -> None:
    with transaction(pool) as connection:
        connection.execute("insert into backup_made (file, bytes) values ('/srv/a.zip', 7)")
        connection.execute("insert into backup_made (file, fault) values ('/srv/b.zip', 'the disk is full')")
    found = client.get("/server.json").json["backup"]
    assert found["made_at"] is not None
    assert found["fault"] == "the disk is full"
    assert "/srv/a.zip" in text(client, "/server")
    with transaction(pool) as connection:
        connection.execute("delete from backup_made")


@pytest.fixture
def newer(client: FlaskClient, pool: Pool) -> Iterator[None]:
    """A newer version has brought the database up to date."""
    client.application.extensions.pop("cavrel_schema", None)
    with transaction(pool) as connection:
        connection.execute("insert into migration (number) values (9999)")
    yield
    with transaction(pool) as connection:
        connection.execute("delete from migration where number = 9999")
    client.application.extensions.pop("cavrel_schema", None)


def test_a_process_older_than_its_database_writes_nothing(client: FlaskClient, pool: Pool, newer: None) -> None:
    assert client.get("/health").status_code == 503
    assert "newer Cavrel" in client.get("/health").json["faults"][0]
    with transaction(pool) as connection:
        before = connection.execute("select count(*) as many from entry").fetchone()
    sent = {"entries": [entry("reading", "swings.L.1.1", text="1")]}
    answer = client.post("/runs/1/entries", json=sent, headers={"X-CSRFToken": token(client)})
    assert answer.status_code == 503
    assert "older than its database" in answer.json["error"]
    with transaction(pool) as connection:
        assert connection.execute("select count(*) as many from entry").fetchone() == before
    assert client.get("/runs/1/measure").status_code == 200


def test_a_page_that_breaks_on_a_newer_schema_says_why(
    client: FlaskClient, newer: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: Any) -> None:
        raise psycopg.errors.UndefinedColumn("column run.away does not exist")

    monkeypatch.setattr("cavrel.web.runs.summaries.page", broken)
    answer = client.get("/runs")
    assert answer.status_code == 503
    assert "older than its database" in answer.text


def test_a_database_that_only_reads_is_no_good_health(client: FlaskClient, pool: Pool) -> None:
    with transaction(pool) as connection:
        name = connection.execute("select current_database() as name").fetchone()
        assert name
        connection.execute(f'alter database "{name["name"]}" set default_transaction_read_only = on')
    pool.check()
    for connection in [pool.getconn() for _ in range(pool.get_stats()["pool_size"])]:
        connection.close()
        pool.putconn(connection)
    try:
        answer = client.get("/health")
        assert answer.status_code == 503
        assert "takes no writing" in answer.json["faults"][0]
    finally:
        with transaction(pool) as connection:
            connection.execute("set transaction read write")
            connection.execute(f'alter database "{name["name"]}" reset default_transaction_read_only')
        for connection in [pool.getconn() for _ in range(pool.get_stats()["pool_size"])]:
            connection.close()
            pool.putconn(connection)


def test_an_answer_that_took_long_is_logged(
    client: FlaskClient, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    run = start(client, "pendulum", "Wick", "Slow")
    with caplog.at_level(logging.WARNING, "cavrel"):
        client.get(f"/runs/{run}/logbook")
        assert "took" not in caplog.text
        monkeypatch.setattr(server, "SLOW", 0.0)
        client.get(f"/runs/{run}/logbook")
    assert f"GET /runs/{run}/logbook took" in caplog.text
