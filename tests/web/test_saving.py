"""A save never fails because what follows from it does, and one bad entry costs the others nothing."""

import json
import math
from collections.abc import Iterator
from datetime import datetime, timezone
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core import definition as definitions
from cavrel.service import opening, recent, recompute_lock, run_view
from cavrel.store import courses
from cavrel.store import runs as run_store
from cavrel.store.pool import Pool, transaction
from cavrel.web import measure
from tests.web.http import entry, save, start, text, token

STAGES = ("measure", "fit", "result", "logbook")


@pytest.fixture
def run(client: FlaskClient) -> int:
    return start(client, "pendulum", "Wick", "Saving", suggested=False)


def readings(client: FlaskClient, run: int) -> dict[str, str]:
    kept = client.get(f"/runs/{run}/logbook.json").json["entries"]
    return {e["slot"]: e["body"]["text"] for e in kept if "text" in e["body"]}


@pytest.mark.parametrize(
    "body",
    [
        {"kind": "reading", "slot": "swings.t.1.1", "body": {"text": "1e999"}},
        {"kind": "reading", "slot": "swings.t.1.1", "body": {"text": "1e299"}},
        {"kind": "leave-out", "slot": "out:swings.1", "body": {"reason": "x" * 1500}},
        {"kind": "reading", "slot": "swings.t.1.1", "body": {"text": "3\ud800"}},
        {"kind": "note", "slot": "note:" + str(uuid4()), "body": {"text": "half \udc00 a pair"}},
        {"kind": "timer", "slot": "timer:" + str(uuid4()), "body": {"laps": [10**400]}},
        {"kind": "timer", "slot": "timer:" + str(uuid4()), "body": {"laps": ["1"]}},
        {"kind": "trials", "slot": "trials:swings.t", "body": {"count": 200}},
        {"kind": "rows", "slot": "rows:swings", "body": {"count": True}},
        {"kind": "reading", "slot": "swings.t.1.1", "body": {"text": "x" * 300}},
    ],
)
def test_a_bad_entry_is_taken_or_refused_and_the_good_one_is_saved(client: FlaskClient, run: int, body: dict) -> None:
    bad = {"key": str(uuid4()), "made_at": datetime.now(timezone.utc).isoformat(), **body}
    good = entry("reading", "swings.t.2.1", text="38.1")
    # As a page sends it: half a surrogate pair escaped.
    answer = client.post(
        f"/runs/{run}/entries",
        data=json.dumps({"page": "measure", "entries": [bad, good]}),
        content_type="application/json",
        headers={"X-CSRFToken": token(client)},
    )
    assert answer.status_code == 200
    assert good["key"] in answer.json["keys"]
    assert (bad["key"] in answer.json["keys"]) != (bad["key"] in answer.json["refused"])
    assert readings(client, run)["swings.t.2.1"] == "38.1"
    for stage in STAGES:
        assert client.get(f"/runs/{run}/{stage}").status_code == 200, stage


def sent_in_two(client: FlaskClient, run: int, view: str, slot: str, typed: str) -> Iterator[dict]:
    """The two parts of an answer, each when it is asked for."""
    body = {"page": "measure", "view": view, "since": 0, "entries": [entry("reading", slot, text=typed)]}
    headers = {"X-CSRFToken": token(client), "Accept": "application/x-ndjson"}
    answer = client.post(f"/runs/{run}/entries", json=body, headers=headers)
    assert answer.mimetype == "application/x-ndjson"
    return (json.loads(line) for line in answer.response)


def test_saved_is_said_before_anything_is_computed(client: FlaskClient, run: int) -> None:
    with recompute_lock.Turn(0, "somebody else's figures"):
        parts = sent_in_two(client, run, "a", "swings.t.1.1", "31.11")
        first = next(parts)
        assert len(first["keys"]) == 1 and not first["refused"] and "html" not in first
        assert list(first["entries"]) == ["swings.t.1.1"]
        assert client.get(f"/runs/{run}/logbook.json").json["entries"][-1]["body"]["text"] == "31.11"
    second = next(parts)
    assert second["last"] == first["entries"]["swings.t.1.1"] and "1 of 40 readings" in second["html"]
    with pytest.raises(StopIteration):
        next(parts)


def test_a_send_that_a_newer_one_of_its_page_overtook_is_not_computed(client: FlaskClient, run: int) -> None:
    parts = sent_in_two(client, run, "a", "swings.t.1.1", "31.11")
    assert next(parts)["keys"]
    newer = recompute_lock.Turn(run, "a")
    assert list(parts) == [{}]
    newer.end()


