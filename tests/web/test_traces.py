"""Samples of a row over HTTP: kept, a stretch chosen, the value in the table, and nothing lost when they cannot be read."""

import re

import numpy as np
import pytest
from flask.testing import FlaskClient
from werkzeug.test import TestResponse

from tests.web.http import entry, save, start, text, token

# A cart that rests, speeds up at 0.85 m/s² from 0.4 s to 2.0 s, and is caught.
TIMES = np.arange(150) / 50
SPEEDS = np.clip(0.85 * (TIMES - 0.4), 0, 1.36) + 0.004 * np.sin(40 * TIMES)
TABLE = "time (s);speed (m/s)\n" + "\n".join(f"{t:.2f};{v:.4f}" for t, v in zip(TIMES, SPEEDS, strict=True))


@pytest.fixture
def cart(client: FlaskClient) -> int:
    run = start(client, "newton-second-law", "Prism", "With samples")
    save(client, run, entry("reading", "force.m_h.1.1", text="40.0"), entry("reading", "force.m_c.1.1", text="460.0"))
    return run


def look(client: FlaskClient, run: int, text: str, place: str = "force.a.1", **choice: object) -> TestResponse:
    """What the page is told of a text."""
    return client.post(
        f"/runs/{run}/traces/{place}/read", json={"text": text, **choice}, headers={"X-CSRFToken": token(client)}
    )


def put(client: FlaskClient, run: int, text: str, **choice: object) -> TestResponse:
    """The same kept, as the page does."""
    body = look(client, run, text, **choice).json["body"]
    assert body is not None
    return save(client, run, entry("trace", "trace:force.a.1", **body))


def test_samples_give_the_value_of_the_chosen_stretch(client: FlaskClient, cart: int) -> None:
    assert put(client, cart, TABLE).status_code == 200
    answer = save(client, cart, entry("stretch", "stretch:force.a.1", begin=0.5, end=1.9), page="traces:force.a.1")
    assert "0.8496" in answer.text
    twin = client.get(f"/runs/{cart}/traces/force.a.1.json").json
    assert twin["value"].startswith("0.8496")
    assert len(twin["trace"]["values"]) == len(TIMES)
    column = client.get(f"/runs/{cart}/measure.json").json["result"]["series"]["force"]["a"]
    assert column["values"][0] == pytest.approx(0.85, abs=0.01)
    assert column["u"][0] > 0
    assert 'placeholder="0.8' in client.get(f"/runs/{cart}/measure").text
    logbook = text(client, f"/runs/{cart}/logbook")
    assert "150 samples" in logbook
    assert "stretch from 0.5 to 1.9 s chosen" in logbook


def test_a_typed_value_stands_before_the_samples(client: FlaskClient, cart: int) -> None:
    put(client, cart, TABLE)
    save(client, cart, entry("reading", "force.a.1.1", text="0.7"))
    column = client.get(f"/runs/{cart}/measure.json").json["result"]["series"]["force"]["a"]
    assert column["values"][0] == pytest.approx(0.7)


def test_values_alone_come_at_a_rate(client: FlaskClient, cart: int) -> None:
    put(client, cart, "\n".join(f"{v:.4f}" for v in SPEEDS))
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").json["trace"]["rate"] == "50 Hz"


def test_the_clean_stretch_is_proposed_and_a_dirty_one_doubted(client: FlaskClient, cart: int) -> None:
    put(client, cart, TABLE)
    part = client.get(f"/runs/{cart}/traces/force.a.1/part").text
    begin, end = (float(v) for v in re.search(r'data-begin="([\d.]+)" data-end="([\d.]+)"', part).groups())
    assert 0.38 < begin < 0.5
    assert 1.9 < end < 2.02
    assert "before the release: at rest" in part
    save(client, cart, entry("stretch", "stretch:force.a.1", begin=begin, end=end))
    assert 'id="proposed"' not in client.get(f"/runs/{cart}/traces/force.a.1/part").text
    save(client, cart, entry("stretch", "stretch:force.a.1", begin=0.0, end=2.9))
    doubted = client.get(f"/runs/{cart}/traces/force.a.1/part").text
    assert "contains more than one motion" in doubted
    assert 'id="proposed"' in doubted


