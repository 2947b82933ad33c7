"""Laboratory: what the laboratory owns and holds true, and its house rules; every change is a new version."""

import json
from collections.abc import Callable, Mapping
from typing import Any
from uuid import UUID, uuid4

from flask import Response, abort, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from pydantic import ValidationError

from cavrel import catalogue
from cavrel.core import laboratory as laboratories
from cavrel.core.definition import Definition, first_fault
from cavrel.core.definition.rules import RULES
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import Laboratory
from cavrel.core.laboratory.edits import drop, put, rubric_text, with_form, with_rubric, with_rules, without_form
from cavrel.present import laboratory as shown
from cavrel.present import report
from cavrel.service.laboratories import change, laboratory_of
from cavrel.service.run_view import unstarted
from cavrel.store import laboratories as store
from cavrel.store.courses import Course
from cavrel.store.pool import Connection, transaction
from cavrel.web import forms, setting
from cavrel.web.addressed import CoursePages, course_of
from cavrel.web.experiments import course_experiments, newest_laboratory
from cavrel.web.shared import pool

pages = CoursePages("laboratory", __name__)

PARTS = {"instruments": "instrument", "accepted": "value"}
_HISTORY = 20


@pages.get("/laboratory")
def page() -> ResponseReturnValue:
    return _page({}, {})


@pages.get("/laboratory.json")
def as_json() -> ResponseReturnValue:
    """The laboratory document as it stands, to be kept, shared, or laid out in another course."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        laboratory = newest_laboratory(connection, course)
    text = json.dumps(_document(laboratory), indent=1, ensure_ascii=False)
    response = Response(f"{text}\n", mimetype="application/json")
    if request.args.get("download") == "yes":
        response.headers["Content-Disposition"] = 'attachment; filename="laboratory.json"'
    return response


@pages.get("/laboratory/rules")
def rules() -> ResponseReturnValue:
    """What a form's fields would make of the examples: fragments, nothing is kept, and no field is drawn anew while somebody types in it."""
    try:
        return render_template("laboratory/examples.html", rules=shown.house(_typed_rules(request.args)), what="")
    except (ValidationError, CavrelError, ValueError) as fault:
        return render_template("laboratory/examples.html", rules=[], what=_what(fault))


@pages.post("/laboratory/<part>")
def keep(part: str) -> ResponseReturnValue:
    """Make a new version with one thing changed."""
    typed = {field: text.strip() for field, text in request.form.items() if field != "csrf_token"}
    typed["results"] = [text.strip() for text in request.form.getlist("results")]  # type: ignore[assignment]
    makes: Mapping[str, Callable[[Laboratory], Laboratory]] = {
        "instruments": lambda now: _item(now, "instruments", typed),
        "accepted": lambda now: _item(now, "accepted", typed),
        "rules": lambda now: with_rules(now, _typed_rules(request.form)),
        "rubric": lambda now: with_rubric(now, typed.get("rubric", "")),
        "forms": lambda now: _form(now, typed),
        "document": lambda _: laboratories.load(_read(typed.get("document", ""))),
        "again": lambda _: _version(typed.get("version", "")),
    }
    if part not in makes:
        return render_template(
            "error.html",
            title="There is no such part",
            what="A laboratory has instruments, values, rules, a rubric and templates.",
        ), 404
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        own = [e.definition for e in course_experiments(connection, course).values() if e.version]
    try:
        with transaction(pool()) as connection:
            change(connection, course.id, makes[part], own, typed.get("author", ""), _key(typed))
    except (CavrelError, ValidationError, ValueError) as fault:
        return _page({part: typed}, {part: _what(fault)}), 422
    return redirect(url_for("laboratory.page", saved=f"{part}:{typed.get('name', '')}", _anchor=part), 303)


def _version(text: str) -> Laboratory:
    if not (text.isascii() and text.isdigit() and len(text) < 7):
        raise CavrelError("version", f"'{text[:20]}' is not a version")
    number = int(text)
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        try:
            return laboratories.load(store.body(connection, course.id, number))
        except LookupError as fault:
            raise CavrelError("version", f"there is no version {number}") from fault


