"""A run is renamed, moved, archived and taken back; the list is searched; a second run of the same is asked about."""

from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from tests.web.http import entry, save, start, text, token


def change(client: FlaskClient, run: int, **form: str) -> None:
    answer = client.post(f"/runs/{run}/own", data={**form, "csrf_token": token(client)})
    assert answer.status_code == 303


def listed(client: FlaskClient, query: str = "") -> dict[int, dict]:
    return {r["id"]: r for r in client.get(f"/runs.json{query}").json["runs"]}


@pytest.fixture
def run(client: FlaskClient) -> int:
    return start(client, "spring", "Wick", "A run to be moved")


def test_renaming_and_moving_are_entries_that_can_be_undone(client: FlaskClient, run: int) -> None:
    change(client, run, title="Spring of the lens cradle", bench="Prism")
    assert listed(client)[run]["title"] == "Spring of the lens cradle"
    assert listed(client)[run]["bench"] == "Prism"
    assert "Spring of the lens cradle" in text(client, f"/runs/{run}/measure")
    assert "renamed to “Spring of the lens cradle”" in text(client, f"/runs/{run}/logbook")
    save(client, run, entry("undo", "run:title"))
    assert listed(client)[run]["title"] == "A run to be moved"


def test_a_run_put_away_is_kept_and_comes_back(client: FlaskClient, run: int) -> None:
    save(client, run, entry("reading", "loads.n.1.1", text="2"))
    change(client, run, away="yes")
    assert run not in listed(client)
    assert run in listed(client, "?away=yes")
    assert client.get(f"/runs/{run}/measure").status_code == 200
    change(client, run, away="no")
    assert run in listed(client)


@pytest.mark.parametrize("form", [{"title": "x" * 121}, {"bench": "Nobody's"}, {"away": "perhaps"}, {}])
def test_a_change_that_is_none_changes_nothing(client: FlaskClient, run: int, form: dict[str, str]) -> None:
    before = listed(client)[run]
    answer = client.post(f"/runs/{run}/own", data={**form, "csrf_token": token(client)})
    assert answer.status_code in (303, 422)
    assert listed(client)[run] == before


def test_the_list_is_searched_and_filtered(client: FlaskClient, run: int) -> None:
    assert run in listed(client, "?q=be+moved")
    assert run not in listed(client, "?q=nothing+like+it")
    assert {r["bench"] for r in listed(client, "?bench=Lantern").values()} == {"Lantern"}
    for query in ("?page=0", "?page=²", "?page=99999", "?q=%00", "?bench=%F0%9F%94%94"):
        assert client.get(f"/runs{query}").status_code == 200


def test_a_second_run_of_the_same_is_asked_about(client: FlaskClient, run: int) -> None:
    page = client.get("/experiments/spring").text
    bench = page.split('">Wick')[0].rsplit('value="', 1)[1]
    form = {"bench": bench, "title": "Again", "key": str(uuid4()), "csrf_token": token(client)}
    asked = client.post("/experiments/spring/runs", data=form)
    assert asked.status_code == 422
    assert "This bench already has a run of this experiment" in asked.text
    made = client.post("/experiments/spring/runs", data={**form, "another": "yes"})
    assert made.status_code == 303
    # Sent again, it is that run and no question.
    assert client.post("/experiments/spring/runs", data=form).location == made.location
