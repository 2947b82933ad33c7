"""What a stranger sends runs over its limits, not over ours; PDFs wait in a line, and the same one is set once."""

import io
import json
import threading
import time
import zipfile
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from cavrel.store import locks
from cavrel.store import papers as store
from cavrel.store.pool import Pool, transaction
from cavrel.web import papers, setting
from tests.thorough import thorough
from tests.web.http import text, token
from tests.web.test_suspects import typed

BROWSER = {"Accept": "text/html,application/xhtml+xml,*/*;q=0.8"}


def keep(client: FlaskClient, body: str) -> Any:
    form = {"csrf_token": token(client), "key": str(uuid4()), "title": "Heavy", "body": body}
    return client.post("/laboratory/forms", data=form)


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ('{{ "x"|center(300000000)|length }}', "150 MB of memory"),
        ("{{ ('%' ~ '2000000000s')|format('x') }}", "MB|MemoryError|memory"),
        ("{% set a = c.title|list * 1 %}", "only numbers can be multiplied"),
        (
            "{% macro m(n) %}{% for a in c.title %}{% for b in c.title %}{% for d in c.title %}"
            "{% for e in c.title %}{% for f in c.title %}{{ a }}{% endfor %}{% endfor %}{% endfor %}{% endfor %}{% endfor %}"
            "{% endmacro %}{{ m(1) }}",
            "processor time|MB",
        ),
    ],
)
def test_a_form_that_runs_over_is_refused_and_nobody_else_waits(client: FlaskClient, body: str, said: str) -> None:
    began = time.monotonic()
    answer = keep(client, body)
    assert answer.status_code == 422
    page = answer.text
    assert any(part in page for part in said.split("|")), page[page.index('role="alert"') :][:300]
    assert time.monotonic() - began < 20  # a bound against hanging
    assert client.get("/health").status_code == 200


