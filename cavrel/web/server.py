"""This server: whether it can be worked with, and what an operator wants to know; in short at /health for a monitor."""

import logging
import os
import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, current_app, g, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from cavrel import __version__
from cavrel.store import health as store
from cavrel.store.pool import transaction
from cavrel.web.shared import pool

pages = Blueprint("server", __name__)
log = logging.getLogger("cavrel")

SLOW = 5.0
"""Seconds after which an answer is worth a line in the log."""
_LOOKED_EVERY = 5.0
_NEVER = -1e9


def look() -> dict[str, Any]:
    """How this server stands. Raises DatabaseAway."""
    with transaction(pool()) as connection:
        database = store.look(connection)
    folder = Path(os.environ.get("CAVREL_FOLDER") or "/")
    died: Callable[[], int] = current_app.extensions.get("cavrel_died", lambda: 0)
    last = database.backup
    faults = []
    if database.schema > store.newest():
        faults.append(NEWER)
    if not database.writable:
        faults.append("the database takes no writing")
    return {
        "ok": not faults,
        "faults": faults,
        "version": __version__,
        "schema": database.schema,
        "schema_known": store.newest(),
        "writable": database.writable,
        "disk_free": shutil.disk_usage(folder if folder.is_dir() else "/").free,
        "workers_died": died(),
        "backup": {
            "made_at": last.made_at.isoformat() if last.made_at else None,
            "tried_at": last.tried_at.isoformat() if last.tried_at else None,
            "fault": last.fault,
        },
    }


NEWER = "the database was brought up to date by a newer Cavrel than this process; it must be stopped and the newer one started"


@pages.get("/health")
def health() -> ResponseReturnValue:
    """Whether this server can be worked with: 200 if it can, 503 if it cannot."""
    found = look()
    return jsonify(found), 200 if found["ok"] else 503


@pages.get("/server")
def page() -> ResponseReturnValue:
    with transaction(pool()) as connection:
        last = store.look(connection).backup
    return render_template("server.html", s=look(), last=last)


@pages.get("/server.json")
def as_json() -> ResponseReturnValue:
    """The same as data, whether well or not."""
    return jsonify(look())


def old() -> bool:
    """Whether the database is newer than this process, as it was seen some seconds ago."""
    state = current_app.extensions.setdefault("cavrel_schema", {"at": _NEVER, "old": False})
    if time.monotonic() - state["at"] > _LOOKED_EVERY:
        with transaction(pool()) as connection:
            state["old"] = store.schema(connection) > store.newest()
        state["at"] = time.monotonic()
    return bool(state["old"])


def begin() -> None:
    """Before each request: remember when it began."""
    g.began = time.monotonic()


def end(answer: Response) -> Response:
    """After each request: one that took long is logged."""
    took = time.monotonic() - g.get("began", time.monotonic())
    if took > SLOW:
        log.warning("%s %s took %.1f s", request.method, request.path, took)
    return answer
