"""Write: an experiment of one's own as text, checked while it is typed, kept as versions."""

from typing import Any
from uuid import UUID, uuid4

from flask import abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel import catalogue
from cavrel.catalogue import places
from cavrel.catalogue.places import TextFault
from cavrel.core.definition import Definition
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import run as runs
from cavrel.core.logbook import slots_of
from cavrel.core.simulate import simulate
from cavrel.present import graphs, result_lines, tables
from cavrel.service.run_view import RunView, unstarted
from cavrel.store import own as own_store
from cavrel.store.courses import Course
from cavrel.store.pool import Connection, transaction
from cavrel.web.addressed import CoursePages, course_of
from cavrel.web.experiments import newest_laboratory
from cavrel.web.shared import pool

pages = CoursePages("write", __name__)

BLANK = (catalogue.HERE / "blank.toml").read_text(encoding="utf-8")


def _source(connection: Connection, course: Course, name: str) -> tuple[str, int]:
    """The text of an experiment and its version, 0 for one that ships. Raises 404."""
    kept = own_store.versions(connection, course.id, name)
    if kept:
        return kept[0].body, kept[0].version
    path = catalogue.HERE / "experiments" / f"{name}.toml"
    if name not in catalogue.experiments():
        abort(404)
    return path.read_text(encoding="utf-8"), 0


def duplicate(text: str, name: str) -> str:
    """A shipped experiment's text as the beginning of one's own: another id and title."""
    lines = text.split("\n")
    for i, line in enumerate(lines):
        if line.startswith("id = "):
            lines[i] = f'id = "own-{name}"'
        elif line.startswith("title = "):
            lines[i] = f'{line.rstrip()[:-1]}, our way"'
        elif line.startswith("["):
            break
    return "\n".join(lines)


@pages.get("/write")
def blank() -> ResponseReturnValue:
    """A blank one, or one like ``?like=ID``."""
    like = request.args.get("like", "")
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        text = BLANK
        if like:
            source, version = _source(connection, course, like)
            text = source if version else duplicate(source, like)
    return _page(text, "", 0)


@pages.get("/write/<name>")
def own(name: str) -> ResponseReturnValue:
    """The newest version of an own experiment, or ``?version=N``."""
    if not name.isprintable():
        abort(404)
    wanted = request.args.get("version", type=int)
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        kept = own_store.versions(connection, course.id, name)
    found = next((k for k in kept if wanted is None or k.version == wanted), None)
    if found is None:
        abort(404)
    return _page(found.body, name, found.version, [k.version for k in kept])


@pages.get("/write/<name>.json")
def as_json(name: str) -> ResponseReturnValue:
    """Every version with its text."""
    if not name.isprintable():
        abort(404)
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        kept = own_store.versions(connection, course.id, name)
    if not kept:
        abort(404)
    return jsonify(
        experiment=name,
        versions=[
            {"version": k.version, "hash": k.hash, "made_at": k.made_at.isoformat(), "text": k.body} for k in kept
        ],
    )


def _page(
    text: str, name: str, version: int, versions: list[int] | None = None, faults: tuple[TextFault, ...] = ()
) -> str:
    return render_template(
        "write/page.html",
        text=text,
        name=name,
        version=version,
        versions=versions or [],
        key=str(uuid4()),
        **_checked(text, faults),
    )


def _checked(text: str, more: tuple[TextFault, ...] = ()) -> dict[str, Any]:
    """What a text amounts to: its faults, or its table, its page and a simulated run."""
    read = places.read_text(text)
    faults = [*read.faults, *more]
    shown: dict[str, Any] = {"faults": faults, "d": read.definition}
    if read.definition is not None:
        shown |= _preview(read.definition)
    return shown


def _preview(definition: Definition) -> dict[str, Any]:
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        laboratory = newest_laboratory(connection, course)
    blank_run = unstarted(definition, laboratory, {})
    shown: dict[str, Any] = {
        "d": blank_run.definition,
        "tables": tables.tables(blank_run),
        "fields": tables.quantities(blank_run),
        "simulated": None,
        "no_stand_in": "",
        "late": definition.law is not None and not catalogue.solved_in_time(definition),
    }
    if definition.simulate is None:
        shown["no_stand_in"] = "Without a [simulate] table nothing can be simulated."
        return shown
    try:
        document = runs.load(simulate(catalogue.program_of(definition), 1))
        opened = unstarted(definition, laboratory, {}, slots_of(document))
    except CavrelError as fault:
        shown["no_stand_in"] = f"{fault}"
        return shown
    return shown | {"simulated": _simulated(opened)}


def _simulated(opened: RunView) -> dict[str, Any]:
    drawn = graphs.fit_graphs(opened, opened.fit).line if opened.fit and opened.fit.x is not None else None
    return {
        "tables": tables.tables(opened),
        "results": result_lines.overview(opened),
        "graph": drawn,
        "findings": opened.findings,
    }


@pages.post("/write/check")
def check() -> ResponseReturnValue:
    """The same check for a text as it is typed, as a fragment of the page."""
    return render_template("write/checked.html", **_checked(request.form.get("text", "")))


@pages.post("/write/check.json")
def check_json() -> ResponseReturnValue:
    """The faults of a text as data."""
    read = places.read_text(request.form.get("text", ""))
    return jsonify(
        good=read.definition is not None,
        faults=[{"line": f.line, "place": f.place, "what": f.what} for f in read.faults],
    )


@pages.post("/write")
def save() -> ResponseReturnValue:
    """Keep a new version; sent twice, it is kept once. A text with faults comes back with them, nothing lost."""
    text = request.form.get("text", "").replace("\r\n", "\n")
    read = places.read_text(text)
    try:
        key = UUID(request.form.get("key", ""))
    except ValueError:
        key = uuid4()
    if read.definition is None:
        return _page(text, "", 0), 422
    definition = read.definition
    if definition.id in catalogue.experiments():
        line = places.line_of(text, "id")
        fault = TextFault(line, "id", f"'{definition.id}' ships with Cavrel; give yours an id of its own")
        return _page(text, "", 0, faults=(fault,)), 422
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        own_store.save(connection, course.id, definition, text, key)
    return redirect(url_for("write.own", name=definition.id), 303)
