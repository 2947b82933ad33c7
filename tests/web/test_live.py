"""Samples from a sensor over HTTP: kept before they are answered, once each, for the place that listens and no other."""

from concurrent.futures import ThreadPoolExecutor

import pytest
from flask.testing import FlaskClient

from cavrel.core.errors import CavrelError
from cavrel.service.live import understood
from tests.web.http import start, text, token

PLACE = "force.a.1"


@pytest.fixture
def cart(client: FlaskClient) -> int:
    return start(client, "newton-second-law", "Prism", "With a sensor")


def listen(client: FlaskClient, run: int, on: bool = True, place: str = PLACE) -> int:
    answer = client.post(
        f"/runs/{run}/traces/{place}/live", json={"listen": on}, headers={"X-CSRFToken": token(client)}
    )
    assert answer.status_code == 200
    return int(answer.json["take"])


def came(client: FlaskClient, run: int, take: int = 0, after: int = 0, place: str = PLACE) -> dict:
    return client.get(f"/runs/{run}/traces/{place}/live.json?take={take}&after={after}").json


def test_samples_come_while_a_page_listens(client: FlaskClient, cart: int) -> None:
    address = client.get(f"/runs/{cart}/live.json").json
    assert address["listening"] is None
    waiting = client.post(address["send_to"], json={"t": 0.0, "v": 1.0})
    assert (waiting.status_code, waiting.json["state"]) == (409, "waiting")
    take = listen(client, cart)
    assert client.get(f"/runs/{cart}/live.json").json == {**address, "listening": PLACE}
    assert client.post(address["send_to"], json={"t": 0.0, "v": 1.0}).json["kept"] == 1
    assert client.post(address["send_to"], json={"times": [0.1, 0.2], "values": [2, 3]}).json["kept"] == 3
    seen = came(client, cart, take)
    assert (seen["times"], seen["values"], seen["listening"]) == ([0.0, 0.1, 0.2], [1.0, 2.0, 3.0], True)
    client.post(address["send_to"], json={"t": 0.3, "v": 4})
    assert came(client, cart, take, seen["last"])["values"] == [4.0]
    listen(client, cart, on=False)
    assert client.post(address["send_to"], json={"t": 0.4, "v": 5}).status_code == 409
    assert came(client, cart, take)["listening"] is False
    assert len(came(client, cart, take)["values"]) == 4


def test_a_block_that_is_sent_again_is_kept_once(client: FlaskClient, cart: int) -> None:
    listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    for _ in range(3):
        assert client.post(address, json={"seq": 1, "t": 0.0, "v": 1.0}).json["kept"] == 1
    assert client.post(address, json={"seq": 2, "t": 0.1, "v": 1.0}).json["kept"] == 2


def test_listening_elsewhere_or_anew_begins_another_take(client: FlaskClient, cart: int) -> None:
    first = listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    client.post(address, json={"t": 0.0, "v": 1.0})
    again = listen(client, cart)
    assert again != first
    assert came(client, cart, first)["take"] == again
    assert came(client, cart, first)["values"] == []
    listen(client, cart, place="force.a.2")
    assert client.post(address, json={"t": 0.0, "v": 7.0}).json["place"] == "force.a.2"
    assert came(client, cart)["values"] == []


def test_many_blocks_at_once_lose_none(client: FlaskClient, cart: int) -> None:
    take = listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    app = client.application

    def send(i: int) -> int:
        return app.test_client().post(address, json={"t": i / 100, "v": i}).status_code

    with ThreadPoolExecutor(8) as hands:
        assert set(hands.map(send, range(120))) == {200}
    assert sorted(came(client, cart, take)["values"]) == list(range(120))


@pytest.mark.parametrize(
    ("body", "place"),
    [
        (None, ""),
        ([1], ""),
        ({"t": 1}, "times"),
        ({"t": 1, "v": "2"}, "v"),
        ({"t": 1, "v": True}, "v"),
        ({"t": 1, "v": 1e200}, "v"),
        ({"times": [1], "values": [1, 2]}, "values"),
        ({"times": [], "values": []}, "times"),
        ({"times": [0] * 5001, "values": [0] * 5001}, "times"),
        ({"t": 1, "v": 2, "seq": 0}, "seq"),
        ({"t": 1, "v": 2, "seq": "a"}, "seq"),
    ],
)
def test_what_is_no_sample_is_refused_with_its_place(body: object, place: str) -> None:
    with pytest.raises(CavrelError) as fault:
        understood(body)
    assert fault.value.place == place


