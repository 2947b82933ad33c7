from flask.testing import FlaskClient


def test_every_component_stands_on_one_page(client: FlaskClient) -> None:
    page = client.get("/patterns").text
    for mark in (
        "note danger",
        "note suspect",
        "note good",
        "sign suspect",
        "sign out",
        "sign odd",
        "btn-do",
        "verdict wide",
        "numberline",
        "pt suspect",
    ):
        assert mark in page


def test_the_twin_names_every_state(client: FlaskClient) -> None:
    twin = client.get("/patterns.json").json
    assert {s["state"] for s in twin["stages"]} == {"done", "begun", "waiting"}
    assert {n["tone"] for n in twin["notes"]} == {"danger", "suspect", "caution", "good", "own"}
