"""How the tests drive the application over HTTP."""

import html
import re
from datetime import datetime, timezone
from typing import Any
from uuid import uuid4

from flask.testing import FlaskClient

from cavrel.store.pool import transaction


def text(client: FlaskClient, path: str) -> str:
    answer = client.get(path)
    assert answer.status_code == 200, path
    return html.unescape(re.sub(r"\s+", " ", re.sub(r"<[^>]+>", "", answer.text)))


def token(client: FlaskClient) -> str:
    return client.get("/token").json["token"]


def entry(kind: str, slot: str, **body: Any) -> dict[str, Any]:
    return {
        "key": str(uuid4()),
        "kind": kind,
        "slot": slot,
        "body": body,
        "made_at": datetime.now(timezone.utc).isoformat(),
    }


def save(client: FlaskClient, run: int, *entries: dict[str, Any], page: str = "measure"):
    return client.post(
        f"/runs/{run}/entries", json={"page": page, "entries": list(entries)}, headers={"X-CSRFToken": token(client)}
    )


def start(client: FlaskClient, experiment: str, bench: str, title: str, **options: str) -> int:
    """Start a run as the shelf's form does and return its number."""
    with transaction(client.application.extensions["cavrel_pool"]) as connection:
        number = connection.execute("select id from bench where name = %s", [bench]).fetchone()
    assert number
    form = {"bench": number["id"], "title": title, "key": str(uuid4()), "csrf_token": token(client), "another": "yes"}
    form |= {f"option-{name}": choice for name, choice in options.items()}
    answer = client.post(f"/experiments/{experiment}/runs", data=form)
    assert answer.status_code == 303
    found = re.search(r"/runs/(\d+)/", answer.location)
    assert found
    return int(found[1])
