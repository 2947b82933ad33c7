"""Saving: a page sends what was typed, and gets back, after the commit, everything that follows from it.

What was typed is committed first. Working out what follows can fail, and then says so on the page; it never takes a reading back.
"""

import json
import logging
from collections.abc import Mapping
from datetime import datetime, timedelta, timezone
from typing import Any
from uuid import UUID

from flask import Blueprint, Response, abort, current_app, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from cavrel.core.definition import Definition, choose
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import EntryError, check_entry
from cavrel.service.opened import Opened, definition_of, open_in
from cavrel.store import entries as entry_store
from cavrel.store import runs as run_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import transaction
from cavrel.web import judge, logbook, measure, straighten, traces
from cavrel.web.shared import pool

pages = Blueprint("entries", __name__)
log = logging.getLogger("cavrel")

MOST = 500
"""Entries in one send; a page that was offline longer sends in turns."""
_REDRAWN = ("rows", "trials", "option", "undo", "leave-out", "take-back")
_EARLIEST = datetime(2000, 1, 1, tzinfo=timezone.utc)
_AHEAD = timedelta(days=366 * 50)


@pages.post("/runs/<int:run>/entries")
def save(run: int) -> ResponseReturnValue:
    """Append entries; answers after the commit.

    Body: ``{"page": "measure", "fit": "line", "since": newest entry the page shows, "store": identity of the database it was drawn from,
    "entries": [{"key": uuid, "kind", "slot", "body", "author", "made_at"}]}``. The answer: ``keys`` that are saved, ``refused`` with what is
    wrong with each, ``entries`` (slot: number), ``last`` the newest entry, ``at``, ``html`` with the page's fragments.
    """
    sent = _sent()
    if sent is None:
        return _refused(f"the body must be an object with a list 'entries' of at most {MOST}")
    if sent.get("store") not in (None, current_app.config["STORE"]):
        what = "These entries were made for another database than the one that answers here. They stay in this browser."
        return jsonify(error="Another database", what=what), 409
    with transaction(pool()) as connection:
        record = run_store.get(connection, run)
        if record is None:
            abort(404)
        definition = definition_of(connection, record.hash)
        chosen = entry_store.conventions(connection, run)
        new: list[NewEntry] = []
        refused: dict[str, str] = {}
        for body in sent["entries"]:
            try:
                entry = _entry(body, record.bench)
                check_entry(_under(definition, chosen), entry.kind, entry.slot, entry.body)
                if entry.kind == "option":  # what was typed after it was typed under it
                    chosen[entry.slot.removeprefix("option:")] = str(entry.body.get("choice", ""))
                new.append(entry)
            except CavrelError as fault:
                refused[str(body.get("key", ""))[:80] if isinstance(body, Mapping) else ""] = str(fault)
        stand, not_kept = entry_store.append_each(connection, run, new)
    refused |= {str(key): what for key, what in not_kept.items()}
    said = {
        "keys": [str(e.client_key) for e in new if str(e.client_key) not in refused],
        "refused": refused,
        "entries": {e.slot: e.id for e in stand},
        "at": datetime.now(timezone.utc).isoformat(),
    }
    since = sent.get("since")
    own = {e.id for e in stand}
    whole = any(e.kind in _REDRAWN for e in new) or any(e.kind == "correction" and e.body.get("reason") for e in stand)
    return jsonify(
        said | _followed(run, str(sent.get("page", "")), _number(since), own, whole or bool(sent.get("whole")))
    )


def _under(definition: Definition, chosen: Mapping[str, str]) -> Definition:
    """The definition under the conventions chosen, as far as they can be used."""
    if not definition.options:
        return definition
    try:
        return choose(definition, chosen)
    except CavrelError:
        return definition


@pages.get("/runs/<int:run>/news")
def news(run: int) -> ResponseReturnValue:
    """What other pages saved since the entry ``since``: ``last`` alone where there is nothing new, else the page's fragments too."""
    since = _number(request.args.get("since"))
    with transaction(pool()) as connection:
        last = entry_store.newest(connection, run)
        if not last and run_store.get(connection, run) is None:
            abort(404)
    at = datetime.now(timezone.utc).isoformat()
    if since is not None and last <= since:
        return jsonify(last=last, at=at, store=current_app.config["STORE"])
    more = _followed(run, request.args.get("page", ""), since, set(), True)
    return jsonify(at=at, store=current_app.config["STORE"], **more)


