"""Samples of a row over HTTP: kept, a stretch chosen, the value in the table, and nothing lost when they cannot be read."""

import io
from uuid import uuid4

import numpy as np
import pytest
from flask.testing import FlaskClient

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


def put(client: FlaskClient, run: int, **fields: object):
    form = {"key": str(uuid4()), "csrf_token": token(client), "rate": "50 Hz", "unit": "m/s", **fields}
    return client.post(f"/runs/{run}/traces/force.a.1", data=form, content_type="multipart/form-data")


def test_samples_give_the_value_of_the_chosen_stretch(client: FlaskClient, cart: int) -> None:
    assert put(client, cart, samples=TABLE).status_code == 303
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
    put(client, cart, samples=TABLE)
    save(client, cart, entry("reading", "force.a.1.1", text="0.7"))
    column = client.get(f"/runs/{cart}/measure.json").json["result"]["series"]["force"]["a"]
    assert column["values"][0] == pytest.approx(0.7)


def test_a_file_and_values_at_a_rate(client: FlaskClient, cart: int) -> None:
    body = "\n".join(f"{v:.4f}" for v in SPEEDS).encode()
    assert put(client, cart, file=(io.BytesIO(body), "run.csv")).status_code == 303
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").json["trace"]["rate"] == "50 Hz"


@pytest.mark.parametrize(
    ("fields", "said"),
    [
        ({"samples": "nothing yet\n"}, "no samples"),
        ({"samples": "0 1\n1 2\n2 x\n"}, "'x' is no number"),
        ({"samples": "1\n2\n3\n", "rate": "often"}, "is not a number with a unit"),
        ({"samples": "0 1\n1 2\n", "unit": "leapings"}, "leapings"),
        ({"samples": "0 1\n1 2\n", "key": "x"}, "load it again"),
    ],
)
def test_what_cannot_be_read_comes_back_as_it_was(client: FlaskClient, cart: int, fields: dict, said: str) -> None:
    answer = put(client, cart, **fields)
    assert answer.status_code == 422
    assert said in answer.text.replace("&#39;", "'")
    assert fields["samples"].split("\n")[0] in answer.text
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").json["trace"] is None


def test_samples_of_the_wrong_dimension_are_kept_and_say_so(client: FlaskClient, cart: int) -> None:
    assert put(client, cart, samples=TABLE.replace("m/s", "m")).status_code == 303
    page = text(client, f"/runs/{cart}/traces/force.a.1")
    assert "the slope of samples in m is no acceleration in m/s^2" in page
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").json["value"] is None
    assert client.get(f"/runs/{cart}/measure").status_code == 200


def test_undo_and_places_without_samples(client: FlaskClient, cart: int) -> None:
    put(client, cart, samples=TABLE)
    save(client, cart, entry("undo", "trace:force.a.1"))
    assert client.get(f"/runs/{cart}/traces/force.a.1.json").json["trace"] is None
    for place in ("force.m_h.1", "nothing.a.1", "force.a.0", "force.a.x", "force.a"):
        assert client.get(f"/runs/{cart}/traces/{place}").status_code == 404
    refused = save(client, cart, entry("stretch", "stretch:force.a.1", begin=2, end=1))
    assert "ends after it begins" in str(refused.json["refused"])
