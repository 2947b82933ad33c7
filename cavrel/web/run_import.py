"""In: a run from a file, checked whole and put into the course, or not at all."""

from uuid import UUID, uuid4

from flask import jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core.document.unpack import MOST_BYTES
from cavrel.core.errors import CavrelError
from cavrel.present.summary import summary
from cavrel.service import run_import, summaries
from cavrel.service.opening import open_run
from cavrel.store.pool import transaction
from cavrel.web.addressed import CoursePages, course_of
from cavrel.web.shared import pool

pages = CoursePages("run_import", __name__)

_ENDPOINTS = {"run_import.take", "table_import.take"}


def room() -> None:
    """A page that takes a file takes a larger one than pages send."""
    if request.endpoint in _ENDPOINTS:
        request.max_content_length = MOST_BYTES + 100_000
        request.max_form_memory_size = MOST_BYTES  # a table that was looked at travels in its form


@pages.get("/import")
def page() -> ResponseReturnValue:
    return _page("", "")


@pages.get("/import.json")
def as_json() -> ResponseReturnValue:
    """What may be imported, and for which benches."""
    with transaction(pool()) as connection:
        course, benches = course_of(connection)
    return jsonify(
        course=course.title,
        benches=[b.name for b in benches],
        most_bytes=MOST_BYTES,
        takes=["cavrel-run/1 as JSON", "a data package as ZIP"],
    )


def _page(fault: str, file: str) -> str:
    with transaction(pool()) as connection:
        course, benches = course_of(connection)
    return render_template(
        "run_import/page.html", course=course, benches=benches, fault=fault, file=file, key=str(uuid4())
    )


@pages.post("/import")
def take() -> ResponseReturnValue:
    """Import a run; the same form sent twice brings one."""
    sent = request.files.get("file")
    if sent is None or not sent.filename:
        return _page("Choose a file first.", ""), 422
    name = sent.filename.replace("\x00", "")[:200]
    with transaction(pool()) as connection:
        course, benches = course_of(connection)
    bench = request.form.get("bench", "")
    bench = bench if bench in {b.name for b in benches} else ""
    try:
        run = run_import.import_bounded(
            pool(), sent.read(), name, course.slug, bench, _key(request.form.get("key", ""))
        )
    except CavrelError as fault:
        return _page(f"{fault}. Nothing was imported.", name), 422
    opened = open_run(pool(), run)
    if opened is not None:
        summaries.keep(pool(), opened, summary)
    return redirect(url_for("measure.page", run=run), 303)


def _key(text: str) -> UUID:
    try:
        return UUID(text)
    except ValueError:
        return uuid4()
