"""Courses: begun on an empty server, several side by side, their benches changed while runs and lessons stand."""

import json
import re
from collections.abc import Iterator
from typing import Any
from uuid import uuid4

import pytest
from click.testing import CliRunner
from flask.testing import FlaskClient

from cavrel import cli
from cavrel.store import courses as store
from cavrel.store.cluster import Cluster
from cavrel.store.pool import Pool, open_pool, transaction
from cavrel.web import create_app
from tests.conftest import copied
from tests.web.http import entry, token


@pytest.fixture
def empty(cluster: Cluster, migrated: str) -> Iterator[Pool]:
    with open_pool(copied(cluster, migrated), size=4) as pool:
        yield pool


@pytest.fixture
def fresh(empty: Pool) -> FlaskClient:
    return create_app(empty, testing=True).test_client()


def begin(client: FlaskClient, title: str = "Evening", **more: str) -> Any:
    form = {"csrf_token": token(client), "key": str(uuid4()), "title": title, "many": "2", "naming": "numbers", **more}
    return client.post("/courses", data=form)


def started(client: FlaskClient, at: str, bench: str, **more: str) -> int:
    """The number of a pendulum that a bench starts."""
    page = client.get(f"{at}/experiments/pendulum").text
    number = re.search(rf'<option value="(\d+)"[^>]*>{bench}<', page)
    form = {"csrf_token": token(client), "key": str(uuid4()), "title": "Swings", **more}
    answer = client.post(f"{at}/experiments/pendulum/runs", data={**form, "bench": number[1] if number else ""})
    assert answer.status_code == 303, answer.text
    found = re.search(r"/runs/(\d+)/", answer.location)
    assert found
    return int(found[1])


def test_every_page_of_an_empty_server_leads_to_the_first_course(fresh: FlaskClient) -> None:
    for page in (
        "/",
        "/runs",
        "/lessons",
        "/laboratory",
        "/import",
        "/write",
        "/course",
        "/courses",
        "/experiments/pendulum",
    ):
        answer = fresh.get(page)
        assert (answer.status_code, answer.location) == (302, "/courses/new"), page
    for data in ("/runs.json", "/experiments.json", "/course.json"):
        assert fresh.get(data).status_code == 409
        assert "cavrel course new" in fresh.get(data).json["what"]
    assert fresh.get("/calls.json").json["calls"] == []
    assert fresh.get("/help").status_code == 200
    assert "Create your first course" in fresh.get("/courses/new").text


def test_from_nothing_to_the_first_reading(fresh: FlaskClient) -> None:
    made = begin(fresh, latitude="57,1", height="12", preset="first", **{"instrument-stopwatch": "yes"})
    assert (made.status_code, made.location) == (303, "/?begun=yes")
    assert "<b>Evening</b> has been created with 2 benches" in fresh.get("/?begun=yes").text
    run = started(fresh, "", "Bench 2")
    saved = fresh.post(
        f"/runs/{run}/entries", json={"entries": [entry("swings.L.1", "40.0")]}, headers={"X-CSRFToken": token(fresh)}
    )
    assert saved.status_code == 200
    assert fresh.get("/runs.json").json["runs"][0]["bench"] == "Bench 2"
    laboratory = fresh.get("/laboratory.json").json
    assert laboratory["rules"]["g"] == {"latitude": 57.1, "height": 12.0}
    assert laboratory["rules"]["repeats"] == "half_range"
    assert laboratory["instruments"]["stopwatch"]["count"] == 2


def test_one_form_begins_one_course(fresh: FlaskClient, empty: Pool) -> None:
    key = str(uuid4())
    assert begin(fresh, key=key).location == begin(fresh, key=key).location
    with transaction(empty) as connection:
        assert [c.slug for c in store.courses(connection)] == ["evening"]


@pytest.mark.parametrize(
    ("field", "typed", "said"),
    [
        ("title", "", "Give the course a name"),
        ("title", "x" * 121, "up to 120 characters"),
        ("begins", "1.9.2026", "is not a date"),
        ("zone", "Tallow/Quay", "is not a time zone"),
        ("many", "0", "A whole number from 1 to 60"),
        ("many", "61", "A whole number from 1 to 60"),
        ("latitude", "91", "less than or equal to 90"),
        ("preset", "strict", "Choose one of"),
        ("joining", "anyone", "Choose one of the two"),
    ],
)
def test_what_is_wrong_is_said_beside_its_field_and_nothing_is_lost(
    fresh: FlaskClient, empty: Pool, field: str, typed: str, said: str
) -> None:
    answer = begin(fresh, **{"place": "The lamp room", field: typed})
    assert answer.status_code == 422
    assert said in answer.text
    assert 'value="The lamp room"' in answer.text
    with transaction(empty) as connection:
        assert not store.courses(connection)


