"""Runs: every run of the course with how far it is."""

from dataclasses import dataclass
from datetime import datetime, timezone
from typing import Any
from uuid import uuid4

from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.core.logbook import check_entry
from cavrel.present.stages import stages
from cavrel.service.opened import definition_of, open_in
from cavrel.store import entries as entry_store
from cavrel.store import runs as run_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Connection, transaction
from cavrel.store.runs import Course, Run
from cavrel.web.shared import pool
from cavrel.web.shelf import course_of

pages = Blueprint("runs", __name__)


MOST_SHOWN = 100
"""Runs on one page of the list."""


@dataclass(frozen=True, slots=True)
class Wanted:
    """What of the list is asked for: words in title, bench or experiment; one bench; those put away; which page."""

    words: str
    bench: str
    away: bool
    page: int


def _wanted() -> Wanted:
    page = request.args.get("page", "1")
    return Wanted(
        request.args.get("q", "").strip()[:80],
        request.args.get("bench", "")[:40],
        request.args.get("away") == "yes",
        int(page) if page.isascii() and page.isdigit() and 0 < len(page) < 6 else 1,
    )


def _fits(run: Run, title: str, wanted: Wanted) -> bool:
    said = f"{run.title} {run.bench} {run.experiment} {title}".lower()
    return (
        run.away == wanted.away
        and (not wanted.bench or run.bench == wanted.bench)
        and all(word in said for word in wanted.words.lower().split())
    )


def _runs(connection: Connection, course: Course | None, wanted: Wanted) -> tuple[list[dict[str, Any]], int]:
    """The runs of one page of the list, and how many there are in all."""
    every = run_store.of_course(connection, course.id) if course else []
    titles = {run.hash: definition_of(connection, run.hash).title for run in every}
    fitting = [run for run in every if _fits(run, titles[run.hash], wanted)]
    found = []
    for run in fitting[(wanted.page - 1) * MOST_SHOWN : wanted.page * MOST_SHOWN]:
        opened = open_in(connection, run.id)
        if opened is not None:
            flags = sum(f.level != "note" for f in opened.flags)
            found.append({"run": run, "of": opened.definition.title, "stages": stages(opened), "flags": flags})
    return found, len(fitting)


@pages.get("/runs")
def page() -> ResponseReturnValue:
    wanted = _wanted()
    with transaction(pool()) as connection:
        course, benches = course_of(connection)
        runs, many = _runs(connection, course, wanted)
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
    made = []
    with transaction(pool()) as connection:
        record = run_store.get(connection, run)
        if record is None:
            abort(404)
        names = {bench.name for bench in run_store.benches(connection, record.course)}
        title, bench = request.form.get("title", "").strip(), request.form.get("bench", "")
        if title and title != record.title:
            made.append(("run:title", title))
        if bench in names and bench != record.bench:
            made.append(("run:bench", bench))
        if request.form.get("away") in ("yes", "no") and (request.form["away"] == "yes") != record.away:
            made.append(("run:away", request.form["away"] == "yes"))
        now = datetime.now(timezone.utc)
        try:
            new = [NewEntry("run", slot, {"value": value}, record.bench, now, uuid4()) for slot, value in made]
            for entry in new:
                check_entry(definition_of(connection, record.hash), entry.kind, entry.slot, entry.body)
        except CavrelError as fault:
            abort(422, fault.what)
        entry_store.append_each(connection, run, new)
    return redirect(url_for("runs.page"), 303)


@pages.get("/runs.json")
def twin() -> ResponseReturnValue:
    """The runs as data."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        runs, many = _runs(connection, course, _wanted())
    return jsonify(
        course=course.title if course else None,
        many=many,
        runs=[
            {
                "id": r["run"].id,
                "title": r["run"].title,
                "bench": r["run"].bench,
                "experiment": r["run"].experiment,
                "made_at": r["run"].made_at.isoformat(),
                "stages": {s.key: s.line for s in r["stages"]},
                "suspicions": r["flags"],
            }
            for r in runs
        ],
    )
