"""How the tests drive the application over HTTP."""

import html
import json
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


def start(
    client: FlaskClient, experiment: str, bench: str, title: str, *, suggested: bool = True, **options: str
) -> int:
    """Start a run as the form does and return its number. ``suggested``: take the values that the experiment suggests, as one press does."""
    with transaction(client.application.extensions["cavrel_pool"]) as connection:
        number = connection.execute("select id from bench where name = %s", [bench]).fetchone()
    assert number
    form = {"bench": number["id"], "title": title, "key": str(uuid4()), "csrf_token": token(client), "another": "yes"}
    form |= {f"option-{name}": choice for name, choice in options.items()}
    answer = client.post(f"/experiments/{experiment}/runs", data=form)
    assert answer.status_code == 303
    found = re.search(r"/runs/(\d+)/", answer.location)
    assert found
    run = int(found[1])
    taken = taken_suggestions(client.get(f"/runs/{run}/measure").text) if suggested else {}
    if taken:
        made = [entry("reading", slot, text=value) for slot, value in taken.items()]
        assert save(client, run, *made).json["refused"] == {}
    return run


def taken_suggestions(page: str) -> dict[str, str]:
    """What pressing "Use these values" on a page would write, by slot."""
    held = re.search(r'data-act="take-suggested"[^>]*data-seen="([^"]*)"', page)
    return json.loads(html.unescape(held[1])) if held else {}
