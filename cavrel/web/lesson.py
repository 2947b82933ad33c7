"""Lesson: which experiment at which bench when; moved by hand, started together, called in every page."""

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timezone
from typing import Any
from uuid import UUID, uuid4

from flask import Response, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core import lesson as lessons
from cavrel.core.definition import Definition
from cavrel.core.errors import CavrelError
from cavrel.core.lesson import Block, Lesson, LessonError, before_that, propose, resumed, stretched
from cavrel.present import lesson as shown
from cavrel.service import lessons as service
from cavrel.store import lessons as store
from cavrel.store.courses import Course
from cavrel.store.pool import Connection, transaction
from cavrel.web.addressed import CoursePages, course_of, meant
from cavrel.web.experiments import course_experiments, newest_laboratory
from cavrel.web.shared import pool

pages = CoursePages("lesson", __name__)


def _course(connection: Connection) -> tuple[Course, list[str], dict[str, Definition]]:
    course, benches = course_of(connection)
    return (
        course,
        [b.name for b in benches],
        {name: e.definition for name, e in course_experiments(connection, course).items()},
    )


@pages.get("/lessons")
def page() -> ResponseReturnValue:
    return _list({}, "")


def _list(typed: Mapping[str, str], fault: str) -> str:
    with transaction(pool()) as connection:
        course, _, _ = _course(connection)
        kept = [(k.id, service.read(k)) for k in store.newest(connection, course.id)]
    return render_template(
        "lesson/list.html", course=course, lessons=shown.listed(kept), key=str(uuid4()), typed=typed, fault=fault
    )


@pages.get("/lessons.json")
def twin_of_all() -> ResponseReturnValue:
    """The lessons as data."""
    with transaction(pool()) as connection:
        course, _, _ = _course(connection)
        return jsonify(
            lessons=[{"id": k.id, **service.document(service.read(k))} for k in store.newest(connection, course.id)]
        )


@pages.post("/lessons")
def begin() -> ResponseReturnValue:
    """Make a lesson of all benches with nothing in it yet; sent twice, it is made once."""
    typed = {field: text.strip() for field, text in request.form.items() if field != "csrf_token"}
    try:
        key = UUID(typed.get("key", ""))
    except ValueError:
        key = uuid4()
    with transaction(pool()) as connection:
        course, benches, _ = _course(connection)
        try:
            made = lessons.load(
                {
                    "title": typed.get("title", ""),
                    "begins": typed.get("begins", ""),
                    "minutes": _whole(typed.get("minutes", ""), "minutes"),
                    "benches": benches,
                }
            )
        except CavrelError as fault:
            refused = str(fault)
        else:
            refused = ""
            number = store.begin(connection, course.id, dict(service.document(made)), key)
    if refused:
        return _list(typed, refused), 422
    return redirect(url_for("lesson.one", lesson=number, saved="lesson:"), 303)


@pages.get("/lessons/<int:lesson>")
def one(lesson: int) -> ResponseReturnValue:
    return _page(lesson, {}, "")


@pages.get("/lessons/<int:lesson>.json")
def as_json(lesson: int) -> ResponseReturnValue:
    """The lesson document."""
    with transaction(pool()) as connection:
        course, _, _ = _course(connection)
        kept = store.get(connection, course.id, lesson)
    if kept is None:
        abort(404)
    return jsonify(service.document(service.read(kept)))


def _page(lesson: int, typed: Mapping[str, Any], fault: str, asks: Sequence[str] = ()) -> str:
    with transaction(pool()) as connection:
        course, benches, experiments = _course(connection)
        kept = store.get(connection, course.id, lesson)
    if kept is None:
        abort(404)
    made = service.read(kept)
    return render_template(
        "lesson/page.html",
        course=course,
        id=lesson,
        state=kept.state,
        typed=typed,
        fault=fault,
        asks=asks,
        calls=shown.calls_of(made),
        **shown.content(made, datetime.now(timezone.utc)),
        **shown.choices(made, experiments, benches),
    )


