"""Summaries: always what the run says, and a list asks the database as often for a thousand runs as for one."""

from contextlib import contextmanager

import psycopg
import pytest
from flask.testing import FlaskClient

from cavrel.present.summary import summary
from cavrel.service.opening import open_run
from cavrel.store import entries as entry_store
from cavrel.store.pool import Pool, transaction
from tests.store.test_store import entry as new_entry
from tests.web.http import entry, save, start, token


@contextmanager
def counted(monkeypatch: pytest.MonkeyPatch):
    """How many statements are sent meanwhile."""
    sent: list[str] = []
    plain = psycopg.Connection.execute
    with monkeypatch.context() as patch:
        patch.setattr(
            psycopg.Connection,
            "execute",
            lambda self, query, *a, **k: sent.append(str(query)) or plain(self, query, *a, **k),
        )
        yield sent


def listed(client: FlaskClient, run: int) -> dict:
    return next(r for r in client.get("/runs.json").json["runs"] if r["id"] == run)


def test_the_list_says_what_the_run_says(client: FlaskClient, pool: Pool) -> None:
    for one in client.get("/runs.json").json["runs"]:
        known = summary(open_run(pool, one["id"]))
        assert one["stages"] == {s["key"]: s["line"] for s in known["stages"]}
        assert one["remarks"] == known["flags"]
        assert one["made_at"] == known["begun"]


def test_a_save_leaves_its_summary(client: FlaskClient, pool: Pool) -> None:
    run = start(client, "spring", "Wick", "Summed up")
    save(client, run, entry("reading", "quantities.m.1", text="50.2"))
    with transaction(pool) as connection:
        row = connection.execute("select last, body from run_summary where run = %s", [run]).fetchone()
        assert row["last"] == entry_store.newest(connection, run)
    assert row["body"]["stages"][1]["line"] == "1 of 9 readings"


def test_an_entry_that_came_by_another_way_is_seen(client: FlaskClient, pool: Pool) -> None:
    run = start(client, "spring", "Wick", "Written elsewhere")
    assert listed(client, run)["stages"]["measure"] == "0 of 9 readings"
    with transaction(pool) as connection:
        entry_store.append(connection, run, [new_entry("reading", "quantities.m.1", text="50.2")])
    assert listed(client, run)["stages"]["measure"] == "1 of 9 readings"


def test_a_run_taken_to_a_newer_laboratory_is_summarised_anew(client: FlaskClient, pool: Pool) -> None:
    """The first of the demonstration's runs: its u has two figures by the course's rule, then one; before it is taken there, nothing changes."""
    before = listed(client, 2)["stages"]["result"]
    form = {"csrf_token": token(client), "rounding": '"one"', "acceptable": "10", "g-by": "number", "g-number": "9.81"}
    assert client.post("/laboratory/rules", data=form).status_code == 303
    assert listed(client, 2)["stages"]["result"] == before
    save(client, 2, entry("run", "run:cupboard", value=2))
    assert listed(client, 2)["stages"]["result"] != before
    save(client, 2, entry("undo", "run:cupboard"))
    assert listed(client, 2)["stages"]["result"] == before


@pytest.mark.parametrize("path", ["/runs", "/runs/2/result"])
def test_more_runs_are_no_more_queries(client: FlaskClient, path: str, monkeypatch: pytest.MonkeyPatch) -> None:
    client.get(path), client.get("/runs?page=2")
    with counted(monkeypatch) as few:
        client.get(path)
    for i in range(30):
        run = start(client, "pendulum", "Wick", f"One of many {i}")
        save(client, run, entry("reading", "quantities.N.1", text="20"))
    client.get(path)
    with counted(monkeypatch) as many:
        client.get(path)
    assert len(many) == len(few) <= 8


def test_a_save_asks_the_database_a_handful_of_times(client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    run = start(client, "pendulum", "Wick", "Counted")
    save(client, run, entry("reading", "quantities.N.1", text="20"))
    with counted(monkeypatch) as sent:
        save(client, run, entry("reading", "swings.t.1.1", text="31.1"))
    assert len([one for one in sent if one]) <= 6, sent  # an empty one only asks whether the connection lives