def test_the_columns_of_an_export_are_chosen_from(client: FlaskClient, cart: int) -> None:
    export = "Time (s);Position (m);Velocity (m/s)\n" + "".join(
        f"{t:.2f};{t * t:.4f};{v:.4f}\n".replace(".", ",") for t, v in zip(TIMES, SPEEDS, strict=True)
    )
    seen = look(client, cart, export).json
    assert seen["body"]["unit"] == "m/s"
    assert seen["body"]["values"][:3] == pytest.approx(SPEEDS[:3], abs=1e-4)
    assert "Position" in seen["html"]
    turned = look(client, cart, export, value=1, sign=-1).json["body"]
    assert turned["unit"] == "m"
    assert turned["values"][-1] == pytest.approx(-(TIMES[-1] ** 2), abs=1e-4)


@pytest.mark.parametrize(
    ("sent", "said"),
    [
        ({"text": "nothing yet\n"}, "no samples"),
        ({"text": "1\n2\n3\n", "rate": "often"}, "is not a number with a unit"),
        ({"text": "0 1\n1 2\n", "unit": "leapings"}, "leapings"),
        ({"text": "0 1\n1 2\n", "time": 9}, "no column 10"),
    ],
)
def test_what_cannot_be_read_says_why(client: FlaskClient, cart: int, sent: dict, said: str) -> None:
    answer = look(client, cart, **sent)
    assert answer.json["body"] is None
    assert said in answer.json["what"]
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").json["trace"] is None


def test_a_request_that_is_none_and_a_place_without_samples(client: FlaskClient, cart: int) -> None:
    answer = client.post(f"/runs/{cart}/traces/force.a.1/read", json=[1], headers={"X-CSRFToken": token(client)})
    assert answer.status_code == 422
    assert look(client, cart, "0 1\n1 2", place="force.m_h.1").status_code == 404


def test_samples_of_the_wrong_dimension_are_kept_and_say_so(client: FlaskClient, cart: int) -> None:
    put(client, cart, TABLE.replace("m/s", "m"))
    page = text(client, f"/runs/{cart}/traces/force.a.1")
    assert "the slope of samples in m is no acceleration in m/s^2" in page
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").json["value"] is None
    assert client.get(f"/runs/{cart}/measure").status_code == 200


def test_undo_and_places_without_samples(client: FlaskClient, cart: int) -> None:
    put(client, cart, TABLE)
    save(client, cart, entry("undo", "trace:force.a.1"))
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").json["trace"] is None
    for place in ("force.m_h.1", "nothing.a.1", "force.a.0", "force.a.x", "force.a"):
        assert client.get(f"/runs/{cart}/traces/{place}").status_code == 404
    refused = save(client, cart, entry("stretch", "stretch:force.a.1", begin=2, end=1))
    assert "ends after it begins" in str(refused.json["refused"])


def test_a_second_trial_has_samples_of_its_own(client: FlaskClient, cart: int) -> None:
    body = look(client, cart, TABLE).json["body"]
    faster = {**body, "values": [1.1 * v for v in body["values"]]}
    save(client, cart, entry("trace", "trace:force.a.1", **body), entry("trace", "trace:force.a.1.2", **faster))
    for place in ("force.a.1", "force.a.1.2"):
        save(client, cart, entry("stretch", f"stretch:{place}", begin=0.5, end=1.9))
    page = client.get(f"/runs/{cart}/measure").text
    assert 'data-trace="force.a.1"' in page
    assert 'data-trace="force.a.1.2"' in page
    shown = client.get(f"/runs/{cart}/measure.json").json
    assert len(shown["run"]["traces"]["force"]["a"][0]) == 2
    assert shown["result"]["series"]["force"]["a"]["values"][0] == pytest.approx(1.05 * 0.85, rel=5e-3)
    assert client.get(f"/runs/{cart}/traces/force.a.1.2.json").json["value"].startswith("0.93")
    refused = save(client, cart, entry("trace", "trace:force.a.1.1", **body)).json["refused"]
    assert "names no row" in str(refused)
    save(client, cart, entry("undo", "trace:force.a.1.2"))
    assert isinstance(client.get(f"/runs/{cart}/measure.json").json["run"]["traces"]["force"]["a"][0], dict)


def test_trials_of_samples_that_cannot_both_be_right_are_asked_about(client: FlaskClient, cart: int) -> None:
    body = look(client, cart, TABLE).json["body"]
    for trial, factor in (("", 1.0), (".2", 2.5), (".3", 1.0)):
        sent = {**body, "values": [factor * v for v in body["values"]], "begin": 0.5, "end": 1.9}
        save(client, cart, entry("trace", f"trace:force.a.1{trial}", **sent))
        page = text(client, f"/runs/{cart}/measure")
        assert "cannot be computed" not in page
    save(client, cart, entry("reading", "force.m_h.1.1", text="40000"))
    assert "cannot be computed" not in text(client, f"/runs/{cart}/measure")


