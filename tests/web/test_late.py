"""Readings that cross on their way: from devices that were away, with clocks that are wrong."""

from datetime import datetime, timedelta, timezone
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from tests.web.http import entry, start, text, token

SLOT = "swings.t.1.1"


@pytest.fixture
def run(client: FlaskClient) -> int:
    return start(client, "pendulum", "Wick", f"Crossing {uuid4()}", suggested=False)


def reading(text: str, ago: float, over: int | None = None, slot: str = SLOT, ahead: float = 0) -> dict[str, Any]:
    """A reading made ``ago`` seconds before now, by a clock that is ``ahead`` by some seconds."""
    moment = datetime.now(timezone.utc) - timedelta(seconds=ago - ahead)
    return {**entry("reading", slot, text=text, over=over), "made_at": moment.isoformat()}


def send(client: FlaskClient, run: int, *entries: dict[str, Any], ahead: float = 0) -> dict[str, Any]:
    now = (datetime.now(timezone.utc) + timedelta(seconds=ahead)).isoformat()
    body = {"page": "measure", "since": 0, "now": now, "entries": list(entries)}
    answer = client.post(f"/runs/{run}/entries", json=body, headers={"X-CSRFToken": token(client)})
    assert answer.json["refused"] == {}
    assert set(answer.json["keys"]) == {e["key"] for e in entries}
    return answer.json


def stands(client: FlaskClient, run: int) -> list[Any]:
    found: list[Any] = client.get(f"/runs/{run}/measure.json").json["run"]["series"]["swings"]["t"]
    return found


def kinds(client: FlaskClient, run: int) -> list[tuple[str, str]]:
    book = client.get(f"/runs/{run}/logbook.json").json["entries"]
    return [(e["kind"], e["body"].get("text", "")) for e in book]


def test_an_older_reading_that_arrives_later_stands_beside_the_newer_and_asks(client: FlaskClient, run: int) -> None:
    send(client, run, reading("31.6", ago=60))
    send(client, run, reading("31.1", ago=600))
    assert stands(client, run) == [["31.6"]]
    page = text(client, f"/runs/{run}/measure")
    assert "31.1 arrived late" in page
    assert "Keep 31.6" in page
    assert "Use 31.1" in page
    send(client, run, entry("late", f"late:{SLOT}", text="31.1", settled=True))
    assert "arrived late" not in text(client, f"/runs/{run}/measure")
    assert kinds(client, run) == [("reading", "31.6"), ("late", "31.1"), ("late", "31.1")]
    assert "31.1, late: a newer one was here" in text(client, f"/runs/{run}/logbook")


def test_the_late_one_may_be_the_one_that_holds(client: FlaskClient, run: int) -> None:
    send(client, run, reading("31.6", ago=60))
    send(client, run, reading("31.1", ago=600))
    now = client.get(f"/runs/{run}/logbook.json").json["entries"][0]["id"]
    taken = entry("correction", SLOT, text="31.1", was="31.6", reason="the earlier reading holds", over=now)
    send(client, run, taken, entry("late", f"late:{SLOT}", text="31.1", settled=True))
    assert stands(client, run) == [["31.1"]]
    assert "arrived late" not in text(client, f"/runs/{run}/measure")


def test_a_newer_one_and_one_that_knew_take_their_place(client: FlaskClient, run: int) -> None:
    send(client, run, reading("31.6", ago=600))
    send(client, run, reading("31.1", ago=60))
    assert stands(client, run) == [["31.1"]]
    now = client.get(f"/runs/{run}/logbook.json").json["entries"][-1]["id"]
    # Its page showed what it wrote over: whatever the clock says, it is a correction.
    send(client, run, reading("31.9", ago=6000, over=now))
    assert stands(client, run) == [["31.9"]]


def test_what_agrees_is_no_question(client: FlaskClient, run: int) -> None:
    send(client, run, reading("31.6", ago=60))
    send(client, run, reading("31.6", ago=600))
    assert "late" not in [kind for kind, _ in kinds(client, run)]


