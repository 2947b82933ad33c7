"""PDFs: two are set at once, the others wait in a line that says how far it is; the same one is set once and kept by its hash."""

import hashlib
import json
import time
from collections.abc import Mapping, Sequence
from typing import Any

from flask import Blueprint, Response, abort, render_template, request
from flask.typing import ResponseReturnValue

from cavrel import __version__, bounded
from cavrel.core.errors import CavrelError
from cavrel.store import papers as store
from cavrel.store.papers import Paper
from cavrel.store.pool import transaction
from cavrel.web import setting
from cavrel.web.shared import pool

pages = Blueprint("papers", __name__)

PATIENCE = 60.0
"""Seconds that a program waits for its PDF; a browser is shown how far it is instead."""
_OURS = "default-src 'none'; frame-ancestors 'self'"
"""A page of our own shows it within itself."""


def answer(wish: Mapping[str, Any], made_of: Sequence[Any], file: str) -> ResponseReturnValue:
    """A PDF, or the page that waits for it. ``wish``: the number of the ``run``, the ``version``, the ``form`` and the ``size``; ``made_of``: all
    that it rests on, so that what is kept is found again and what is old is not."""
    digest = hashlib.sha256(json.dumps([__version__, *made_of], sort_keys=True).encode()).hexdigest()
    with transaction(pool()) as connection:
        store.ask(connection, digest, wish, file)
    return _now(digest)


@pages.get("/papers/<digest>")
def page(digest: str) -> ResponseReturnValue:
    """A PDF that somebody waits for, by its hash: itself, or how far it is."""
    return _now(digest)


def _now(digest: str) -> ResponseReturnValue:
    end = time.monotonic() + PATIENCE
    while True:
        found = _made(digest)
        if found is None:
            abort(404)
        if found.fault:
            abort(422, f"It cannot be set: {found.fault}.")
        if found.body is not None:
            return _file(found)
        if "text/html" in request.headers.get("Accept", ""):
            waiting = Response(render_template("papers/waiting.html", p=found, at_once=store.AT_ONCE), 202)
            waiting.headers["Content-Security-Policy"] = "default-src 'self'; frame-ancestors 'self'"
            return waiting
        if time.monotonic() > end:
            said = Response("Too many others are being set; ask again in a moment.", 503, mimetype="text/plain")
            said.headers["Retry-After"] = "10"
            return said
        time.sleep(0.3)


def _made(digest: str) -> Paper | None:
    """How a PDF stands; it is set here and now where it is its turn."""
    with transaction(pool()) as connection:
        found = store.look(connection, digest)
    if found is None or found.body is not None or found.fault or found.before >= store.AT_ONCE:
        return found
    with transaction(pool()) as held:
        source = store.mine(held, digest)
        if source is not None:
            try:
                store.keep(held, digest, setting.paper(str(pool().conninfo), source))
            except CavrelError as fault:
                if not isinstance(fault, bounded.Over) or fault.surely:
                    store.keep(held, digest, None, fault.what)
    with transaction(pool()) as connection:
        return store.look(connection, digest)


def _file(found: Paper) -> Response:
    made = Response(found.body, mimetype="application/pdf")
    made.headers["Content-Security-Policy"] = _OURS
    made.headers["Content-Disposition"] = f'inline; filename="{found.file}"'
    return made
