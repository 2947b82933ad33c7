"""Rows shown in another order, rows kept aside to test a line, readings watched, and the simulated apparatus over HTTP."""

import re
from uuid import uuid4

import numpy as np
import pytest
from flask.testing import FlaskClient

from tests.web.http import entry, save, start, text, token

LENGTHS = ["60.0", "40.0", "100.0", "80.0"]


@pytest.fixture
def run(client: FlaskClient) -> int:
    run = start(client, "pendulum", "Wick", "Rows")
    made = [entry("rows", "rows:swings", count=4)]
    for row, length in enumerate(LENGTHS, 1):
        made.append(entry("reading", f"swings.L.{row}.1", text=length))
        for trial in range(1, 6):
            t = 20 * 2 * np.pi * np.sqrt(float(length) / 100 / 9.81) + 0.03 * (trial - 3)
            made.append(entry("reading", f"swings.t.{row}.{trial}", text=f"{t:.2f}"))
    save(client, run, *made)
    return run


def timing(**body: object) -> dict:
    """An entry of the deck."""
    made = entry("timer", f"timer:{uuid4()}")
    return made | {"body": body}


def shown(client: FlaskClient, run: int) -> list[int]:
    """Numbers of the rows in the order of the page."""
    page = client.get(f"/runs/{run}/measure").text
    return [int(n) for n in re.findall(r'<tr id="r-swings-(\d+)"', page)]


def test_rows_are_sorted_by_a_column_and_moved_and_keep_their_numbers(client: FlaskClient, run: int) -> None:
    assert shown(client, run) == [1, 2, 3, 4]
    save(client, run, entry("order", "order:swings", by="L"))
    assert shown(client, run) == [2, 1, 4, 3]
    save(client, run, entry("order", "order:swings", by="L", falling=True))
    assert shown(client, run) == [3, 4, 1, 2]
    save(client, run, entry("order", "order:swings", rows=[4, 1]))
    assert shown(client, run) == [4, 1, 2, 3]
    save(client, run, entry("undo", "order:swings"))
    assert shown(client, run) == [3, 4, 1, 2]
    assert client.get(f"/runs/{run}/measure.json").json["run"]["series"]["swings"]["L"] == LENGTHS
    assert "rows shown by length to the bob" in text(client, f"/runs/{run}/logbook")


def test_a_row_without_a_value_stands_last(client: FlaskClient, run: int) -> None:
    save(client, run, entry("rows", "rows:swings", count=6), entry("order", "order:swings", by="L", falling=True))
    assert shown(client, run) == [3, 4, 1, 2, 5, 6]


@pytest.mark.parametrize(
    ("slot", "body", "what"),
    [
        ("order:nothing", {}, "names no table"),
        ("order:swings", {"by": "q"}, "names no column"),
        ("order:swings", {"rows": [1, 1]}, "each once"),
        ("order:swings", {"rows": [0]}, "numbers of rows"),
        ("order:swings", {"rows": "1"}, "numbers of rows"),
    ],
)
def test_an_order_that_is_none(client: FlaskClient, run: int, slot: str, body: dict, what: str) -> None:
    assert what in str(save(client, run, entry("order", slot, **body)).json["refused"])


def test_a_row_kept_aside_tests_the_line(client: FlaskClient, run: int) -> None:
    before = client.get(f"/runs/{run}/measure.json").json["result"]["fits"]["line"]["parameters"]
    save(
        client,
        run,
        entry("rows", "rows:swings", count=5),
        entry("leave-out", "out:swings.5", reason="test row"),
    )
    assert "enter its value first" in text(client, f"/runs/{run}/measure")
    save(client, run, entry("reading", "swings.L.5.1", text="140.0"))
    page = text(client, f"/runs/{run}/measure")
    predicted = float(re.search(r"Row 5 ?, by the line ?: T² = ?([\d.]+)", page)[1])
    assert predicted == pytest.approx(4 * np.pi**2 / 9.81 * 1.4, rel=2e-3)
    assert "not read yet" in page
    assert "outside the measured range" in page
    right = 20 * 2 * np.pi * np.sqrt(1.4 / 9.81)
    save(client, run, *[entry("reading", f"swings.t.5.{i}", text=f"{right:.2f}") for i in range(1, 6)])
    assert "as predicted" in text(client, f"/runs/{run}/measure")
    save(client, run, *[entry("reading", f"swings.t.5.{i}", text=f"{1.2 * right:.2f}") for i in range(1, 6)])
    assert "not as predicted" in text(client, f"/runs/{run}/measure")
    after = client.get(f"/runs/{run}/measure.json").json["result"]["fits"]["line"]["parameters"]
    assert after["slope"]["value"] == pytest.approx(before["slope"]["value"], rel=1e-9)


def test_a_watch_says_when_it_is_steady(client: FlaskClient) -> None:
    run = start(client, "stefan-constant", "Wick", "Steam")
    assert "repeatedly" in text(client, f"/runs/{run}/measure")
    rising = [80.0, 95.0, 98.0, 98.5, 98.0, 98.0, 98.5, 98.0]
    for key in ("theta_1", "theta_2"):
        made = [timing(watched=key, text=f"{v}", at=60.0 * i) for i, v in enumerate(rising)]
        save(client, run, *made)
    page = text(client, f"/runs/{run}/measure")
    assert "steady: within 1 K for 5:00" in page
    assert "write 98.2 °C" in page
    assert "98.0 while it is watched" in text(client, f"/runs/{run}/logbook")
    refused = save(client, run, timing(watched="nothing", text="1", at=0.0)).json["refused"]
    assert "a reading watched" in str(refused)