def test_a_save_sends_what_it_changed(client: FlaskClient, run: int) -> None:
    """Against what this process showed last; a page that knows of something older is told everything."""

    def sent(since: int, slot: str, typed: str) -> tuple[str, int]:
        body = {"page": "measure", "since": since, "entries": [entry("reading", slot, text=typed)]}
        answer = client.post(f"/runs/{run}/entries", json=body, headers={"X-CSRFToken": token(client)})
        return answer.json["html"], answer.json["last"]

    save(client, run, entry("reading", "quantities.N.1", text="20"))
    for row, length in enumerate((60, 80, 100), 1):
        save(client, run, entry("reading", f"swings.L.{row}.1", text=f"{length}.0"))
        _, last = sent(0, f"swings.t.{row}.1", f"{20 * 2 * math.pi * math.sqrt(length / 981):.2f}")
    html, last = sent(last, "swings.t.2.1", "36.00")
    assert 'id="m-swings-t-2-1"' in html and 'id="c-swings-2-T"' in html
    assert 'id="m-swings-t-1-1"' not in html and 'id="c-swings-1-T"' not in html
    assert 'id="live-graph"' in html and 'id="rail"' in html
    html, again = sent(last, "swings.t.2.1", "36.00")
    assert again > last
    assert 'id="live-graph"' not in html and 'id="c-swings-2-T"' not in html
    whole, _ = sent(last, "swings.t.2.1", "36.00")
    for place in ('id="live-graph"', 'id="m-swings-t-1-1"', 'id="c-swings-1-T"', 'id="live"'):
        assert place in whole, place


def test_a_save_stands_though_nothing_can_be_computed(
    client: FlaskClient, run: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: object) -> str:
        raise OverflowError("deriving fails")

    monkeypatch.setattr(measure, "follow", broken)
    answer = save(client, run, entry("reading", "swings.t.1.1", text="31.1"))
    assert answer.status_code == 200
    assert len(answer.json["keys"]) == 1
    assert "Your entries are saved" in answer.json["html"]
    assert readings(client, run) == {"swings.t.1.1": "31.1"}


def test_a_run_that_cannot_be_computed_still_opens(
    client: FlaskClient, run: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: object) -> tuple[()]:
        raise ZeroDivisionError

    monkeypatch.setattr(run_view, "findings_of", broken)
    save(client, run, entry("reading", "swings.t.1.1", text="31.1"))
    assert "The results cannot be computed" in text(client, f"/runs/{run}/measure")
    assert 'value="31.1"' in client.get(f"/runs/{run}/measure").text
    assert client.get("/runs").status_code == 200


def test_conventions_that_clash_leave_the_run_readable(client: FlaskClient, pool: Pool) -> None:
    body = catalogue.experiments()["pendulum"].document()
    body["id"] = "clashing"
    body["options"] = {
        name: {
            "label": name,
            "default": "no",
            "choices": {"no": {"label": "no"}, "yes": {"label": "yes", "set": {path: value}}},
        }
        for name, path, value in (
            ("one", "fits.line.model", "proportional"),
            ("two", "results.z", {"label": "z", "formula": "line.intercept"}),
        )
    }
    with transaction(pool) as connection:
        course = courses.courses(connection)[0]
        bench = courses.benches(connection, course.id)[0]
        number = run_store.start(connection, course.id, bench.id, definitions.load(body), "Clash", uuid4())
    for name in ("one", "two"):
        assert save(client, number, entry("option", f"option:{name}", choice="yes")).status_code == 200
    save(client, number, entry("reading", "swings.t.1.1", text="31.1"))
    assert "cannot be used together" in text(client, f"/runs/{number}/measure")
    for path in (*(f"/runs/{number}/{stage}" for stage in STAGES), "/runs", "/runs/1/result"):
        assert client.get(path).status_code == 200, path


def test_entries_for_another_database_or_run_are_answered_truly(client: FlaskClient, run: int) -> None:
    one = entry("reading", "swings.t.1.1", text="31.1")
    sent = {"page": "measure", "store": "another", "entries": [one]}
    answer = client.post(f"/runs/{run}/entries", json=sent, headers={"X-CSRFToken": token(client)})
    assert answer.status_code == 409
    assert readings(client, run) == {}
    save(client, run, one)
    other = start(client, "pendulum", "Prism", "Another", suggested=False)
    assert "another run" in save(client, other, one).json["refused"][one["key"]]
    assert readings(client, other) == {}