def moving(acceleration: float) -> list[float]:
    """A cart at rest, then accelerated for two seconds and a half, then stopped; 50 a second, with a noise of 4 mm/s."""
    t = np.arange(0, 4, 0.02)
    noise = 0.004 * np.random.default_rng(7).normal(size=len(t))
    v = np.where(t < 0.6, 0, np.where(t < 3.1, acceleration * (t - 0.6), 0))
    return [round(float(one), 4) for one in v + noise]


def test_stretches_of_all_rows_are_shown_before_they_count(client: FlaskClient, cart: int) -> None:
    wanted = (0.21, 0.42, 0.61)
    for row, acceleration in enumerate(wanted, 1):
        body = {"values": moving(acceleration), "rate": "50 Hz", "unit": "m/s"}
        assert not save(client, cart, entry("trace", f"trace:force.a.{row}", **body)).get_json()["refused"]
    save(client, cart, entry("stretch", "stretch:force.a.2", begin=1.0, end=2.0))
    page = client.get(f"/runs/{cart}/traces/force.a/all").text
    ticks = re.findall(r'value="(force\.a\.\d)" data-begin="([\d.]+)" data-end="([\d.]+)"( checked)?', page)
    assert [(place, bool(on)) for place, _, _, on in ticks] == [
        ("force.a.1", True),
        ("force.a.2", False),
        ("force.a.3", True),
    ]
    for _, begin, end, _ in ticks:
        assert 0.6 <= float(begin) < 0.8 and 2.8 < float(end) <= 3.1
    rows = client.get(f"/runs/{cart}/traces/force.a/all.json").get_json()["rows"]
    assert [(r["place"], r["begin"], r["chosen"]) for r in rows] == [(p, float(b), not on) for p, b, _, on in ticks]
    before = client.get(f"/runs/{cart}/traces/force.a.1.json").get_json()["value"]
    for place, begin, end, on in ticks:
        if on:
            save(client, cart, entry("stretch", f"stretch:{place}", begin=float(begin), end=float(end)))
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").get_json()["value"] != before
    values = [client.get(f"/runs/{cart}/traces/force.a.{row}.json").get_json()["value"] for row in (1, 2, 3)]
    assert [float(v.split()[0]) for v in values] == pytest.approx(wanted, rel=0.02)
    assert client.get(f"/runs/{cart}/traces/force.m_h/all").status_code == 404
    assert "stretches of all rows" in text(client, f"/runs/{cart}/measure")


def test_one_recording_gives_each_row_its_peak(client: FlaskClient) -> None:
    """Electrons in a gas, recorded on the simulated apparatus: six peaks of one recording fill six rows, and their spacing is the energy."""
    run = start(client, "gas-excitation", "Prism", "Recorded", reading="recorder")
    typed = [entry("reading", f"peaks.n.{n}.1", text=str(n)) for n in range(1, 7)]
    typed += [entry("reading", "quantities.r.1", text="0.500"), entry("reading", "quantities.U_0.1", text="0.00")]
    save(client, run, *typed)
    client.post(f"/runs/{run}/bench", data={"csrf_token": token(client)})
    shown = client.get(f"/runs/{run}/bench.json?slot=peaks.t.1.1").json
    assert shown["scene"] == "slope"
    save(client, run, entry("trace", "trace:peaks.t.1", **shown["data"]))
    rows = client.get(f"/runs/{run}/traces/peaks.t/all.json").json["rows"]
    assert [row["place"] for row in rows] == [f"peaks.t.{n}" for n in range(1, 7)]
    assert rows[0]["cut"] is None
    page = client.get(f"/runs/{run}/traces/peaks.t/all").text
    assert page.count("data-cut") == 5
    assert "peak 6 of 6" in page
    assert "From the dip before the peak" in page
    stretch = entry("stretch", "stretch:peaks.t.1", begin=rows[0]["begin"], end=rows[0]["end"])
    cuts = [entry("trace", f"trace:{row['place']}", **row["cut"]) for row in rows[1:]]
    assert sum(len(one["body"]["values"]) for one in cuts) < 1.6 * len(shown["data"]["values"])
    save(client, run, stretch, *cuts)
    found = client.get(f"/runs/{run}/measure.json").json["result"]["results"]["E"]
    # 4.886 eV, the mercury line of 253.7 nm
    assert abs(found["value"] - 4.886) < 3 * found["u"] < 0.1
    again = client.get(f"/runs/{run}/traces/peaks.t/all.json").json["rows"]
    assert [row["cut"] for row in again] == [None] * 6