def test_timings_are_shown_with_the_line_through_their_laps(client: FlaskClient, run: int) -> None:
    laps = [round(1.9 * i + 0.01 * (-1) ** i, 3) for i in range(1, 21)]
    save(client, run, timing(laps=laps, spoilt=False, counted=True, slot="swings.t.1.1"))
    page = text(client, f"/runs/{run}/measure")
    assert "1 timing with every swing" in page
    assert "use the line" in page
    missing = [lap for i, lap in enumerate(laps) if i != 7]
    save(client, run, timing(laps=missing, spoilt=False, counted=True, slot="swings.t.1.1"))
    assert "swing 8 took twice as long: a press is missing" in text(client, f"/runs/{run}/measure")


def test_the_apparatus_on_the_screen(client: FlaskClient) -> None:
    run = start(client, "metre-bridge", "Wick", "On the screen")
    assert client.get(f"/runs/{run}/instructor").status_code == 404
    begun = client.post(f"/runs/{run}/bench", data={"csrf_token": token(client)})
    assert begun.status_code == 303
    page = client.get(f"/runs/{run}/measure").text
    assert 'id="screen-bench"' in page
    assert client.get(f"/runs/{run}/measure.json").json["run"]["on_screen"] is True
    assert "simulated apparatus" in text(client, f"/runs/{run}/logbook")
    waits = client.get(f"/runs/{run}/bench.json?slot=first.l.1.1").json
    assert waits["scene"] == "not-yet"
    assert "first" in waits["html"]
    save(client, run, entry("reading", "first.K.1.1", text="4"))
    seen = client.get(f"/runs/{run}/bench.json?slot=first.l.1.1").json
    assert (seen["scene"], seen["data"]["low"], seen["data"]["high"]) == ("seek", 0.0, 100.0)
    assert seen == client.get(f"/runs/{run}/bench.json?slot=first.l.1.1").json
    again = client.get(f"/runs/{run}/bench.json?slot=first.l.1.1&take=2").json
    assert again["data"]["at"] != seen["data"]["at"]
    zero = client.get(f"/runs/{run}/bench.json?slot=zero:rule").json
    assert "zero of the scale of the bridge" in zero["html"]
    for slot in ("", "zero:nothing", "first.q.1.1", "first.l.1", "x" * 300):
        assert client.get(f"/runs/{run}/bench.json?slot={slot}").status_code == 422


def test_whoever_runs_the_lesson_can_make_things_go_wrong(client: FlaskClient) -> None:
    run = start(client, "metre-bridge", "Wick", "Behind")
    client.post(f"/runs/{run}/bench", data={"csrf_token": token(client)})
    save(client, run, entry("reading", "first.K.1.1", text="4"))
    at = client.get(f"/runs/{run}/bench.json?slot=first.l.1.1").json["data"]["at"]
    form = {"csrf_token": token(client), "fault": ["end", "zero:rule"]}
    assert client.post(f"/runs/{run}/instructor", data=form).status_code == 303
    moved = client.get(f"/runs/{run}/bench.json?slot=first.l.1.1").json["data"]["at"]
    assert moved == pytest.approx(at - 0.8 * (1 - at / 100) + 0.6, abs=0.01)
    behind = client.get(f"/runs/{run}/instructor").text
    assert behind.count("checked") == 2
    assert "this run found" not in behind
    assert "this run found" in client.get(f"/runs/{run}/instructor?truth=yes").text
    truths = client.get(f"/runs/{run}/instructor.json").json["truths"]
    assert [t["label"] for t in truths][:2] == ["First resistor", "Second resistor"]
    strange = client.post(f"/runs/{run}/instructor", data={**form, "fault": ["melts"]})
    assert strange.status_code == 422
    assert "is not a fault of this experiment" in strange.text
    page = client.get(f"/runs/{run}/measure").text
    assert "end" not in re.findall(r'value="(end|zero:rule)"', page)


def test_what_is_set_is_held_against_what_is_needed(client: FlaskClient) -> None:
    run = start(client, "galvanometer-conversion", "Wick", "Voltmeter")
    save(client, run, entry("reading", "quantities.k.1", text="19.86"), entry("reading", "quantities.G.1", text="96.4"))
    page = text(client, f"/runs/{run}/measure")
    assert "needed 4938.8 Ω" in page
    assert "the resistance box can be set to 4939 Ω" in page
    followed = save(client, run, entry("reading", "quantities.R_box.1", text="4939")).json["html"]
    assert "set as needed" in followed
    save(client, run, entry("reading", "quantities.R_box.1", text="5000"))
    assert "set 1.2 % above it" in text(client, f"/runs/{run}/measure")


def test_a_run_can_start_on_the_screen(client: FlaskClient) -> None:
    page = client.get("/experiments/spring").text
    number = re.search(r'<option value="(\d+)">Wick', page)
    form = {"bench": number[1], "title": "From the start", "key": str(uuid4()), "another": "yes", "on-screen": "yes"}
    answer = client.post("/experiments/spring/runs", data=form | {"csrf_token": token(client)})
    assert answer.status_code == 303
    assert 'id="screen-bench"' in client.get(answer.location).text