def test_days_in_the_wrong_order_and_names_of_its_own(fresh: FlaskClient, empty: Pool) -> None:
    late = begin(fresh, begins="2026-09-02", ends="2026-09-01")
    assert "The last day comes before the first" in late.text
    twice = begin(fresh, naming="own", names="Wick\nwick")
    assert "There is already a bench “wick”" in twice.text
    assert "on a separate line" in begin(fresh, naming="own", names=" \n").text
    begin(fresh, naming="own", names="Wick\n\n  Fog  horn \n", begins="2026-09-01", ends="2026-09-01")
    with transaction(empty) as connection:
        one = store.courses(connection)[0]
        assert [b.name for b in store.benches(connection, one.id)] == ["Wick", "Fog horn"]
    assert fresh.get("/courses.json").json["courses"][0]["ends"] == "2026-09-01"


def test_two_courses_keep_apart(fresh: FlaskClient) -> None:
    begin(fresh, "Evening")
    first = started(fresh, "", "Bench 1")
    assert begin(fresh, "Évening!", naming="colours").location == "/courses/evening-2/?begun=yes"
    # The address says which; one that does not is led to the course chosen last.
    fresh.get("/courses/evening/runs")
    fresh.get("/courses/evening-2/calls.json")  # a page of the other one, open in another tab, asks by itself
    assert fresh.get("/runs?q=swings").location == "/courses/evening/runs?q=swings"
    second = started(fresh, "/courses/evening-2", "Blue")
    assert [r["id"] for r in fresh.get("/courses/evening/runs.json").json["runs"]] == [first]
    assert [r["id"] for r in fresh.get("/courses/evening-2/runs.json").json["runs"]] == [second]
    # A run's page leads to its own course, whichever was looked at last.
    fresh.get("/courses/evening/")
    page = fresh.get(f"/runs/{second}/measure").text
    assert 'href="/courses/evening-2/"' in page
    assert 'href="/courses/evening-2/runs"' in page
    assert 'href="/courses/evening/' not in page
    assert 'data-calls-url="/courses/evening-2/calls.json"' in page
    # Whoever chose none is asked; a name that there is not is said.
    stranger = fresh.application.test_client()
    assert stranger.get("/").location == "/courses"
    assert stranger.get("/runs.json").status_code == 409
    assert stranger.get("/courses/dusk/").status_code == 404
    assert "Évening!" in stranger.get("/courses").text
    # What belongs to one is not to be had from the other.
    form = {"csrf_token": token(fresh), "key": str(uuid4()), "kind": "package"}
    assert fresh.post("/courses/evening/course/work", data=form).status_code == 303
    work = fresh.get("/courses/evening/course.json").json["work"][0]["id"]
    assert fresh.get(f"/courses/evening/course/work/{work}").status_code == 200
    assert fresh.get(f"/courses/evening-2/course/work/{work}").status_code == 404
    stop = {"csrf_token": token(fresh)}
    assert fresh.post(f"/courses/evening-2/course/work/{work}/stop", data=stop).status_code == 404
    assert not fresh.get("/courses/evening/course.json").json["work"][0]["stopped"]
    # Each has a laboratory of its own.
    rules = {"csrf_token": token(fresh), "g-by": "number", "g-number": "9.82"}
    assert fresh.post("/courses/evening/laboratory/rules", data=rules).location.startswith(
        "/courses/evening/laboratory"
    )
    assert fresh.get("/courses/evening/laboratory.json").json["rules"]["g"] == 9.82
    assert fresh.get("/courses/evening-2/laboratory.json").json["rules"].get("g") != 9.82


def bench(client: FlaskClient, name: str) -> dict[str, Any]:
    return next(b for b in client.get("/course.json").json["benches"] if b["name"] == name)


def act(client: FlaskClient, which: str, **form: str) -> Any:
    address = f"/course/benches/{bench(client, which)['id']}"
    return client.post(address, data={"csrf_token": token(client), **form})


