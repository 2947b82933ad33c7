"""Saving: a page sends what was typed, and gets back, after the commit, everything that follows from it."""

import json
import logging
from collections.abc import Iterator, Mapping
from datetime import datetime, timezone
from typing import Any

from flask import Blueprint, Response, abort, current_app, jsonify, render_template, request, stream_with_context
from flask.typing import ResponseReturnValue

from cavrel.present import decimals
from cavrel.present import measure as measured
from cavrel.present.summary import summary
from cavrel.service import recompute_lock, saving, summaries
from cavrel.service.opening import Loaded, follow, load
from cavrel.service.run_view import RunView
from cavrel.store import entries as entry_store
from cavrel.store import runs as run_store
from cavrel.store.pool import transaction
from cavrel.web.shared import Following, pool

pages = Blueprint("entries", __name__)
log = logging.getLogger("cavrel")

_LINES = "application/x-ndjson"
_REDRAWN = ("late", "zero", "rows", "trials", "option", "undo", "leave-out", "take-back", "order")


@pages.post("/runs/<int:run>/entries")
def save(run: int) -> ResponseReturnValue:
    """Append entries; answers after the commit.

    Body: ``{"page": "measure", "since": newest entry the page shows, "view": a name of this page while it is open, "store": identity of the
    database it was drawn from, "now": the moment of sending by the page's clock, "entries": [{"key": uuid, "kind", "slot", "body", "author",
    "made_at"}]}``. The answer: ``keys`` that are saved, ``refused`` with what is wrong with each, ``entries`` (slot: number), ``at``; then
    ``last`` the newest entry, ``others`` that came meanwhile, ``html`` with the page's fragments. Who accepts ``application/x-ndjson`` gets these
    as two lines, the first as soon as the entries are committed; of several sends of one view that wait for their second line, only the newest
    gets more than ``{}``.
    """
    sent = _sent()
    if sent is None:
        return _refused(f"the body must be an object with a list 'entries' of at most {saving.MOST}")
    if sent.get("store") not in (None, current_app.config["STORE"]):
        what = "These entries belong to another database than the one that answers here. They stay in this browser."
        return jsonify(error="Another database", what=what), 409
    saved = saving.save(pool(), run, sent["entries"], sent.get("now"))
    if saved is None:
        abort(404)
    said = {
        "keys": saved.keys,
        "refused": saved.refused,
        "entries": {e.slot: e.id for e in saved.stand},
        "at": datetime.now(timezone.utc).isoformat(),
    }
    since = _number(sent.get("since"))
    own = {e.id for e in saved.stand}
    whole = any(e.kind in _REDRAWN for e in saved.stand)
    whole = whole or any(e.kind == "correction" and e.body.get("reason") for e in saved.stand)
    page, view = str(sent.get("page", "")), str(sent.get("view", ""))[:80]
    turn = recompute_lock.Turn(run, view)

    def followed() -> tuple[dict[str, Any], RunView | None]:
        with turn as mine:
            if not mine:
                return {}, None
            return _followed(saved.loaded, page, since, own, whole or bool(sent.get("whole")))

    def keep(opened: RunView | None) -> None:
        if own and opened is not None:
            summaries.keep(pool(), opened, summary)

    if _LINES not in request.headers.get("Accept", ""):
        more, opened = followed()
        keep(opened)
        return jsonify(said | more)

    def lines() -> Iterator[str]:
        yield json.dumps(said) + "\n"
        more, opened = followed()
        yield json.dumps(more) + "\n"
        # What the list of runs shows can wait for what this page shows; where it is not kept, the list makes it.
        with recompute_lock.alone():
            keep(opened)

    answer = Response(stream_with_context(lines()), mimetype=_LINES)
    answer.call_on_close(turn.end)
    # A proxy is not to wait for the second line before it hands on the first.
    answer.headers["X-Accel-Buffering"] = "no"
    return answer


@pages.get("/runs/<int:run>/news")
def news(run: int) -> ResponseReturnValue:
    """What other pages saved since the entry ``since``: ``last`` alone where there is nothing new, else the page's fragments too."""
    since = _number(request.args.get("since"))
    at, store = datetime.now(timezone.utc).isoformat(), current_app.config["STORE"]
    with transaction(pool()) as connection:
        last = entry_store.newest(connection, run)
        if not last and run_store.get(connection, run) is None:
            abort(404)
        if since is not None and last <= since:
            return jsonify(last=last, at=at, store=store)
        loaded = load(connection, run)
    if loaded is None:
        abort(404)
    more, _ = _followed(loaded, request.args.get("page", ""), since, set(), True)
    return jsonify(at=at, store=store, **more)


def _number(value: Any) -> int | None:
    try:
        return int(value)
    except (TypeError, ValueError):
        return None


def _followed(
    loaded: Loaded, page: str, since: int | None, own: set[int], whole: bool
) -> tuple[dict[str, Any], RunView | None]:
    """What follows from the entries as they stand, and the run as it stands, None where it could not be computed: never an exception, for
    they are committed."""
    try:
        opened = follow(loaded)
        newest = opened.entries[-1].id if opened.entries else 0
        others = [e for e in opened.entries if e.id > since and e.id not in own] if since is not None else []
        slots = {e.slot: e.id for e in others}
        known = loaded.known.opened if loaded.known is not None and loaded.known.last == since else None
        html = _fragments(opened, page, whole or bool(others), known)
        return {"last": newest, "laps": measured.laps_to_count(opened), "html": html, "others": slots}, opened
    except Exception:
        log.exception("the results of run %s cannot be computed", loaded.run.id)
        what = "Your entries are saved. The results could not be computed; load the page again."
        return {"html": render_template("parts/not_computed.html", what=what), "others": {}}, None


def _sent() -> Mapping[str, Any] | None:
    try:
        sent = request.get_json(silent=True)
    except RecursionError:
        return None
    if not isinstance(sent, Mapping) or not isinstance(sent.get("entries"), list) or len(sent["entries"]) > saving.MOST:
        return None
    return sent


def _refused(what: str) -> ResponseReturnValue:
    return Response(json.dumps({"error": "Not understood", "what": what}), 422, mimetype="application/json")


def _fragments(opened: RunView, page: str, whole: bool, before: RunView | None) -> str:
    """What changed on a page, named as ``fit:line``; ``before``: what it shows, where this process remembers that."""
    name, _, detail = page.partition(":")
    shown = current_app.extensions["cavrel_pages"].get(name)
    if shown is None:
        return ""
    decimals.write_with(opened.analysis.rules.decimal)
    return decimals.page(str(shown.follow(opened, Following(detail=detail, whole=whole, before=before))))
