"""Runs: every run of the course with how far it is."""

from typing import Any

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.store import runs as run_store
from cavrel.store.pool import Connection, transaction
from cavrel.store.runs import Course
from cavrel.web.opened import open_in
from cavrel.web.shared import pool
from cavrel.web.shelf import course_of
from cavrel.web.stages import stages

pages = Blueprint("runs", __name__)


def _runs(connection: Connection, course: Course | None) -> list[dict[str, Any]]:
    found = []
    for run in run_store.of_course(connection, course.id) if course else []:
        opened = open_in(connection, run.id)
        if opened is not None:
            flags = sum(f.level != "note" for f in opened.flags)
            found.append({"run": run, "of": opened.definition.title, "stages": stages(opened), "flags": flags})
    return found


@pages.get("/runs")
def page() -> ResponseReturnValue:
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        runs = _runs(connection, course)
    return render_template("runs/page.html", course=course, runs=runs)


@pages.get("/runs.json")
def twin() -> ResponseReturnValue:
    """The runs as data."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        runs = _runs(connection, course)
    return jsonify(
        course=course.title if course else None,
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
