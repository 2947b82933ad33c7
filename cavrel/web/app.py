"""The application: pages joined, errors answered, and nothing kept in the process."""

import json
import logging
from datetime import timedelta
from typing import Any

from flask import Flask, Response, jsonify, redirect, render_template, request, send_from_directory
from flask.typing import ResponseReturnValue
from flask_compress import Compress
from flask_wtf.csrf import CSRFError, CSRFProtect, generate_csrf
from werkzeug.exceptions import HTTPException

from cavrel.present import decimals
from cavrel.store import settings
from cavrel.store.pool import Busy, DatabaseAway, Pool, Unkeepable, transaction
from cavrel.web import access, addressed, assets, compiled, experiments, live, marks, pages, run_import, server
from cavrel.web.former import former_address

_POLICY = (
    "default-src 'self'; img-src 'self' data:; media-src 'self' blob:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; "
    "form-action 'self'"
)
log = logging.getLogger("cavrel")


def plain_app() -> Flask:
    """What sets pages from templates and nothing else: for reports that no request asks for."""
    app = Flask("cavrel.web", static_folder=None, template_folder=str(assets.STATIC.parent / "templates"))
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.bytecode_cache = compiled.templates()
    app.jinja_env.filters.update(marks.FILTERS)
    app.jinja_env.globals.update(marks.GLOBALS)
    return app


def create_app(pool: Pool, testing: bool = False) -> Flask:
    """The application over ``pool``, whose database is migrated already."""
    app = plain_app()
    with transaction(pool) as connection:
        secret, store = settings.secret_key(connection), settings.identity(connection)
    app.config.update(
        SECRET_KEY=secret,
        STORE=store,
        WTF_CSRF_TIME_LIMIT=None,
        SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_HTTPONLY=True,
        TESTING=testing,
        SESSION_COOKIE_NAME="cavrel",
        MAX_CONTENT_LENGTH=2 * 1024 * 1024,
        PERMANENT_SESSION_LIFETIME=timedelta(days=365),
        # The quickest at a good size: an answer to a save is packed in a fraction of what it took to compute.
        COMPRESS_ALGORITHM=["br", "gzip"],
        COMPRESS_BR_LEVEL=4,
        COMPRESS_LEVEL=5,
    )
    app.extensions["cavrel_pool"] = pool
    app.before_request(run_import.room)  # before anything reads the form
    protection = CSRFProtect(app)
    Compress(app)
    app.jinja_env.globals.update(static=assets.static, drawing=experiments.drawing)
    addressed.carry(app)
    for blueprint in pages.blueprints():
        app.register_blueprint(blueprint)
    protection.exempt(live.hear)  # a sensor has a token of its own, and no session
    app.extensions["cavrel_pages"] = pages.of_a_run()
    app.add_url_rule("/sw.js", view_func=service_worker)
    app.add_url_rule("/token", view_func=token)
    app.after_request(_guard)
    app.after_request(_decimal_mark)
    app.before_request(server.begin)
    app.after_request(server.end)
    app.before_request(access.guard)
    app.before_request(_not_by_an_old_one)
    app.session_interface = access.Sessions()
    app.register_error_handler(DatabaseAway, _database_away)
    app.register_error_handler(CSRFError, _stale_page)
    app.register_error_handler(HTTPException, _http_error)
    app.register_error_handler(Unkeepable, _not_kept)
    app.register_error_handler(Exception, _broken)
    return app


def service_worker() -> ResponseReturnValue:
    """The script that keeps pages readable while the server is away; it must be served from the root to reach all of them."""
    response = send_from_directory(assets.STATIC / "js", "sw.js", max_age=0)
    response.headers["Service-Worker-Allowed"] = "/"
    return response


def token() -> ResponseReturnValue:
    """A fresh token for a page whose own has gone stale, so that what it keeps can still be sent."""
    return jsonify(token=generate_csrf())


def _not_by_an_old_one() -> ResponseReturnValue | None:
    """A process that is older than its database writes nothing."""
    if request.method in ("GET", "HEAD", "OPTIONS") or not server.old():
        return None
    return _answer(
        503,
        "This server is older than its database",
        "A newer Cavrel has migrated the database. Nothing was saved; what you typed stays in this page and is sent once the newer "
        "one is started. Ask the operator of this server to stop it and start the newer one.",
    )


def _decimal_mark(response: Response) -> Response:
    if decimals.rule() != "point" and response.mimetype == "text/html" and not response.is_streamed:
        response.set_data(decimals.page(response.get_data(as_text=True)))
    return response


def _guard(response: Response) -> Response:
    response.headers.setdefault("Content-Security-Policy", _POLICY)
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    if response.mimetype in ("text/html", "application/json"):
        response.headers["Cache-Control"] = "no-cache"
    return response


def _wants_json() -> bool:
    return request.path.startswith("/live/") or request.path.endswith(
        (".json", "/entries", "/news", "/token", "/health", "/live", "/read")
    )


def _answer(status: int, title: str, what: str, **more: Any) -> ResponseReturnValue:
    if _wants_json():
        return Response(json.dumps({"error": title, "what": what, **more}), status, mimetype="application/json")
    return render_template(
        "error.html", title=title, what=what, again=status == 503 and request.method == "GET"
    ), status


def _database_away(fault: DatabaseAway) -> ResponseReturnValue:
    if isinstance(fault, Busy):
        log.warning("waited too long at %s: %s", request.path, fault)
        say = "Somebody else is changing the same thing. Nothing was saved; try again in a moment."
        return _answer(503, "This is being changed elsewhere", say)
    log.warning("database away: %s", fault)
    return _answer(
        503,
        "The database does not answer",
        "Nothing saved is lost. Readings typed now are saved on the device and sent when the database is back. "
        "Ask the operator of this server to check that PostgreSQL is running.",
    )


def _stale_page(fault: CSRFError) -> ResponseReturnValue:
    return _answer(400, "This page is out of date", "Load it again; what you typed is kept in it.", stale=True)


def _http_error(fault: HTTPException) -> ResponseReturnValue:
    code = fault.code or 500
    if code == 404:
        moved = former_address(request.full_path)
        if moved and request.method in ("GET", "HEAD"):
            return redirect(moved, 308)
        return _answer(
            404,
            "There is no such page",
            "The link may be mistyped, or the run belongs to another database. See Runs for the runs of this one.",
        )
    if code == 413:
        return _answer(
            413, "Too much at once", "A page sends at most two megabytes; a file that is imported has twenty at most."
        )
    return _answer(code, fault.name, str(fault.description))


def _not_kept(fault: Exception) -> ResponseReturnValue:
    """What the database itself refuses to hold, such as a character of number zero within a text."""
    log.warning("refused at %s: %s", request.path, str(fault)[:200])
    return _answer(422, "This cannot be saved", "It contains a character that no text can have. Nothing was saved.")


def _broken(fault: Exception) -> ResponseReturnValue:
    log.exception("unexpected fault at %s", request.path)
    try:
        if server.old():
            return _answer(503, "This server is older than its database", f"Nothing is lost: {server.NEWER}.")
    except DatabaseAway:
        pass
    return _answer(
        500,
        "Something went wrong",
        "That is our fault, not yours. What was shown as saved is safe; see the server’s log.",
    )
