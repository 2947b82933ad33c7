"""Lessons over HTTP: laid out, moved, begun once however often it is sent, and called."""

import re
from datetime import datetime, timedelta, timezone
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from cavrel.core import lesson as lessons
from cavrel.present import lesson as shown
from cavrel.present import zones
from cavrel.store import lessons as store
from cavrel.store.pool import Pool, transaction
from tests.web.http import entry, save, start, text, token


def made(client: FlaskClient, **fields: str) -> int:
    form = {
        "csrf_token": token(client),
        "title": "Evening",
        "begins": "2026-11-26T18:30",
        "minutes": "150",
        "key": str(uuid4()),
        **fields,
    }
    answer = client.post("/lessons", data=form)
    assert answer.status_code == 303, answer.text
    found = re.search(r"/lessons/(\d+)", answer.location)
    assert found
    return int(found[1])


def lay_out(client: FlaskClient, lesson: int, *experiments: str, **fields: str):
    form = {
        "csrf_token": token(client), "title": "Evening", "begins": "2026-11-26T18:30", "minutes": "150", "between": "5",
        "rotations": str(max(len(experiments), 1)), "bench": ["Beacon", "Wick"], "experiment": list(experiments), **fields,
    }  # fmt: skip
    return client.post(f"/lessons/{lesson}/set", data=form)


def move(client: FlaskClient, lesson: int, **body):
    return client.post(f"/lessons/{lesson}/move", json=body, headers={"X-CSRFToken": token(client)})


def document(client: FlaskClient, lesson: int) -> dict:
    return client.get(f"/lessons/{lesson}.json").json


@pytest.fixture
def lesson(client: FlaskClient) -> int:
    number = made(client)
    assert lay_out(client, number, "spring", "speed-of-sound").status_code == 303
    return number


def test_from_nothing_to_a_timetable(client: FlaskClient, lesson: int) -> None:
    body = lessons.load(document(client, lesson))
    assert len(body.blocks) == 4 and not lessons.collisions(body)
    page = text(client, f"/lessons/{lesson}")
    assert "No clashes" in page and "Stiffness of a spring" in page
    assert f"/lessons/{lesson}" in client.get("/lessons").text
    assert any(one["id"] == lesson for one in client.get("/lessons.json").json["lessons"])
    assert body.stock["digital balance"] == 8 and body.stock["metre rule"] == 10


def test_made_twice_it_is_one(client: FlaskClient) -> None:
    key = str(uuid4())
    assert made(client, key=key) == made(client, key=key)


@pytest.mark.parametrize(
    ("experiments", "fields", "said"),
    [
        (["spring"], {"minutes": "soon"}, "not a whole number"),
        (["spring"], {"minutes": "5"}, "minutes"),
        (["spring"], {"minutes": "99999"}, "minutes"),
        (["spring"], {"rotations": "0"}, "rotations"),
        (["alchemy"], {}, "is not among the experiments"),
        (["spring"], {"minutes-spring": "x"}, "not a whole number"),
        (["spring"], {"bench": "Nowhere" * 9}, "benches"),
        (["spring"], {"title": ""}, "title"),
    ],
)
def test_what_cannot_be_laid_out_is_said_and_what_was_typed_stands(
    client: FlaskClient, lesson: int, experiments: list, fields: dict, said: str
) -> None:
    before = document(client, lesson)
    answer = lay_out(client, lesson, *experiments, **fields)
    assert answer.status_code == 422
    assert said in re.sub(r"<[^>]+>", " ", answer.text)
    if fields.get("minutes"):
        assert f'value="{fields["minutes"]}"' in answer.text
    assert document(client, lesson) == before


def test_fewer_minutes_make_a_smaller_plan(client: FlaskClient, lesson: int) -> None:
    lay_out(client, lesson, "pendulum", **{"minutes-pendulum": "40"})
    task = lessons.load(document(client, lesson)).task("pendulum")
    assert task.minutes == 40 and task.lasting <= 42
    client.post(f"/lessons/{lesson}/start", data={"csrf_token": token(client), "sure": "yes"})
    run = document(client, lesson)["blocks"][0]["run"]
    plan = client.get(f"/runs/{run}/plan.json").json
    assert plan["forecast"]["minutes"] <= 41
    settings = plan["run"]["plan"]["settings"]["swings.L"]
    assert len(settings) < 8 and all(float(text) == round(float(text)) for text in settings)