@pages.post("/lessons/<int:lesson>/set")
def lay_out(lesson: int) -> ResponseReturnValue:
    """What there is to do, with whom and how long; and the timetable proposed for it."""
    form = request.form
    typed = {
        field: form.getlist(field) if field in ("bench", "experiment") else form.get(field, "").strip()
        for field in form
    }

    def make(before: Lesson, connection: Connection, course: Course, experiments: Mapping[str, Definition]) -> Lesson:
        laboratory = newest_laboratory(connection, course)
        tasks = []
        for name in form.getlist("experiment"):
            if name not in experiments:
                raise LessonError(name, "is not among the experiments")
            known = next((t for t in before.tasks if t.experiment == name), None)
            own = form.get(f"minutes-{name}", "").strip()
            minutes = _whole(own, f"minutes of {experiments[name].title}") if own else None
            tasks.append(service.task_of(experiments[name], laboratory, minutes, known.options if known else None))
        made = lessons.load(
            {
                "title": form.get("title", "").strip(),
                "begins": form.get("begins", ""),
                "minutes": _whole(form.get("minutes", ""), "minutes"),
                "between": _whole(form.get("between", "5"), "minutes between"),
                "rotations": _whole(form.get("rotations", "1"), "experiments a bench"),
                "benches": form.getlist("bench"),
                "tasks": [task.model_dump(mode="json") for task in tasks],
                "stock": service.stock_of(laboratory),
            }
        )
        if before.started is not None:
            raise LessonError("", "this lesson has started; move its blocks by hand, or create another lesson")
        return propose(made)

    return _changed(lesson, make, typed)


@pages.post("/lessons/<int:lesson>/start")
def start(lesson: int) -> ResponseReturnValue:
    """Begin the lesson: its runs are made, each with its plan, and its waits will be called."""
    if request.form.get("sure") != "yes":
        with transaction(pool()) as connection:
            course, _, _ = _course(connection)
            kept = store.get(connection, course.id, lesson)
        asks = shown.doubts(service.read(kept), datetime.now(timezone.utc)) if kept is not None else []
        if asks:
            return _page(lesson, {}, "", asks)
    try:
        with transaction(pool()) as connection:
            course, _, experiments = _course(connection)
            service.start(connection, course.id, lesson, experiments, newest_laboratory(connection, course))
    except LookupError:
        abort(404)
    except CavrelError as fault:
        return _page(lesson, {}, str(fault)), 422
    return redirect(url_for("lesson.one", lesson=lesson), 303)


@pages.post("/lessons/<int:lesson>/pause")
def pause(lesson: int) -> ResponseReturnValue:
    """Rest, go on or end, as the form's ``act`` says; undo takes each back."""
    act, now = request.form.get("act"), datetime.now(timezone.utc)

    def make(before: Lesson, connection: Connection, course: Course, experiments: Mapping[str, Definition]) -> Lesson:
        if before.started is None or before.ended is not None:
            raise LessonError("", "it has not started" if before.started is None else "it has ended; undo reopens it")
        if act == "resume":
            return resumed(before, now)
        if act == "end":
            return before.model_copy(update={"ended": now, "paused": None})
        return before if before.paused is not None else before.model_copy(update={"paused": now})

    return _changed(lesson, make, {})


@pages.post("/lessons/<int:lesson>/back")
def back(lesson: int) -> ResponseReturnValue:
    """As it was before the last change that stands, step by step to the first; runs that have begun stay."""

    def make(before: Lesson, connection: Connection, course: Course, experiments: Mapping[str, Definition]) -> Lesson:
        earlier = before_that(store.states(connection, lesson))
        if earlier is None:
            raise LessonError("", "there is nothing to undo")
        made = lessons.load(earlier)
        if before.started is not None and made.started is None:
            raise LessonError("", "it has started since; its runs are in the list of runs")
        return made

    return _changed(lesson, make, {})