def test_a_form_sent_again_for_another_bench_starts_another_run(client: FlaskClient) -> None:
    """Back in the browser brings the old form's hidden key with it."""
    key, made = str(uuid4()), []
    for bench, experiment, title in (
        ("1", "pendulum", "A"),
        ("2", "pendulum", "A"),
        ("1", "spring", "A"),
        ("1", "pendulum", "A"),
    ):
        form = {"bench": bench, "title": title, "key": key, "csrf_token": token(client)}
        made.append(client.post(f"/experiments/{experiment}/runs", data=form).location)
    assert made[0] == made[3]
    assert len(set(made)) == 3


def test_a_page_learns_what_another_saved(client: FlaskClient, run: int) -> None:
    assert client.get(f"/runs/{run}/news?since=0&page=measure").json["last"] == 0
    first = save(client, run, entry("reading", "swings.t.1.1", text="31.1")).json
    again = client.get(f"/runs/{run}/news?since=0&page=measure").json
    assert 'value="31.1"' in again["html"]
    assert again["last"] == first["last"]
    assert "html" not in client.get(f"/runs/{run}/news?since={again['last']}&page=measure").json
    # The answer to a save brings the other page's reading too.
    other = client.post(
        f"/runs/{run}/entries",
        json={"page": "measure", "since": 0, "entries": [entry("reading", "swings.t.2.1", text="38.1")]},
        headers={"X-CSRFToken": token(client)},
    ).json
    assert other["others"] == {"swings.t.1.1": first["entries"]["swings.t.1.1"]}
    assert 'value="31.1"' in other["html"]
    assert client.get("/runs/99999/news").status_code == 404


def test_a_clock_that_is_years_off_is_marked(client: FlaskClient, run: int) -> None:
    old = {**entry("reading", "swings.t.1.1", text="31.1"), "made_at": "2019-01-01T00:00:00Z"}
    mad = {**entry("reading", "swings.t.2.1", text="38.1"), "made_at": "0001-01-01T00:00:00Z"}
    assert save(client, run, old, mad).json["refused"] == {}
    assert "device clock" in text(client, f"/runs/{run}/logbook")


def test_the_logbook_says_what_was_cleared_and_corrected(client: FlaskClient, run: int) -> None:
    save(client, run, entry("reading", "swings.t.1.1", text="31.1"))
    save(client, run, entry("reading", "swings.t.1.1", text=""))
    save(client, run, entry("correction", "swings.t.1.1", text="31.2", reason="misread"))
    said = text(client, f"/runs/{run}/logbook")
    assert "cleared instead of 31.1" in said
    assert "31.2, “misread”" in said
    assert "instead of ," not in said


@pytest.mark.parametrize(("host", "status"), [("rebound.example", 421), ("127.0.0.1:8090", 200), ("[::1]", 200)])
def test_only_names_of_this_server_are_answered(client: FlaskClient, host: str, status: int) -> None:
    assert client.get("/token", headers={"Host": host}).status_code == status


def test_a_form_from_another_site_is_refused(client: FlaskClient, run: int) -> None:
    answer = client.post(
        f"/runs/{run}/entries",
        json={"page": "measure", "entries": []},
        headers={"X-CSRFToken": token(client), "Origin": "https://elsewhere.example"},
    )
    assert answer.status_code == 403


def test_the_cookie_is_kept_to_tls(client: FlaskClient) -> None:
    plain = client.application.test_client().get("/token")
    secure = client.application.test_client().get("/token", base_url="https://localhost")
    assert "Secure" not in plain.headers["Set-Cookie"]
    assert "Secure" in secure.headers["Set-Cookie"]


@pytest.mark.parametrize("path", ["/write/%00", "/write/%00.json", "/runs/1/traces/a.b.²", "/runs/1/traces/a.b.0"])
def test_paths_that_name_nothing(client: FlaskClient, path: str) -> None:
    assert client.get(path).status_code == 404


def test_opened_runs_are_kept_within_bounds(client: FlaskClient, run: int) -> None:
    before = len(opening._recent._kept)
    for i in range(12):
        save(client, run, entry("reading", "swings.t.1.1", text=f"31.{i:02d}"))
    assert len(opening._recent._kept) <= before + 1
    assert opening._recent._held <= recent.MOST_BYTES
    assert math.isfinite(opening._recent._held)
