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