def test_a_form_that_runs_over_later_costs_once(client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    # Over few tables it is quick, so that it is kept; a report with many runs over.
    assert (
        keep(client, '{{ "x"|center(c.tables|length * 200000000)|length if c.answers_aim else 1 }}x').status_code == 303
    )
    calls: list[str] = []
    form = setting.form

    def counted(body: str, *more: Any) -> str:
        calls.append(body)
        return form('{{ "x"|center(300000000) }}', *more)

    monkeypatch.setattr(setting, "form", counted)
    run = typed(client)
    for _ in range(2):
        assert "cannot be used: this form takes more than 150 MB of memory" in text(
            client, f"/runs/{run}/report?form=heavy"
        )
    assert len(calls) == 1


@pytest.mark.parametrize(
    ("what", "source"),
    [
        ("a key of 20 000 parts", ".".join("a" * 20_000) + " = 1"),
        ("spaced parts", " . ".join("a" * 20_000) + " = 1"),
        ("a table of as many", "[" + ".".join("a" * 20_000) + "]"),
        ("an inline table within", "x = {" + ".".join("a" * 20_000) + " = 1}"),
        ("brackets", "a = " + "[" * 30_000),
        ("a number", "a = " + "9" * 190_000),
    ],
)
def test_a_definition_that_takes_long_to_read_is_said(client: FlaskClient, what: str, source: str) -> None:
    began = time.monotonic()
    answer = client.post("/write/check.json", data={"text": source, "csrf_token": token(client)})
    assert answer.status_code == 200
    assert not answer.json["good"]
    assert answer.json["faults"][0]["what"]
    assert time.monotonic() - began < 70, what  # a bound against hanging


def test_an_archive_that_takes_long_is_refused(client: FlaskClient) -> None:
    sink = io.BytesIO()
    run = {"format": "cavrel-run/1", "experiment": "pendulum", "notes": ["x"] * 9_000_000}
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("run.json", json.dumps(run))
    before = client.get("/runs.json").json["many"]
    form = {"csrf_token": token(client), "key": str(uuid4()), "file": (io.BytesIO(sink.getvalue()), "a.zip")}
    answer = client.post("/import", data=form, content_type="multipart/form-data")
    assert answer.status_code == 422
    assert "Nothing was imported" in answer.text
    assert client.get("/runs.json").json["many"] == before


@pytest.fixture
def slow(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """PDFs that take half a second each; what was set, in order."""
    made: list[str] = []

    def paper(_url: str, wish: dict[str, Any]) -> bytes:
        made.append(wish["form"])
        time.sleep(0.5)
        return b"%PDF " + wish["form"].encode()

    monkeypatch.setattr(setting, "paper", paper)
    return made


def ask(client: FlaskClient, title: str, **headers: str) -> Any:
    wish = {"run": 1, "version": 0, "form": title, "size": "a4"}
    with client.application.test_request_context("/", headers=headers):
        found = papers.answer(wish, [wish], "report.pdf")
        return client.application.make_response(found)


def test_ten_who_want_the_same_get_one_file(client: FlaskClient, slow: list[str]) -> None:
    answers: list[bytes] = []
    threads = [threading.Thread(target=lambda: answers.append(ask(client, "One").data)) for _ in range(10)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert answers == [b"%PDF One"] * 10
    assert slow == ["One"]
    assert ask(client, "One").data == b"%PDF One"
    assert slow == ["One"]


def test_two_are_set_at_once_and_the_others_wait_in_order(client: FlaskClient, slow: list[str], pool: Pool) -> None:
    with transaction(pool) as held:
        for slot in range(store.AT_ONCE):
            assert locks.mine_until_end(held, locks.Of.PAPER, slot)
        waiting = [ask(client, title, **BROWSER) for title in ("Two", "Three", "Four")]
        assert [answer.status_code for answer in waiting] == [202, 202, 202]
        assert "The PDF is being made" in waiting[1].get_data(as_text=True)
        assert "It waits for 2 others" in waiting[2].get_data(as_text=True)
        assert "frame-ancestors 'self'" in waiting[2].headers["Content-Security-Policy"]
        assert slow == []
    # The first in the line is served first; who asks by a program waits for it.
    assert ask(client, "Four", **BROWSER).status_code == 202
    assert ask(client, "Two", **BROWSER).data == b"%PDF Two"
    assert ask(client, "Four").data == b"%PDF Four"
    assert slow == ["Two", "Four"]


def test_who_has_gone_is_waited_for_no_longer(client: FlaskClient, slow: list[str], pool: Pool) -> None:
    with transaction(pool) as held:
        for slot in range(store.AT_ONCE):
            assert locks.mine_until_end(held, locks.Of.PAPER, slot)
        for title in ("Gone", "Gone too", "Here"):
            assert ask(client, title, **BROWSER).status_code == 202
    with transaction(pool) as connection:
        connection.execute("update paper set looked_at = now() - interval '9 seconds' where made_at is null")
    assert ask(client, "Here", **BROWSER).status_code == 202
    with transaction(pool) as connection:
        connection.execute("update paper set looked_at = now() - interval '11 seconds' where made_at is null")
    assert ask(client, "Here", **BROWSER).data == b"%PDF Here"


def test_a_program_is_told_when_it_has_waited_long(
    client: FlaskClient, slow: list[str], pool: Pool, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(papers, "PATIENCE", 0.1)
    with transaction(pool) as held:
        for slot in range(store.AT_ONCE):
            assert locks.mine_until_end(held, locks.Of.PAPER, slot)
        answer = ask(client, "Long")
    assert (answer.status_code, answer.headers["Retry-After"]) == (503, "10")


@thorough
def test_the_real_thing(client: FlaskClient) -> None:
    run = typed(client)
    first = client.get(f"/runs/{run}/report.pdf", headers=BROWSER)
    assert first.data.startswith(b"%PDF")
    assert "filename=" in first.headers["Content-Disposition"]
    assert client.get("/papers/0123").status_code == 404
    assert client.get(f"/runs/{run}/report.pdf?paper=letter").data != first.data
    assert client.get(f"/runs/{run}/report.pdf").data == first.data
