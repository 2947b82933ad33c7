"""The course taken along: its archive, every report as PDF, every run as a workbook; made outside the request, with a bar that says how far."""

from uuid import UUID, uuid4

from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.service import working
from cavrel.store import work as store
from cavrel.store.pool import transaction
from cavrel.web.export import file_answer
from cavrel.web.shared import pool
from cavrel.web.shelf import course_of

pages = Blueprint("course", __name__)


@pages.get("/course")
def page() -> ResponseReturnValue:
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        works = store.newest(connection, course.id) if course else []
    return render_template(
        "course/page.html", course=course, works=works, kinds=working.KINDS, new_key=lambda: str(uuid4())
    )


@pages.get("/course.json")
def twin() -> ResponseReturnValue:
    """What was asked for and how far it is."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        works = store.newest(connection, course.id) if course else []
    return jsonify(
        work=[
            {
                "id": w.id,
                "kind": w.kind,
                "total": w.total,
                "done": w.done,
                "stopped": w.stopped,
                "ended": w.ended_at is not None,
                "file": w.file or None,
                "bytes": w.size,
                "faults": w.faults.splitlines(),
            }
            for w in works
        ]
    )


@pages.post("/course/work")
def ask() -> ResponseReturnValue:
    """Ask for work; the same form sent twice asks once."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
    if course is None:
        abort(422, "There is no course yet.")
    try:
        key = UUID(request.form.get("key", ""))
    except ValueError:
        abort(422, "The form has no key; load the page again.")
    options = {name: request.form[name][:30] for name in ("form", "paper") if request.form.get(name)}
    try:
        working.ask(
            pool(), course, request.form.get("kind", ""), options, request.form.get("author", "").strip()[:80], key
        )
    except CavrelError as fault:
        abort(422, str(fault))
    return redirect(url_for("course.page"), 303)


@pages.get("/course/work/<int:number>")
def bar(number: int) -> ResponseReturnValue:
    """How far one piece is, as a fragment that asks for itself again until it ended."""
    with transaction(pool()) as connection:
        found = store.get(connection, number)
    if found is None:
        abort(404)
    return render_template("course/bar.html", w=found, kinds=working.KINDS)


@pages.post("/course/work/<int:number>/stop")
def stop(number: int) -> ResponseReturnValue:
    with transaction(pool()) as connection:
        store.stop(connection, number)
    return redirect(url_for("course.page"), 303)


@pages.get("/course/work/<int:number>/file")
def file(number: int) -> ResponseReturnValue:
    """What came out."""
    with transaction(pool()) as connection:
        found = store.body(connection, number)
    if found is None:
        abort(404)
    return file_answer(found[1], "application/zip", found[0])
