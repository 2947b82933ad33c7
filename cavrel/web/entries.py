"""Saving: a page sends what was typed, and gets back everything that follows from it in the same answer."""

import json
from collections.abc import Mapping
from datetime import datetime, timezone
from typing import Any
from uuid import UUID

from flask import Blueprint, Response, abort, request
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.core.logbook import EntryError, check_entry
from cavrel.store import entries as entry_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import transaction
from cavrel.web import judge, logbook, measure, straighten, traces
from cavrel.web.opened import Opened, open_in
from cavrel.web.shared import pool

pages = Blueprint("entries", __name__)

MOST = 500
"""Entries in one send; a page that was offline longer sends in turns."""
_REDRAWN = ("rows", "trials", "option", "undo", "leave-out", "take-back")


@pages.post("/runs/<int:run>/entries")
def save(run: int) -> ResponseReturnValue:
    """Append entries; answers after the commit with the fragments of the page named in ``page``.

    Body: ``{"page": "measure", "entries": [{"key": uuid, "kind", "slot", "body", "author", "made_at"}]}``. One that cannot be
    taken is named in the answer's header with what is wrong; the others are saved.
    """
    sent = request.get_json(silent=True)
    if not isinstance(sent, Mapping) or not isinstance(sent.get("entries"), list) or len(sent["entries"]) > MOST:
        return _refused(f"the body must be an object with a list 'entries' of at most {MOST}")
    with transaction(pool()) as connection:
        before = open_in(connection, run)
        if before is None:
            abort(404)
        new: list[NewEntry] = []
        refused: dict[str, str] = {}
        for body in sent["entries"]:
            try:
                entry = _entry(body, before.run.bench)
                check_entry(before.definition, entry.kind, entry.slot, entry.body)
                new.append(entry)
            except CavrelError as fault:
                refused[str(body.get("key", "")) if isinstance(body, Mapping) else ""] = str(fault)
        stand = entry_store.append(connection, run, new)
        opened = open_in(connection, run)
    assert opened is not None
    whole = any(e.kind in _REDRAWN for e in new) or any(e.kind == "correction" and e.body.get("reason") for e in stand)
    whole = whole or bool(sent.get("whole"))
    response = Response(_fragments(opened, str(sent.get("page", "")), whole), mimetype="text/html")
    said = {
        "keys": [str(e.client_key) for e in new],
        "refused": refused,
        "entries": {e.slot: e.id for e in stand},
        "at": datetime.now(timezone.utc).isoformat(),
        "laps": measure.laps_to_count(opened),
    }
    response.headers["X-Cavrel-Saved"] = json.dumps(said)
    return response


def _refused(what: str) -> ResponseReturnValue:
    return Response(json.dumps({"error": "Not understood", "what": what}), 422, mimetype="application/json")


def _entry(body: Any, bench: str) -> NewEntry:
    """An entry from what a page sent. Raises EntryError."""
    if not isinstance(body, Mapping):
        raise EntryError("", "an entry is an object")
    for field in ("key", "kind", "slot", "made_at"):
        if not isinstance(body.get(field), str) or len(body[field]) > 160 or "\x00" in body[field]:
            raise EntryError(field, "must be a short text")
    try:
        key = UUID(body["key"])
        made_at = datetime.fromisoformat(body["made_at"].replace("Z", "+00:00"))
    except ValueError as fault:
        raise EntryError("key" if "UUID" in str(fault) else "made_at", "cannot be read") from fault
    if made_at.tzinfo is None:
        made_at = made_at.replace(tzinfo=timezone.utc)
    content = body.get("body")
    most = 1_900_000 if body["kind"] == "trace" else 60_000
    if not isinstance(content, Mapping) or len(json.dumps(content)) > most or "\\u0000" in json.dumps(content):
        raise EntryError("body", f"must be an object of at most {most} characters")
    author = body.get("author")
    return NewEntry(
        body["kind"],
        body["slot"],
        dict(content),
        author[:80] if isinstance(author, str) and author.strip() else bench,
        made_at,
        key,
    )


def _fragments(opened: Opened, page: str, whole: bool) -> str:
    match page:
        case "measure":
            return measure.follow(opened, whole)
        case "straighten":
            return straighten.follow(opened)
        case "judge":
            return judge.follow(opened)
        case "logbook":
            return logbook.follow(opened)
    if page.startswith("trace:"):
        return traces.follow(opened, page.removeprefix("trace:"))
    return ""