def _number(value: Any) -> int | None:
    try:
        return int(value)
    except (TypeError, ValueError):
        return None


def _followed(run: int, page: str, since: int | None, own: set[int], whole: bool) -> dict[str, Any]:
    """What follows from the entries as they stand: never an exception, for they are committed."""
    try:
        with transaction(pool()) as connection:
            opened = open_in(connection, run)
        if opened is None:
            return {}
        newest = opened.entries[-1].id if opened.entries else 0
        others = [e for e in opened.entries if since is not None and e.id > since and e.id not in own]
        slots = {e.slot: e.id for e in others}
        html = _fragments(opened, page, whole or bool(others))
        return {"last": newest, "laps": measure.laps_to_count(opened), "html": html, "others": slots}
    except Exception:
        log.exception("what follows from the entries of run %s cannot be worked out", run)
        what = "Your entries are saved. What follows from them cannot be worked out just now; load the page again."
        return {"html": render_template("parts/unworked.html", what=what), "others": {}}


def _sent() -> Mapping[str, Any] | None:
    try:
        sent = request.get_json(silent=True)
    except RecursionError:
        return None
    if not isinstance(sent, Mapping) or not isinstance(sent.get("entries"), list) or len(sent["entries"]) > MOST:
        return None
    return sent


def _refused(what: str) -> ResponseReturnValue:
    return Response(json.dumps({"error": "Not understood", "what": what}), 422, mimetype="application/json")


def _entry(body: Any, bench: str) -> NewEntry:
    """An entry from what a page sent. Raises EntryError."""
    if not isinstance(body, Mapping):
        raise EntryError("", "an entry is an object")
    for field in ("key", "kind", "slot", "made_at"):
        if not isinstance(body.get(field), str) or len(body[field]) > 160 or not _keepable(body[field]):
            raise EntryError(field, "must be a short text")
    try:
        key = UUID(body["key"])
    except ValueError as fault:
        raise EntryError("key", "cannot be read") from fault
    content = body.get("body")
    most = 1_900_000 if body["kind"] == "trace" else 60_000
    if not isinstance(content, Mapping):
        raise EntryError("body", "must be an object")
    try:
        written = json.dumps(content, allow_nan=False, ensure_ascii=False)
    except (ValueError, RecursionError) as fault:
        raise EntryError("body", "holds what is no number, or stands too deep") from fault
    if len(written) > most or not _keepable(written.replace("\\u0000", "\x00")):
        raise EntryError("body", f"must be at most {most} characters of plain text")
    author = body.get("author")
    named = isinstance(author, str) and author.strip() and _keepable(author)
    return NewEntry(body["kind"], body["slot"], dict(content), str(author)[:80] if named else bench, _moment(body), key)


def _keepable(text: str) -> bool:
    """Whether the database can keep a text: no zero character, no half of a surrogate pair."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return "\x00" not in text


def _moment(body: Mapping[str, Any]) -> datetime:
    """When an entry was written by its page's clock; a clock that is years off is not believed. Raises EntryError."""
    try:
        made_at = datetime.fromisoformat(body["made_at"].replace("Z", "+00:00"))
    except ValueError as fault:
        raise EntryError("made_at", "cannot be read") from fault
    now = datetime.now(timezone.utc)
    made_at = made_at if made_at.tzinfo is not None else made_at.replace(tzinfo=timezone.utc)
    return made_at if _EARLIEST < made_at < now + _AHEAD else now


def _fragments(opened: Opened, page: str, whole: bool) -> str:
    match page:
        case "measure":
            return measure.follow(opened, whole)
        case "judge":
            return judge.follow(opened)
        case "logbook":
            return logbook.follow(opened)
    if page.startswith("straighten"):
        return straighten.follow(opened, page.partition(":")[2])
    if page.startswith("trace:"):
        return traces.follow(opened, page.removeprefix("trace:"))
    return ""
