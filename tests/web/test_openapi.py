"""The description of the interface: good by an independent validator, whole, and true of what is served."""

import re
from typing import Any

import pytest
from flask.testing import FlaskClient
from openapi_spec_validator import validate

from tests.web.http import token

VALUES = {
    "run": "1",
    "version": "1",
    "lesson": "1",
    "number": "1",
    "name": "pendulum",
    "place": "swings.t.1",
    "kind": "xlsx",
}
WITHOUT = {
    "/runs/{run}/behind.json",
    "/runs/{run}/bench.json",
    "/live/{run}",
    "/runs/{run}/traces/{place}.json",
    "/runs/{run}/traces/{place}/live.json",
    "/write/{name}.json",
}
"""Paths of what the demonstration's first run does not have."""


@pytest.fixture(scope="module")
def described(client: FlaskClient) -> dict[str, Any]:
    return client.get("/openapi.json").json


def test_it_is_good(described: dict[str, Any]) -> None:
    validate(described)


def test_it_is_whole(client: FlaskClient, described: dict[str, Any]) -> None:
    rules = {re.sub(r"<(?:[^<>:]+:)?([a-z_]+)>", r"{\1}", r.rule) for r in client.application.url_map.iter_rules()}
    assert set(described["paths"]) == rules
    said = [o["summary"] for path in described["paths"].values() for o in path.values()]
    assert all(said)
    names = [o["operationId"] for path in described["paths"].values() for o in path.values()]
    assert len(set(names)) == len(names)


def test_every_json_path_answers_as_described(client: FlaskClient, described: dict[str, Any]) -> None:
    asked = 0
    page = client.get("/runs/1/report").text
    last = re.search(r'id="sign-last"[^>]*value="(\d+)"', page)
    assert last
    form = {"csrf_token": token(client), "key": "0d7a4f0e-9d2b-4c5a-8f43-7b1f2c9a1e55", "last": last[1]}
    client.post("/runs/1/report/sign", data=form)
    for path, operations in described["paths"].items():
        if "get" not in operations or path in WITHOUT:
            continue
        content = operations["get"]["responses"]["200"]["content"]
        if "application/json" not in content:
            continue
        filled = re.sub(r"\{(\w+)\}", lambda found: VALUES[found[1]], path)
        answer = client.get(filled)
        assert answer.status_code == 200, filled
        assert answer.is_json, filled
        assert isinstance(answer.json, dict | list), filled
        asked += 1
    assert asked >= 15


def test_what_is_not_there_answers_as_described(client: FlaskClient, described: dict[str, Any]) -> None:
    for path, operations in described["paths"].items():
        if "{run}" not in path or "get" not in operations or not path.endswith(".json"):
            continue
        filled = re.sub(r"\{(\w+)\}", lambda found: {**VALUES, "run": "99999"}[found[1]], path)
        answer = client.get(filled)
        assert answer.status_code == 404, filled
        assert set(answer.json) >= {"error", "what"}, filled
        assert "404" in operations["get"]["responses"]


def test_every_page_has_its_data_beside_it(described: dict[str, Any]) -> None:
    """A stage or list at an address has its twin at the same with ``.json``."""
    pages = [
        "/shelf", "/runs", "/cupboard", "/lessons", "/course", "/patterns", "/experiments/{name}", "/runs/{run}/plan", "/runs/{run}/measure",
        "/runs/{run}/straighten", "/runs/{run}/judge", "/runs/{run}/report", "/runs/{run}/logbook", "/runs/{run}/export", "/runs/{run}/import",
        "/runs/{run}/report/{version}",
        "/runs/{run}/report/{version}/mark",
    ]  # fmt: skip
    assert [p for p in pages if f"{p}.json" not in described["paths"]] == []