def test_moved_collides_and_back_again(client: FlaskClient, lesson: int) -> None:
    before = document(client, lesson)
    first, second = sorted((b for b in before["blocks"] if b["bench"] == "Wick"), key=lambda b: b["start"])
    answer = move(client, lesson, key=f"Wick/{second['experiment']}", bench="Wick", start=first["start"] + 5)
    assert answer.status_code == 200 and "1 clash" in answer.text
    assert "Wick would do" in answer.text
    assert client.post(f"/lessons/{lesson}/back", data={"csrf_token": token(client)}).status_code == 303
    assert document(client, lesson) == before


def test_undo_goes_back_step_by_step_and_a_new_change_begins_anew(client: FlaskClient, lesson: int) -> None:
    def back() -> int:
        return client.post(f"/lessons/{lesson}/back", data={"csrf_token": token(client)}).status_code

    states = [document(client, lesson)]
    for start_at in (10, 20, 30):
        block = states[0]["blocks"][0]
        assert move(client, lesson, key=f"{block['bench']}/{block['experiment']}", bench=block["bench"], start=start_at)
        states.append(document(client, lesson))
    for earlier in reversed(states[:-1]):
        assert back() == 303
        assert document(client, lesson) == earlier
    move(client, lesson, key=f"{block['bench']}/{block['experiment']}", bench=block["bench"], start=40)
    assert back() == 303
    assert document(client, lesson) == states[0]


def test_a_start_with_clashes_or_before_its_time_asks(client: FlaskClient, lesson: int) -> None:
    def started(**more: str) -> Any:
        return client.post(f"/lessons/{lesson}/start", data={"csrf_token": token(client), **more})

    first, second = sorted(
        (b for b in document(client, lesson)["blocks"] if b["bench"] == "Wick"), key=lambda b: b["start"]
    )
    move(client, lesson, key=f"Wick/{second['experiment']}", bench="Wick", start=first["start"] + 5)
    asked = started()
    assert asked.status_code == 200
    assert "Start all the same?" in asked.text
    assert "Wick would do" in asked.text
    assert "started" not in document(client, lesson)
    assert started(sure="yes").status_code == 303
    assert document(client, lesson)["started"]


@pytest.mark.parametrize(("minutes", "asks"), [(14, False), (17, True), (-60, False)])
def test_early_is_a_quarter_of_an_hour(minutes: int, asks: bool) -> None:
    now = datetime(2026, 11, 26, 17, 0, tzinfo=timezone.utc)
    zones.tell_in("UTC")
    begins = (now + timedelta(minutes=minutes)).strftime("%Y-%m-%dT%H:%M")
    found = shown.doubts(lessons.Lesson(title="Evening", begins=begins, minutes=90, benches=["Wick"]), now)
    assert bool(found) is asks
    if asks:
        assert "26 November 2026, 17:17" in found[0]


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ({"key": "Wick/alchemy", "bench": "Wick", "start": 5}, "removed meanwhile"),
        ({"key": "Wick/spring", "bench": "Beacon", "start": 5}, "already"),
        ({"key": "Wick/spring", "bench": "Nowhere", "start": 5}, "takes no part"),
        ({"key": "Wick/spring", "bench": "Wick", "start": "5"}, "name the block"),
        ({"key": "Wick/spring", "bench": "Wick"}, "name the block"),
        ({"add": {"bench": "Wick", "experiment": "spring"}}, "twice"),
        ({"add": {"bench": "Wick"}}, "experiment"),
        ({}, "name the block"),
    ],
)
def test_moves_that_are_none(client: FlaskClient, lesson: int, body: dict, said: str) -> None:
    before = document(client, lesson)
    answer = move(client, lesson, **body)
    assert answer.status_code == 422 and said in answer.json["what"]
    assert document(client, lesson) == before


def test_taken_out_and_put_in(client: FlaskClient, lesson: int) -> None:
    assert "Beacon: How stiff" not in move(client, lesson, drop="Beacon/spring").text
    back = move(client, lesson, add={"bench": "Beacon", "experiment": "spring"})
    assert "Beacon: Stiffness of a spring" in back.text
    assert not lessons.collisions(lessons.load(document(client, lesson)))


def test_begun_it_makes_each_run_once_and_calls_in_every_page(client: FlaskClient, lesson: int) -> None:
    for _ in range(2):
        form = {"csrf_token": token(client), "sure": "yes"}
        assert client.post(f"/lessons/{lesson}/start", data=form).status_code == 303
    body = lessons.load(document(client, lesson))
    made_runs = {b.run for b in body.blocks}
    assert len(made_runs) == 4 and None not in made_runs
    for block in body.blocks:
        assert block.bench in text(client, f"/runs/{block.run}/plan")
    said = client.get("/calls.json").json
    own = [c for c in said["calls"] if c["key"].startswith(f"{lesson}:")]
    assert len(own) == 2 and all(c["run"] in made_runs for c in own)
    assert lay_out(client, lesson, "spring").status_code == 422
    move(client, lesson, drop="Beacon/spring")
    assert len(lessons.load(document(client, lesson)).blocks) == 4, "a run that has begun is not dropped"


