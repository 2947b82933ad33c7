"""The HTTP interface described (OpenAPI 3.1), from the routes themselves, so that it says what is served and nothing else."""

import inspect
import re
import sys
from typing import Any

from flask import Blueprint, Flask, current_app, jsonify
from flask.typing import ResponseReturnValue
from werkzeug.routing import Rule

from cavrel import __version__
from cavrel.web import addressed

pages = Blueprint("openapi", __name__)

_PART = re.compile(r"<(?:(?P<kind>[a-z]+)(?:\([^)]*\))?:)?(?P<name>[a-z_]+)>")
_KINDS = {
    ".zip": "application/zip",
    ".pdf": "application/pdf",
    ".csv": "text/csv",
    ".ipynb": "application/x-ipynb+json",
}
_KINDS |= {".tex": "application/x-tex", ".js": "text/javascript", ".html": "text/plain", ".svg": "image/svg+xml"}
_QUERIES: dict[str, dict[str, str]] = {
    "runs.page": {
        "q": "words to find",
        "bench": "of one bench",
        "away": "`yes` for archived runs",
        "page": "of the list",
    },
    "runs.as_json": {
        "q": "words to find",
        "bench": "of one bench",
        "away": "`yes` for archived runs",
        "page": "of the list",
    },
    "experiments.page": {"q": "words to find"},
    "experiments.as_json": {"q": "words to find"},
    "entries.news": {
        "since": "the newest entry that the page shows",
        "page": "whose fragments to send, such as `measure`",
    },
    "report.pdf": {"form": "of report: full, one-page, exam or the course's own", "paper": "`a4` or `letter`"},
    "report.signed_pdf": {"form": "of report", "paper": "`a4` or `letter`"},
    "report.page": {"form": "of report"},
    "report.signed": {"form": "of report"},
    "report.compare": {"a": "a version, 0 for the report as it is now", "b": "the other"},
}
_ENTRY = {
    "type": "object",
    "required": ["key", "kind", "slot", "body", "made_at"],
    "properties": {
        "key": {"type": "string", "format": "uuid", "description": "An entry sent twice counts once."},
        "kind": {"type": "string", "description": "Such as `reading`, `leave-out`, `undo`."},
        "slot": {"type": "string", "description": "Such as `swings.t.4.2`."},
        "body": {"type": "object"},
        "author": {"type": "string", "maxLength": 80},
        "made_at": {"type": "string", "format": "date-time"},
    },
}
_BODIES: dict[str, dict[str, Any]] = {
    "entries.save": {
        "type": "object",
        "required": ["entries"],
        "properties": {
            "entries": {"type": "array", "items": {"$ref": "#/components/schemas/Entry"}, "maxItems": 500},
            "page": {"type": "string"},
            "since": {"type": "integer"},
            "store": {"type": "string"},
            "now": {
                "type": "string",
                "format": "date-time",
                "description": "By the sender's clock, which may be wrong.",
            },
        },
    },
    "traces.read": {"type": "object", "required": ["text"], "properties": {"text": {"type": "string"}}},
}


@pages.get("/openapi.json")
def as_json() -> ResponseReturnValue:
    """This description."""
    return jsonify(description(current_app))


def description(app: Flask) -> dict[str, Any]:
    """The interface of an application."""
    paths: dict[str, dict[str, Any]] = {}
    tags: dict[str, str] = {}
    for rule in sorted(app.url_map.iter_rules(), key=lambda r: r.rule):
        if rule.rule.startswith(addressed.NAMED):
            continue
        view = app.view_functions[rule.endpoint]
        area = rule.endpoint.partition(".")[0]
        module = sys.modules[view.__module__].__doc__ or area
        tags.setdefault(area, module.strip().splitlines()[0])
        path = _PART.sub(r"{\g<name>}", rule.rule)
        for method in sorted((rule.methods or set()) - {"HEAD", "OPTIONS"}):
            paths.setdefault(path, {})[method.lower()] = _operation(rule, view, area, method)
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Cavrel",
            "version": __version__,
            "description": "Every page has its data at the same address ending in `.json`. Requests that change something need the "
            "token of `GET /token` in the header `X-CSRFToken` and the cookie that comes with it. Where there are several courses, the "
            "pages of one are under `/courses/NAME`, such as `/courses/evening/runs.json`; `GET /courses.json` lists them.",
        },
        "servers": [{"url": "/"}],
        "tags": [{"name": name, "description": text} for name, text in sorted(tags.items())],
        "paths": paths,
        "components": {
            "schemas": {
                "Entry": _ENTRY,
                "Error": {
                    "type": "object",
                    "required": ["error", "what"],
                    "properties": {"error": {"type": "string"}, "what": {"type": "string"}},
                },
            },
            "securitySchemes": {"token": {"type": "apiKey", "in": "header", "name": "X-CSRFToken"}},
        },
    }


def _operation(rule: Rule, view: Any, area: str, method: str) -> dict[str, Any]:
    said = inspect.getdoc(view)
    text = " ".join(said.split()) if said else f"{area.replace('_', ' ').capitalize()}, as a page."
    made: dict[str, Any] = {
        "operationId": rule.endpoint if method == "GET" else f"{rule.endpoint}.{method.lower()}",
        "summary": text.split(". ")[0].rstrip("."),
        "description": text,
        "tags": [area],
        "parameters": [
            *(_parameter(found["name"], found["kind"]) for found in _PART.finditer(rule.rule)),
            *(
                {"name": name, "in": "query", "description": what, "schema": {"type": "string"}}
                for name, what in (_QUERIES.get(rule.endpoint, {}) if method == "GET" else {}).items()
            ),
        ],
        "responses": _responses(rule, method),
    }
    if method != "GET":
        made["security"] = [{"token": []}]
        schema = _BODIES.get(rule.endpoint)
        kind = "application/json" if schema or rule.rule.startswith("/live/") else "multipart/form-data"
        made["requestBody"] = {"content": {kind: {"schema": schema or {"type": "object"}}}}
    return made


def _parameter(name: str, kind: str | None) -> dict[str, Any]:
    schema = {"type": "integer", "minimum": 0} if kind == "int" else {"type": "string"}
    return {"name": name, "in": "path", "required": True, "schema": schema}


def _responses(rule: Rule, method: str) -> dict[str, Any]:
    data = rule.rule.endswith((".json", "/entries", "/news", "/token", "/health", "/read")) or rule.rule.startswith(
        "/live/"
    )
    kind = "application/json" if data else "text/html"
    for ending, other in _KINDS.items():
        if rule.rule.endswith(ending):
            kind = other
    good: dict[str, Any] = {
        "description": "As asked.",
        "content": {kind: {"schema": {"type": "object" if data else "string"}}},
    }
    found: dict[str, Any] = {"200": good}
    if method != "GET" and not data:
        found["303"] = {"description": "Done; the page to go on with."}
    if "<" in rule.rule:
        found["404"] = _error("There is none.", data)
    if method != "GET":
        found["422"] = _error("Something in it cannot be taken; nothing was changed.", data)
    found["503"] = _error("The database does not answer; nothing that was saved is lost.", data)
    return found


def _error(words: str, data: bool) -> dict[str, Any]:
    if not data:
        return {"description": words}
    return {"description": words, "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Error"}}}}
