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
    "/runs/{run}/instructor.json",
    "/runs/{run}/bench.json",
    "/live/{run}",
    "/runs/{run}/traces/{place}.json",
    "/runs/{run}/traces/{place}/all.json",
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
    named = {rule for rule in rules if rule.startswith("/courses/{course}")}
    assert set(described["paths"]) == rules - named
    assert {rule.removeprefix("/courses/{course}") for rule in named} < rules
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
    asked_first = client.post("/runs/1/report/sign", data={**form, "author": "Lantern"}).text
    knowing = re.search(r'name="knowing" value="(\w+)"', asked_first)
    client.post("/runs/1/report/sign", data={**form, "author": "Lantern", "knowing": knowing[1] if knowing else ""})
    for path, operations in described["paths"].items():
        if "get" not in operations or path in WITHOUT:
            continue
        content = operations["get"]["responses"]["200"]["content"]
        if "application/json" not in content:
            continue
        own = {"name": "bench"} if path.startswith("/help/") else {}
        filled = re.sub(r"\{(\w+)\}", lambda found, own=own: {**VALUES, **own}[found[1]], path)
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


PARTS = {
    "/": "/experiments.json",
    "/courses/new": "an empty form",
    "/help": "/help/tour.json",
    "/laboratory/rules": "a fragment",
    "/course/work/{number}": "a fragment",
    "/runs/{run}/traces/{place}/part": "a fragment",
    "/runs/{run}/report/pages": "the PDF in a frame",
    "/write": "an empty editor",
    "/papers/{digest}": "the PDF, or how far it is",
    "/runs/{run}/plan/again": "a fragment",
    "/runs/{run}/plan/asked": "a fragment",
    "/runs/{run}/plan/house": "a fragment",
}
"""Pages without data of their own at their address, and why, or where it stands."""


def test_every_page_has_its_data_beside_it(described: dict[str, Any]) -> None:
    """Each page at an address has its twin at the same with ``.json``."""
    lacking = []
    for path, operations in described["paths"].items():
        content = operations.get("get", {}).get("responses", {}).get("200", {}).get("content", {})
        if "text/html" in content and f"{path}.json" not in described["paths"]:
            lacking.append(path)
    assert set(lacking) <= set(PARTS) | set(FILES), sorted(set(lacking) - set(PARTS) - set(FILES))


FILES = {
    "/sw.js",
    "/static/{version}/{name}",
    "/runs/{run}/workbook.{kind}",
    "/course/work/{number}/file",
    "/help/pictures/{name}",
}
"""What is a file rather than a page."""