def post(client: FlaskClient, address: str, **body: object):
    return client.post(address, json=body)


def test_a_sensor_that_is_started_again_and_numbers_from_one_begins_another_take(
    client: FlaskClient, cart: int
) -> None:
    """801 blocks, each answered as kept: each is kept."""
    first = listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    for i in range(1, 6):
        assert post(client, address, seq=i, t=i / 10, v=float(i)).json["kept"] == i
    for i in range(1, 4):
        assert post(client, address, seq=i, t=i / 10, v=-float(i)).json["kept"] == i
    seen = came(client, cart, first)
    assert seen["take"] != first
    assert seen["values"] == [-1.0, -2.0, -3.0]
    # Another number that is taken, with other samples, is never answered as kept.
    lost = post(client, address, seq=2, t=9.0, v=9.0)
    assert lost.status_code == 422
    assert "is not kept" in lost.json["what"]
    assert came(client, cart, seen["take"])["values"] == [-1.0, -2.0, -3.0]


def test_blocks_out_of_their_order_are_handed_on_as_they_come(client: FlaskClient, cart: int) -> None:
    take = listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    post(client, address, seq=1, t=0.1, v=1.0)
    post(client, address, seq=5, t=0.5, v=5.0)
    seen = came(client, cart, take)
    assert seen["values"] == [1.0, 5.0]
    assert post(client, address, seq=3, t=0.3, v=3.0).json["kept"] == 3
    assert came(client, cart, take, seen["last"])["values"] == [3.0]


def test_a_sensor_without_numbers_that_starts_again_begins_another_take(client: FlaskClient, cart: int) -> None:
    take = listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    for t in (0.0, 1.0, 2.0, 3.0):
        post(client, address, t=t, v=t)
    assert post(client, address, t=0.0, v=7.0).json["kept"] == 1
    seen = came(client, cart, take)
    assert (seen["times"], seen["values"]) == ([0.0], [7.0])


def test_two_sensors_in_one_run_are_not_mixed(client: FlaskClient, cart: int) -> None:
    take = listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    assert post(client, address, source="one", seq=1, t=0.0, v=1.0).json["kept"] == 1
    other = post(client, address, source="two", seq=1, t=0.0, v=2.0)
    assert other.status_code == 422
    assert "another sensor" in other.json["what"]
    assert post(client, address, source="one", seq=2, t=0.1, v=1.5).json["kept"] == 2
    assert came(client, cart, take)["values"] == [1.0, 1.5]


def test_samples_come_in_the_unit_they_say_or_not_at_all(client: FlaskClient, cart: int) -> None:
    take = listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    assert post(client, address, t=0.0, v=120.0, unit="cm/s").json["kept"] == 1
    assert came(client, cart, take)["values"] == [pytest.approx(1.2)]
    for body in ({"unit": "kg"}, {"unit": "furlongs of nothing"}, {"units": "m/s"}, {"unit": 3}):
        assert post(client, address, t=0.1, v=1.0, **body).status_code == 422
    assert came(client, cart, take)["values"] == [pytest.approx(1.2)]


def test_strange_requests(client: FlaskClient, cart: int) -> None:
    assert client.post("/live/nobody", json={"t": 0, "v": 0}).status_code == 404
    assert client.get(f"/runs/{cart}/traces/{PLACE}/live.json?take=x").status_code == 404
    assert client.get("/runs/99999/live.json").status_code == 404
    refused = client.post(
        f"/runs/{cart}/traces/force.m_h.1/live", json={"listen": True}, headers={"X-CSRFToken": token(client)}
    )
    assert refused.status_code == 404
    unclear = client.post(f"/runs/{cart}/traces/{PLACE}/live", json={}, headers={"X-CSRFToken": token(client)})
    assert unclear.status_code == 422
    listen(client, cart)
    address = client.get(f"/runs/{cart}/live.json").json["send_to"]
    said = client.post(address, json={"t": 0, "v": "fast"})
    assert (said.status_code, said.json["place"]) == (422, "v")
    assert "Listen for a sensor" in text(client, f"/runs/{cart}/traces/{PLACE}/part")