def _item(now: Laboratory, part: str, typed: Mapping[str, Any]) -> Laboratory:
    name, was = typed.get("name", ""), typed.get("was", "")
    if typed.get("drop"):
        return drop(now, part, name, was)
    body: dict[str, Any] = {
        k: v for k, v in typed.items() if v and k not in ("name", "was", "key", "author", "drop", "usual", "results")
    }
    if part == "instruments":
        if typed.get("usual"):
            body["usual"] = True
    elif typed.get("results"):
        body["results"] = typed["results"]
    return put(now, part, name, body, was)


def _form(now: Laboratory, typed: Mapping[str, Any]) -> Laboratory:
    """With a form of report, which is tried before it is kept. Raises CavrelError."""
    if typed.get("drop"):
        return without_form(now, typed.get("name", ""))
    body = typed.get("body", "").replace("\r\n", "\n")
    setting.form(body, report.content(unstarted(catalogue.house(), now, {})))
    return with_form(now, typed.get("name", ""), typed.get("title", ""), body)


@pages.get("/laboratory/forms/<name>.html")
def form_source(name: str) -> ResponseReturnValue:
    """The text of a form that ships, to begin one's own from."""
    if name not in forms.SHIPPED:
        abort(404)
    return Response(forms.source(name), mimetype="text/plain")


def _typed_rules(fields: Mapping[str, str]) -> dict[str, Any]:
    """House rules from a form's fields: JSON of what was chosen, numbers as typed. Raises CavrelError."""
    found: dict[str, Any] = {}
    for name, rule in RULES.items():
        text = fields.get(name, "")
        if rule.choices and text:
            found[name] = json.loads(text)
    if fields.get("acceptable", "").strip():
        found["acceptable"] = _number(fields["acceptable"], RULES["acceptable"].title)
    if fields.get("g-by") == "number":
        found["g"] = _number(fields.get("g-number", ""), "g")
    elif fields.get("g-by") == "place":
        found["g"] = {
            "latitude": _number(fields.get("g-latitude", ""), "latitude"),
            "height": _number(fields.get("g-height", ""), "height"),
        }
    return found


def _number(text: str, what: str) -> float:
    try:
        return float(text.strip().replace(",", ".").replace("−", "-"))
    except ValueError as fault:
        raise CavrelError(what, f"'{text[:20]}' is not a number") from fault


def _read(text: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError) as fault:
        raise CavrelError("document", f"cannot be read as JSON: {fault}") from fault


def _key(typed: Mapping[str, Any]) -> UUID | None:
    try:
        return UUID(typed.get("key", ""))
    except ValueError:
        return None


def _what(fault: Exception) -> str:
    if isinstance(fault, ValidationError):
        place, what = first_fault(fault)
        return f"{place}: {what}" if place else what
    return str(fault)


def _document(laboratory: Laboratory) -> dict[str, Any]:
    return {"format": laboratories.FORMAT, **laboratory.model_dump(mode="json", by_alias=True, exclude_defaults=True)}


def _page(typed: Mapping[str, Mapping[str, Any]], faults: Mapping[str, str]) -> str:
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        laboratory = newest_laboratory(connection, course)
        experiments: dict[str, Definition] = {
            name: e.definition for name, e in course_experiments(connection, course).items()
        }
        history = _history(connection, course)
    return render_template(
        "laboratory/page.html",
        course=course,
        history=shown.history(history),
        typed=typed,
        faults=faults,
        new_key=lambda: str(uuid4()),
        rubric=rubric_text(laboratory),
        own_forms=laboratory.forms,
        shipped_forms=forms.SHIPPED,
        full_form=forms.source(forms.USUAL),
        document=json.dumps(_document(laboratory), indent=1, ensure_ascii=False),
        **shown.content(laboratory, experiments),
    )


def _history(connection: Connection, course: Course) -> list[tuple[int, str, Any, Laboratory]]:
    return [
        (v.version, v.author, v.made_at, laboratory_of(connection, course.id, v.version, v.digest))
        for v in store.versions(connection, course.id, _HISTORY)
    ]
