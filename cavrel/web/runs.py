"""Runs: every run of the course with how far it is."""

from datetime import datetime, timezone
from typing import Any
from uuid import uuid4

from flask import abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.core.logbook import check_entry
from cavrel.present.summary import summary
from cavrel.service import summaries
from cavrel.service.definitions import definition_of
from cavrel.service.opening import open_run
from cavrel.service.summaries import Wanted
from cavrel.store import courses
from cavrel.store import entries as entry_store
from cavrel.store import runs as run_store
from cavrel.store.courses import Course
from cavrel.store.entries import NewEntry
from cavrel.store.pool import transaction
from cavrel.web.addressed import CoursePages, course_of, stay
from cavrel.web.shared import pool

pages = CoursePages("runs", __name__)


MOST_SHOWN = 25
"""Runs on one page of the list."""


def _wanted() -> Wanted:
    page = request.args.get("page", "1")
    return Wanted(
        words=request.args.get("q", "").replace("\x00", "").strip()[:80],
        bench=request.args.get("bench", "").replace("\x00", "")[:40],
        away=request.args.get("away") == "yes",
        page=int(page) if page.isascii() and page.isdigit() and 0 < len(page) < 6 and int(page) else 1,
    )


def _runs(course: Course, wanted: Wanted) -> tuple[list[dict[str, Any]], int]:
    """The runs of one page of the list, and how many there are in all."""
    listed, many = summaries.page(pool(), course.id, wanted, MOST_SHOWN, summary)
    return [
        {
            "run": one.run,
            "title": one.title,
            "bench": one.bench,
            "away": one.away,
            "experiment": one.experiment,
            "of": one.body.get("of", one.experiment),
            "begun": datetime.fromisoformat(one.body["begun"]) if "begun" in one.body else one.made_at,
            "stages": one.body.get("stages", []),
            "flags": one.body.get("flags", 0),
            "answer": one.body.get("answer", []),
        }
        for one in listed
    ], many


@pages.get("/runs")
def page() -> ResponseReturnValue:
    wanted = _wanted()
    with transaction(pool()) as connection:
        course, benches = course_of(connection)
    runs, many = _runs(course, wanted)
    return render_template(
        "runs/page.html",
        course=course,
        benches=benches,
        runs=runs,
        wanted=wanted,
        many=many,
        last=-(-many // MOST_SHOWN),
    )


@pages.post("/runs/<int:run>/own")
def change(run: int) -> ResponseReturnValue:
    """Rename a run, move it to another bench, put it away or back: an entry of its logbook, which can be undone there."""
    made: list[tuple[str, str | bool]] = []
    with transaction(pool()) as connection:
        record = run_store.get(connection, run)
        if record is None:
            abort(404)
        stay(record.course_slug, record.zone, "point")
        names = {bench.name for bench in courses.benches(connection, record.course)}
        title, bench = request.form.get("title", "").strip(), request.form.get("bench", "")
        if title and title != record.title:
            made.append(("run:title", title))
        if bench in names and bench != record.bench:
            made.append(("run:bench", bench))
        if request.form.get("away") in ("yes", "no") and (request.form["away"] == "yes") != record.away:
            made.append(("run:away", request.form["away"] == "yes"))
        now = datetime.now(timezone.utc)
        try:
            new = [
                NewEntry(
                    kind="run", slot=slot, body={"value": value}, author=record.bench, made_at=now, client_key=uuid4()
                )
                for slot, value in made
            ]
            for entry in new:
                check_entry(definition_of(connection, record.hash), entry.kind, entry.slot, entry.body)
        except CavrelError as fault:
            abort(422, fault.what)
        entry_store.append_each(connection, run, new)
    opened = open_run(pool(), run)
    if opened is not None:
        summaries.keep(pool(), opened, summary)
    return redirect(url_for("runs.page"), 303)


@pages.get("/runs.json")
def as_json() -> ResponseReturnValue:
    """The runs as data."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
    runs, many = _runs(course, _wanted())
    return jsonify(
        course=course.title,
        many=many,
        runs=[
            {
                "id": r["run"],
                "title": r["title"],
                "bench": r["bench"],
                "experiment": r["experiment"],
                "made_at": r["begun"].isoformat(),
                "stages": {s["key"]: s["line"] for s in r["stages"]},
                "remarks": r["flags"],
            }
            for r in runs
        ],
    )
