"""One time zone for all that a course shows, whatever the server's and the browser's are."""

import re
from collections.abc import Iterator
from datetime import datetime, timezone, tzinfo

import pytest
from flask.testing import FlaskClient

from cavrel.present import texts, zones
from tests.web.http import entry, save, start, text, token


@pytest.fixture
def kiritimati(client: FlaskClient) -> Iterator[None]:
    """The course is fourteen hours ahead of Greenwich, all the year."""
    form = {"csrf_token": token(client), "title": "Bench Physics", "place": "Tallow Quay lighthouse"}
    assert client.post("/course", data={**form, "zone": "Pacific/Kiritimati"}).status_code == 303
    yield
    assert client.post("/course", data={**form, "zone": ""}).status_code == 303


def test_all_that_is_told_is_told_in_the_courses_zone(client: FlaskClient, kiritimati: None) -> None:
    run = start(client, "pendulum", "Wick", "Far ahead")
    reading = {**entry("reading", "swings.L.1.1", text="60.0"), "made_at": "2026-11-26T23:30:15+00:00"}
    assert save(client, run, reading).json["refused"] == {}
    page = client.get(f"/runs/{run}/measure").text
    assert 'data-zone="Pacific/Kiritimati"' in page
    book = text(client, f"/runs/{run}/logbook")
    assert "Times are those of Pacific/Kiritimati" in book
    assert "27 November 2026" in book
    assert "13:30:15" in book
    assert 'data-zone="Pacific/Kiritimati"' in client.get("/runs").text
    # Nothing of it reaches a page of no course.
    assert "Kiritimati" not in client.get("/help").text


def test_a_signed_report_names_its_zone(client: FlaskClient, kiritimati: None) -> None:
    run = start(client, "pendulum", "Wick", "Signed far ahead")
    page = client.get(f"/runs/{run}/report").text
    last = re.search(r'id="sign-last"[^>]*value="(\d+)"', page)
    assert last
    form = {
        "csrf_token": token(client),
        "key": "1d7a4f0e-9d2b-4c5a-8f43-7b1f2c9a1e56",
        "last": last[1],
        "author": "Ines",
    }
    asked = client.post(f"/runs/{run}/report/sign", data=form).text
    knowing = re.search(r'name="knowing" value="(\w+)"', asked)
    signed = client.post(f"/runs/{run}/report/sign", data={**form, "knowing": knowing[1] if knowing else ""})
    assert "(Pacific/Kiritimati)" in text(client, signed.location)


def test_a_clock_that_is_put_back_does_not_run_backwards_unsaid(client: FlaskClient) -> None:
    form = {"csrf_token": token(client), "title": "Bench Physics", "zone": "Europe/Berlin"}
    assert client.post("/course", data=form).status_code == 303
    run = start(client, "pendulum", "Wick", "The long night", suggested=False)
    for slot, moment in (("swings.L.1.1", "2026-10-25T00:50:00+00:00"), ("swings.L.2.1", "2026-10-25T01:10:00+00:00")):
        save(client, run, {**entry("reading", slot, text="60.0"), "made_at": moment})
    book = text(client, f"/runs/{run}/logbook")
    assert "02:50:00 CEST" in book
    assert "02:10:00 CET" in book
    assert client.post("/course", data={**form, "zone": ""}).status_code == 303


def test_a_zone_that_nobody_knows_is_the_servers(monkeypatch: pytest.MonkeyPatch) -> None:
    moment = datetime(2026, 7, 1, 12, tzinfo=timezone.utc)
    zones.tell_in("Mars/Olympus")
    assert zones.local(moment) == moment
    assert zones.name() == zones._own()
    zones.tell_in("Asia/Kolkata")
    assert zones.local(moment).strftime("%H:%M") == "17:30"
    zones.tell_in("")


def test_a_moment_of_another_day_says_its_day(monkeypatch: pytest.MonkeyPatch) -> None:
    class Then(datetime):
        @classmethod
        def now(cls, tz: tzinfo | None = None) -> datetime:
            return datetime(2026, 12, 2, 0, 30, tzinfo=timezone.utc)

    monkeypatch.setattr(texts, "datetime", Then)
    zones.tell_in("Europe/Berlin")
    at = [
        datetime(2026, 12, 1, 23, 30, 5, tzinfo=timezone.utc),  # half past midnight there, today
        datetime(2026, 12, 1, 22, 59, tzinfo=timezone.utc),  # a minute before midnight there, yesterday
        datetime(2025, 6, 3, 9, 5, tzinfo=timezone.utc),
    ]
    assert [texts.moment(one) for one in at] == ["00:30:05", "1 Dec, 23:59", "3 Jun 2025, 11:05"]
    zones.tell_in("")