Make = Callable[[Lesson, Connection, Course, Mapping[str, Definition]], Lesson]


def _changed(lesson: int, make: Make, typed: Mapping[str, Any]) -> ResponseReturnValue:
    try:
        with transaction(pool()) as connection:
            course, _, experiments = _course(connection)
            service.change(connection, course.id, lesson, lambda before: make(before, connection, course, experiments))
    except LookupError:
        abort(404)
    except CavrelError as fault:
        return _page(lesson, typed, str(fault)), 422
    return redirect(url_for("lesson.one", lesson=lesson, saved=f"lesson:{lesson}"), 303)


@pages.post("/lessons/<int:lesson>/move")
def move(lesson: int) -> ResponseReturnValue:
    """Move a block, take one out, or put one in, and give back the timetable as a fragment. Body: ``{"key", "bench", "start"}``, ``{"drop":
    key}``, ``{"longer": key, "minutes"}`` for its wait, or ``{"add": {"bench", "experiment"}}``."""
    body = request.get_json(silent=True)
    if not isinstance(body, dict):
        return jsonify(error="Not understood", what="the body must be an object"), 400

    def make(before: Lesson) -> Lesson:
        if isinstance(body.get("drop"), str):
            return service.checked(
                before, blocks=tuple(b for b in before.blocks if b.key != body["drop"] or b.run is not None)
            )
        if isinstance(body.get("longer"), str):
            if type(body.get("minutes")) is not int:
                raise LessonError("", "to stretch a wait, name the block and the minutes")
            return stretched(before, body["longer"], body["minutes"], datetime.now(timezone.utc))
        if isinstance(body.get("add"), dict):
            if not all(isinstance(body["add"].get(name), str) for name in ("bench", "experiment")):
                raise LessonError("", "to add a block, name the experiment and the bench")
            made = lessons.load(
                {
                    **service.document(before),
                    "blocks": [{"bench": body["add"]["bench"], "experiment": body["add"]["experiment"], "start": 0}],
                }
            ).blocks[0]
            ends = [before.end(b) + before.between for b in before.blocks if b.bench == made.bench]
            last = Block(
                bench=made.bench, experiment=made.experiment, start=min(max(ends, default=0), lessons.document.LONGEST)
            )
            return service.checked(before, blocks=(*before.blocks, last))
        if (
            not isinstance(body.get("key"), str)
            or not isinstance(body.get("bench"), str)
            or type(body.get("start")) is not int
        ):
            raise LessonError("", "to move a block, name the block, the bench and the minute")
        return service.moved(before, body["key"], body["bench"], body["start"])

    try:
        with transaction(pool()) as connection:
            course, _, _ = _course(connection)
            number, made = service.change(connection, course.id, lesson, make)
    except LookupError:
        abort(404)
    except CavrelError as fault:
        return jsonify(error="Not moved", what=f"{fault.what[0].upper()}{fault.what[1:]}."), 422
    return Response(
        render_template(
            "lesson/timetable.html",
            id=lesson,
            state=number,
            calls=shown.calls_of(made),
            **shown.content(made, datetime.now(timezone.utc)),
        )
    )


@pages.get("/calls.json")
def called() -> ResponseReturnValue:
    """What is called in every page of the course, with the server's own time, for clocks differ."""
    with transaction(pool()) as connection:
        course = meant(connection)
        found = service.due(connection, course.id) if course else []
    return jsonify(
        now=datetime.now(timezone.utc).isoformat(),
        calls=[{"key": d.key, "at": d.at.isoformat(), "bench": d.bench, "say": d.say, "run": d.run} for d in found],
    )


def _whole(text: str, what: str) -> int:
    if not (text.isascii() and text.isdigit() and len(text) < 6):
        raise LessonError(what, f"'{text[:20]}' is not a whole number")
    return int(text)