def test_a_bench_is_called_otherwise_everywhere(fresh: FlaskClient) -> None:
    begin(fresh)
    own, moved = started(fresh, "", "Bench 1"), started(fresh, "", "Bench 2")
    fresh.post(f"/runs/{moved}/own", data={"csrf_token": token(fresh), "bench": "Bench 1"})
    fresh.post("/lessons", data={"csrf_token": token(fresh), "key": str(uuid4()), "title": "First", "minutes": "90"})
    assert act(fresh, "Bench 1", act="rename", name="bench 2").status_code == 422
    assert act(fresh, "Bench 1", act="rename", name="Beacon").status_code == 303
    assert {r["id"]: r["bench"] for r in fresh.get("/runs.json?bench=Beacon").json["runs"]} == {
        own: "Beacon",
        moved: "Beacon",
    }
    assert fresh.get("/runs.json?bench=Bench 1").json["runs"] == []
    assert fresh.get("/lessons.json").json["lessons"][0]["benches"] == ["Beacon", "Bench 2"]
    assert "<b>Beacon</b></span>" in fresh.get(f"/runs/{moved}/measure").text


def test_a_bench_taken_out_keeps_its_runs_and_comes_back(fresh: FlaskClient) -> None:
    begin(fresh)
    run = started(fresh, "", "Bench 1")
    assert act(fresh, "Bench 1", act="remove").status_code == 303
    assert ">Bench 1<" not in fresh.get("/experiments/pendulum").text
    assert [r["id"] for r in fresh.get("/runs.json").json["runs"]] == [run]
    last = act(fresh, "Bench 2", act="remove")
    assert last.status_code == 422
    assert "needs at least one bench" in last.text
    fresh.post("/course/benches", data={"csrf_token": token(fresh), "name": "bench 1"})
    assert bench(fresh, "Bench 1")["listed"]
    # One that never measured goes for good.
    act(fresh, "Bench 2", act="remove")
    assert [b["name"] for b in fresh.get("/course.json").json["benches"]] == ["Bench 1"]


def test_a_bench_adds_itself_where_the_course_lets_it(fresh: FlaskClient) -> None:
    begin(fresh)
    form = {"csrf_token": token(fresh), "key": str(uuid4()), "title": "Swings", "bench": "", "bench-name": "Gulls"}
    assert fresh.post("/experiments/pendulum/runs", data=form).status_code == 422
    about = {"csrf_token": token(fresh), "title": "Evening", "joining": "open"}
    assert fresh.post("/course", data=about).status_code == 303
    assert fresh.post("/experiments/pendulum/runs", data=form).status_code == 303
    again = {**form, "key": str(uuid4()), "bench-name": " gulls ", "another": "yes"}
    assert fresh.post("/experiments/pendulum/runs", data=again).status_code == 303
    assert [b["name"] for b in fresh.get("/course.json").json["benches"]] == ["Bench 1", "Bench 2", "Gulls"]
    assert bench(fresh, "Gulls")["runs"] == 2


def test_the_command_line_does_the_same(cluster: Cluster, migrated: str) -> None:
    url = copied(cluster, migrated)

    def typed(*arguments: str) -> str:
        result = CliRunner().invoke(cli.main, ["course", *arguments], env={"DATABASE_URL": url})
        return f"{result.exit_code} {result.output}"

    assert typed("new", "Evening", "--bench", "Wick", "--bench", "Prism", "--instrument", "stopwatch=4").startswith(
        "0 begun: Evening, at /courses/evening/"
    )
    assert typed("new", "Night", "--benches", "61").startswith("2 course: many: How many benches?")
    assert typed("new", "Night", "--instrument", "sextant").startswith("2 --instrument: there is no kind 'sextant'")
    assert typed("bench", "evening", "rename", "Wick", "Lantern") == "0 Wick is called Lantern now\n"
    assert typed("bench", "evening", "add", "Wick") == "0 Wick is a bench of Evening\n"
    assert typed("bench", "evening", "remove", "Prism").startswith("0 Prism is taken out")
    assert typed("bench", "evening", "remove", "Prism").startswith("2 course: there is no bench 'Prism'")
    assert typed("bench", "dawn", "add", "Wick") == "2 course: there is no course 'dawn'; there is evening\n"
    assert typed("list") == "0 evening: Evening\n  Lantern, 0 runs\n  Wick, 0 runs\n"
    with open_pool(url, size=1) as pool, transaction(pool) as connection:
        kept = json.dumps(dict(connection.execute("select body from laboratory").fetchone() or {}))
    assert '"count": 4' in kept
