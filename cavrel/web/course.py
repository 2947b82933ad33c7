"""A course: what is said of it, its benches, and the whole of it exported, made outside the request with a bar that says how far."""

from collections.abc import Mapping
from uuid import UUID, uuid4
from zoneinfo import available_timezones

from flask import abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.service import courses as service
from cavrel.service import working
from cavrel.store import courses as course_store
from cavrel.store import work as store
from cavrel.store.pool import transaction
from cavrel.web.addressed import CoursePages, course_of
from cavrel.web.export import file_answer
from cavrel.web.shared import pool

pages = CoursePages("course", __name__)


@pages.get("/course")
def page() -> ResponseReturnValue:
    return _page({}, {})


def _page(typed: Mapping[str, str], faults: Mapping[str, str]) -> str:
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        benches = course_store.all_benches(connection, course.id)
        works = store.newest(connection, course.id)
    about = {
        "title": course.title,
        "place": course.place,
        "begins": course.begins or "",
        "ends": course.ends or "",
        "zone": course.zone,
        "joining": course.joining,
    }
    return render_template(
        "course/page.html",
        course=course,
        benches=benches,
        about={**about, **typed},
        faults=faults,
        joining=service.JOINING,
        zones=sorted(available_timezones()),
        works=works,
        kinds=working.KINDS,
        new_key=lambda: str(uuid4()),
    )


@pages.post("/course")
def change() -> ResponseReturnValue:
    """Say something else of the course."""
    typed = {field: request.form.get(field, "") for field in ("title", "place", "begins", "ends", "zone", "joining")}
    try:
        about = service.read_about(typed)
    except service.Faults as fault:
        return _page(typed, fault.by), 422
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        course_store.change(connection, course.id, about)
    return redirect(url_for("course.page", saved="about:"), 303)


@pages.post("/course/benches")
def add_bench() -> ResponseReturnValue:
    """One more bench, or one that comes back."""
    name = request.form.get("name", "")
    try:
        with transaction(pool()) as connection:
            course, _ = course_of(connection)
            service.add_bench(connection, course, name)
    except CavrelError as fault:
        return _page({"new": name}, {"new": fault.what}), 422
    return redirect(url_for("course.page", _anchor="benches", saved="bench:"), 303)


@pages.post("/course/benches/<int:number>")
def change_bench(number: int) -> ResponseReturnValue:
    """Call a bench otherwise, or take it out of the list."""
    name = request.form.get("name", "")
    try:
        with transaction(pool()) as connection:
            course, _ = course_of(connection)
            bench = next((b for b in course_store.all_benches(connection, course.id) if b.id == number), None)
            if bench is None:
                abort(404)
            if request.form.get("act") == "remove":
                service.take_out_bench(connection, course, bench)
            else:
                service.rename_bench(connection, course, bench, name)
    except CavrelError as fault:
        return _page({f"bench-{number}": name}, {f"bench-{number}": fault.what}), 422
    return redirect(url_for("course.page", _anchor="benches", saved=f"bench:{number}"), 303)


@pages.get("/course.json")
def as_json() -> ResponseReturnValue:
    """The course, its benches, and what was asked for and how far it is."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        benches = course_store.all_benches(connection, course.id)
        works = store.newest(connection, course.id)
    return jsonify(
        name=course.slug,
        title=course.title,
        place=course.place,
        begins=course.begins.isoformat() if course.begins else None,
        ends=course.ends.isoformat() if course.ends else None,
        zone=course.zone or None,
        joining=course.joining,
        benches=[{"id": b.id, "name": b.name, "runs": b.runs, "listed": not b.away} for b in benches],
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
        ],
    )


@pages.post("/course/work")
def ask() -> ResponseReturnValue:
    """Ask for work; the same form sent twice asks once."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
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
        course, _ = course_of(connection)
        found = store.get(connection, number)
    if found is None or found.course != course.id:
        abort(404)
    return render_template("course/bar.html", w=found, kinds=working.KINDS)


@pages.post("/course/work/<int:number>/stop")
def stop(number: int) -> ResponseReturnValue:
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        found = store.get(connection, number)
        if found is None or found.course != course.id:
            abort(404)
        store.stop(connection, number)
    return redirect(url_for("course.page"), 303)


@pages.get("/course/work/<int:number>/file")
def file(number: int) -> ResponseReturnValue:
    """What came out."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        work = store.get(connection, number)
        found = store.body(connection, number) if work is not None and work.course == course.id else None
    if found is None:
        abort(404)
    return file_answer(found[1], "application/zip", found[0])
