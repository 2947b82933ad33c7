"""Shelf: the experiments, what each finds and what can hurt, and the runs of the course. Starting a run."""

from collections.abc import Mapping
from functools import lru_cache
from typing import Any
from uuid import UUID, uuid4

from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from markupsafe import Markup

from cavrel import catalogue
from cavrel.core.definition import FIELDS, Definition
from cavrel.core.rules import HouseRules
from cavrel.store import runs as run_store
from cavrel.store.pool import Connection, transaction
from cavrel.store.runs import Bench, Course
from cavrel.web.opened import open_in
from cavrel.web.shared import pool
from cavrel.web.stages import stages

pages = Blueprint("shelf", __name__)


@lru_cache(maxsize=64)
def drawing(experiment: str) -> Markup | None:
    """The apparatus of an experiment as SVG, or None where none is drawn."""
    path = catalogue.HERE / "drawings" / f"{experiment}.svg"
    return Markup(path.read_text(encoding="utf-8")) if path.exists() else None


def _course(connection: Connection) -> tuple[Course | None, list[Bench]]:
    courses = run_store.courses(connection)
    course = courses[0] if courses else None
    return course, run_store.benches(connection, course.id) if course else []


def _runs(connection: Connection, course: Course | None) -> list[dict[str, Any]]:
    found = []
    for run in run_store.of_course(connection, course.id) if course else []:
        opened = open_in(connection, run.id)
        if opened is not None:
            found.append({"run": run, "stages": stages(opened), "flags": sum(f.level != "note" for f in opened.flags)})
    return found


def _fields() -> list[tuple[str, list[Definition]]]:
    shelf = catalogue.experiments().values()
    return [(f, own) for f in FIELDS if (own := [d for d in shelf if d.field == f])]


def _rules(course: Course | None) -> HouseRules:
    return HouseRules.model_validate(dict(course.rules) if course else {})


@pages.get("/")
def page() -> ResponseReturnValue:
    with transaction(pool()) as connection:
        course, _ = _course(connection)
        runs = _runs(connection, course)
    return render_template(
        "shelf/page.html", course=course, rules=_rules(course), fields=_fields(), runs=runs, drawing=drawing
    )


@pages.get("/shelf.json")
def twin() -> ResponseReturnValue:
    """Experiments and runs as data."""
    with transaction(pool()) as connection:
        course, _ = _course(connection)
        runs = _runs(connection, course)
    return jsonify(
        course=course.title if course else None,
        experiments=[
            {"id": d.id, "title": d.title, "field": d.field, "aim": d.aim} for _, own in _fields() for d in own
        ],
        runs=[
            {
                "id": r["run"].id,
                "title": r["run"].title,
                "bench": r["run"].bench,
                "experiment": r["run"].experiment,
                "stages": {s.key: s.line for s in r["stages"]},
                "suspicions": r["flags"],
            }
            for r in runs
        ],
    )


def _experiment(name: str) -> Definition:
    definition = catalogue.experiments().get(name)
    if definition is None:
        abort(404)
    return definition


@pages.get("/experiments/<name>")
def experiment(name: str) -> ResponseReturnValue:
    definition = _experiment(name)
    return _experiment_page(definition, {}, {})


@pages.get("/experiments/<name>.json")
def experiment_twin(name: str) -> ResponseReturnValue:
    """The definition as it is."""
    return jsonify(_experiment(name).document())


def _experiment_page(definition: Definition, typed: Mapping[str, str], faults: Mapping[str, str]) -> str:
    with transaction(pool()) as connection:
        course, benches = _course(connection)
    return render_template(
        "shelf/experiment.html",
        d=definition,
        course=course,
        benches=benches,
        drawing=drawing,
        typed=typed,
        faults=faults,
        key=typed.get("key") or str(uuid4()),
    )


@pages.post("/experiments/<name>/runs")
def start(name: str) -> ResponseReturnValue:
    """Start a run; sent twice, it starts one."""
    definition = _experiment(name)
    typed = {field: request.form.get(field, "").strip() for field in ("bench", "title", "key")}
    faults: dict[str, str] = {}
    try:
        key = UUID(typed["key"])
    except ValueError:
        typed["key"], key = "", uuid4()
    if not 1 <= len(typed["title"]) <= 120 or "\x00" in typed["title"]:
        faults["title"] = "Give the run a title of up to 120 characters."
    with transaction(pool()) as connection:
        course, benches = _course(connection)
        chosen = next((b for b in benches if str(b.id) == typed["bench"]), None)
        if course is None or chosen is None:
            faults["bench"] = "Choose the bench that measures."
        if not faults and course is not None and chosen is not None:
            run = run_store.start(connection, course.id, chosen.id, definition, typed["title"], key)
    if faults:
        return _experiment_page(definition, typed, faults), 422
    return redirect(url_for("measure.page", run=run), 303)