def test_all_that_a_late_page_wrote_into_a_cell_is_late(client: FlaskClient, run: int) -> None:
    send(client, run, reading("31.6", ago=60))
    send(client, run, reading("13.1", ago=600), reading("31.1", ago=590), reading("32.0", ago=10))
    assert kinds(client, run) == [
        ("reading", "31.6"),
        ("late", "13.1"),
        ("late", "31.1"),
        ("correction", "32.0"),
    ]
    assert stands(client, run) == [["32.0"]]


@pytest.mark.parametrize("ahead", [-7200.0, 7200.0])
def test_a_page_whose_clock_is_wrong_is_set_right(client: FlaskClient, run: int, ahead: float) -> None:
    """Two hours off either way: what was read later stands, what was read earlier asks."""
    send(client, run, reading("31.6", ago=300))
    send(client, run, reading("31.1", ago=60, ahead=ahead), ahead=ahead)
    assert stands(client, run) == [["31.1"]]
    send(client, run, reading("30.0", ago=600, ahead=ahead), ahead=ahead)
    assert stands(client, run) == [["31.1"]]
    book = client.get(f"/runs/{run}/logbook.json").json["entries"]
    made = [datetime.fromisoformat(e["made_at"]) for e in book]
    assert made[2] < made[0] < made[1]


def test_a_clock_set_back_between_two_readings_of_one_page(client: FlaskClient, run: int) -> None:
    """They come in the order in which they were typed, and the second one holds, sent with the first again or alone."""
    first = reading("31.6", ago=10, ahead=3600)
    send(client, run, first, reading("31.1", ago=5))
    assert stands(client, run) == [["31.1"]]
    again = reading("32.2", ago=7000, slot="swings.t.2.1")
    send(client, run, {**again, "made_at": datetime.now(timezone.utc).isoformat()})
    send(client, run, again, reading("32.9", ago=6000, slot="swings.t.2.1"))
    assert stands(client, run)[1] == ["32.9"]


def test_two_that_write_at_once_are_said_to_have_clashed(client: FlaskClient, run: int) -> None:
    first = reading("31.6", ago=60)
    send(client, run, first)
    moment = datetime.fromisoformat(first["made_at"])
    for apart, late in ((1.0, False), (1.001, True)):
        other = {**reading("31.1", ago=0), "made_at": (moment - timedelta(seconds=apart)).isoformat()}
        send(client, run, other)
        assert (kinds(client, run)[-1][0] == "late") is late
        if not late:
            assert "was entered twice" in text(client, f"/runs/{run}/measure")
            send(client, run, entry("undo", SLOT))


@pytest.mark.parametrize(
    ("slot", "body"),
    [("late:swings.T.1.1", {"text": "1"}), ("late:swings.t.1.1", {}), (SLOT, {"text": "1"}), ("late:x", {"text": "1"})],
)
def test_no_page_of_ours_would_send_it(client: FlaskClient, run: int, slot: str, body: dict[str, Any]) -> None:
    sent = entry("late", slot, **body)
    answer = client.post(f"/runs/{run}/entries", json={"entries": [sent]}, headers={"X-CSRFToken": token(client)})
    assert list(answer.json["refused"]) == [sent["key"]]


@pytest.mark.parametrize("clock", [7, "", "yesterday", "9999-12-31T23:59:59+00:00", "0001-01-01T00:00:00", None])
def test_a_clock_that_cannot_be_read_harms_nothing(client: FlaskClient, run: int, clock: object) -> None:
    body = {"now": clock, "entries": [reading("31.6", ago=1)]}
    answer = client.post(f"/runs/{run}/entries", json=body, headers={"X-CSRFToken": token(client)})
    assert answer.json["refused"] == {}
    assert stands(client, run) == [["31.6"]]
