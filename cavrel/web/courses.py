"""The courses of this server, and the page on which one begins."""

from collections.abc import Mapping
from datetime import datetime, timezone
from uuid import UUID, uuid4
from zoneinfo import available_timezones

from flask import Blueprint, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel import catalogue
from cavrel.core.laboratory import begin
from cavrel.present import zones
from cavrel.service import courses as service
from cavrel.store import courses as store
from cavrel.store.pool import transaction
from cavrel.web.shared import pool

pages = Blueprint("courses", __name__)


@pages.get("/courses")
def page() -> ResponseReturnValue:
    with transaction(pool()) as connection:
        found = store.courses(connection)
    if not found:
        return redirect(url_for("courses.new"))
    today = zones.local(datetime.now(timezone.utc)).date()
    return render_template(
        "courses/list.html", courses=sorted(found, key=lambda c: (c.over(today), -c.id)), today=today
    )


@pages.get("/courses.json")
def as_json() -> ResponseReturnValue:
    """The courses as data."""
    with transaction(pool()) as connection:
        found = store.courses(connection)
    return jsonify(
        courses=[
            {
                "name": c.slug,
                "title": c.title,
                "place": c.place,
                "begins": c.begins.isoformat() if c.begins else None,
                "ends": c.ends.isoformat() if c.ends else None,
                "zone": c.zone or None,
                "address": url_for("experiments.page", course=c.slug),
            }
            for c in found
        ]
    )


@pages.get("/courses/new")
def new() -> ResponseReturnValue:
    """The page on which a course begins."""
    return _form({"key": str(uuid4())}, {})


def _form(typed: Mapping[str, str], faults: Mapping[str, str]) -> str:
    with transaction(pool()) as connection:
        first = not store.courses(connection)
    kinds = catalogue.instruments()
    fresh = "title" not in typed
    instruments = [
        {
            "key": begin.key_of(kind),
            "kind": kind,
            "says": kinds[kind].get("least_count", ""),
            "ticked": kind in begin.USUAL if fresh else bool(typed.get(f"instrument-{begin.key_of(kind)}")),
        }
        for kind in sorted(kinds, key=lambda kind: kind not in begin.USUAL)
    ]
    return render_template(
        "courses/new.html",
        first=first,
        typed=typed,
        faults=faults,
        presets=begin.PRESETS,
        namings={name: words for name, (words, _) in service.NAMINGS.items()},
        joining=service.JOINING,
        instruments=instruments,
        zones=sorted(available_timezones()),
    )


@pages.post("/courses")
def make() -> ResponseReturnValue:
    """Begin a course; sent twice, it begins one."""
    typed = {field: text for field, text in request.form.items() if field != "csrf_token"}
    try:
        key = UUID(typed.get("key", ""))
    except ValueError:
        key = uuid4()
    typed["key"] = str(key)
    try:
        wanted = service.read_new(typed)
    except service.Faults as fault:
        return _form(typed, fault.by), 422
    with transaction(pool()) as connection:
        made = service.make(connection, wanted, key)
        several = len(store.courses(connection)) > 1
    return redirect(url_for("experiments.page", course=made.slug if several else "", begun="yes"), 303)