def test_a_lesson_of_yesterday_calls_nothing(client: FlaskClient, pool: Pool, lesson: int) -> None:
    with transaction(pool) as connection:
        kept = store.get(connection, 1, lesson)
        assert kept is not None
        moment = datetime.now(timezone.utc) - timedelta(hours=25)
        store.lock(connection, lesson)
        store.add(connection, lesson, {**kept.body, "started": moment.isoformat()}, moment)
    assert not [c for c in client.get("/calls.json").json["calls"] if c["key"].startswith(f"{lesson}:")]


def test_a_wait_that_a_bench_starts_is_called_everywhere(client: FlaskClient) -> None:
    run = start(client, "torsion-balance", "Foghorn", "Settling")
    until = (datetime.now(timezone.utc) + timedelta(minutes=60)).isoformat()
    assert not save(client, run, entry("timer", f"timer:{uuid4()}", call="wait of 60 min", until=until)).json["refused"]
    found = [c for c in client.get("/calls.json").json["calls"] if c["run"] == run]
    assert [(c["bench"], c["say"], c["at"]) for c in found] == [("Foghorn", "“Settling”: the wait is over", until)]
    odd = save(client, run, entry("timer", f"timer:{uuid4()}", call="wait", until="tomorrow"))
    assert not odd.json["refused"] and client.get("/calls.json").status_code == 200
    assert save(client, run, entry("timer", f"timer:{uuid4()}", call="wait", until=5)).json["refused"]


def test_lessons_that_are_none(client: FlaskClient) -> None:
    for path in ("/lessons/4000", "/lessons/4000.json"):
        assert client.get(path).status_code == 404
    assert move(client, 4000, drop="x").status_code == 404
    assert lay_out(client, 4000, "spring").status_code == 404
    assert client.post("/lessons/4000/start", data={"csrf_token": token(client)}).status_code == 404
    assert client.post("/lessons", data={"csrf_token": token(client), "title": "", "minutes": "90"}).status_code == 422


def act(client: FlaskClient, lesson: int, what: str) -> int:
    return client.post(f"/lessons/{lesson}/pause", data={"csrf_token": token(client), "act": what}).status_code


def test_it_rests_goes_on_ends_and_opens_its_runs(client: FlaskClient, lesson: int) -> None:
    assert act(client, lesson, "pause") == 422, "it has not started"
    client.post(f"/lessons/{lesson}/start", data={"csrf_token": token(client), "sure": "yes"})
    runs = {b.run for b in lessons.load(document(client, lesson)).blocks}
    page = client.get(f"/lessons/{lesson}").text
    assert all(f'href="/runs/{run}/measure"' in page for run in runs)
    assert act(client, lesson, "pause") == 303
    assert "nothing is called" in text(client, f"/lessons/{lesson}")
    assert not [c for c in client.get("/calls.json").json["calls"] if c["key"].startswith(f"{lesson}:")]
    assert act(client, lesson, "resume") == 303 and lessons.load(document(client, lesson)).paused is None
    assert [c for c in client.get("/calls.json").json["calls"] if c["key"].startswith(f"{lesson}:")]
    assert act(client, lesson, "end") == 303 and "ended at" in text(client, f"/lessons/{lesson}")
    assert act(client, lesson, "pause") == 422
    client.post(f"/lessons/{lesson}/back", data={"csrf_token": token(client)})
    assert lessons.load(document(client, lesson)).ended is None


def test_a_wait_takes_longer_at_one_bench(client: FlaskClient) -> None:
    lesson = made(client)
    assert lay_out(client, lesson, "spring", "torsion-balance").status_code == 303
    before = lessons.load(document(client, lesson))
    waiting = next(b for b in before.blocks if any(s.kind == "wait" for s in before.segments(b)))
    assert move(client, lesson, longer=waiting.key, minutes=5).status_code == 200
    after = lessons.load(document(client, lesson))
    ends = [{b.key: one.end(b) for b in one.blocks} for one in (before, after)]
    assert {key: ends[1][key] - end for key, end in ends[0].items() if ends[1][key] != end} == {waiting.key: 5}
    assert move(client, lesson, longer="nobody", minutes=5).status_code == 422
    assert move(client, lesson, longer=waiting.key, minutes="5").status_code == 422
