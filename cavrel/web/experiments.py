"""The list of experiments, the page of each, and starting a run."""

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timezone
from types import MappingProxyType
from uuid import UUID, uuid4, uuid5

from flask import abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from markupsafe import Markup

from cavrel import catalogue
from cavrel.catalogue import pictures
from cavrel.core.definition import FIELDS, Definition
from cavrel.core.errors import CavrelError, RunError
from cavrel.core.laboratory import Laboratory
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.planned import Made, plan_entries, set_quantities
from cavrel.present import conventions, example, tables
from cavrel.service import courses as course_service
from cavrel.service.definitions import definition_of
from cavrel.service.laboratories import laboratory_of
from cavrel.service.run_view import unstarted
from cavrel.store import entries as entry_store
from cavrel.store import own as own_store
from cavrel.store import runs as run_store
from cavrel.store.courses import Course
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Connection, transaction
from cavrel.web.addressed import CoursePages, course_of
from cavrel.web.shared import pool

pages = CoursePages("experiments", __name__)

MOST_OF_PLAN = 300_000
"""Characters of a plan that is sent."""


def drawing(
    experiment: str, options: Mapping[str, str] = MappingProxyType({}), folder: str = "drawings"
) -> Markup | None:
    """The apparatus of an experiment under the conventions chosen as SVG, or its circuit from the folder ``circuits``."""
    drawn = pictures.drawing(experiment, options, folder)
    return Markup(drawn) if drawn else None


@dataclass(frozen=True, slots=True)
class CourseExperiment:
    """An experiment as the experiments offers it. ``version``: of one that the course wrote itself, 0 for those that ship; ``words``: what a
    search looks through."""

    definition: Definition
    version: int
    words: str

    @property
    def id(self) -> str:
        return self.definition.id


def _words(definition: Definition) -> str:
    labels = [r.label for r in definition.results.values()] + [s.label for s in definition.series.values()]
    parts = [
        definition.id,
        definition.title,
        definition.field,
        definition.aim,
        *definition.apparatus,
        *definition.keywords,
        *labels,
    ]
    return " ".join(parts).lower()


def course_experiments(connection: Connection, course: Course) -> dict[str, CourseExperiment]:
    """Every experiment that can be started: those that ship, and the newest version of each that the course wrote."""
    found = {name: CourseExperiment(d, 0, _words(d)) for name, d in catalogue.experiments().items()}
    for own in own_store.latest(connection, course.id):
        definition = definition_of(connection, own.hash)
        found[own.experiment] = CourseExperiment(definition, own.version, _words(definition))
    return found


def _fields(experiments: Mapping[str, CourseExperiment], wanted: str) -> list[tuple[str, list[CourseExperiment]]]:
    """The experiments by field, as far as every word of ``wanted`` is found in it; the course's own first."""
    words = wanted.lower().split()
    fitting = [e for e in experiments.values() if all(w in e.words for w in words)]
    own = [e for e in fitting if e.version]
    fields = [(f, [e for e in fitting if e.definition.field == f and not e.version]) for f in FIELDS]
    return [(name, entries) for name, entries in [("written here", own), *fields] if entries]


def newest_laboratory(connection: Connection, course: Course) -> Laboratory:
    """The laboratory as it stands now."""
    return laboratory_of(connection, course.id, course.version, course.digest)


@pages.get("/")
def page() -> ResponseReturnValue:
    wanted = request.args.get("q", "").strip()[:80]
    with transaction(pool()) as connection:
        course, benches = course_of(connection)
        fields = _fields(course_experiments(connection, course), wanted)
        rules = newest_laboratory(connection, course).house_rules()
    return render_template(
        "experiments/page.html",
        course=course,
        benches=benches,
        begun=request.args.get("begun") == "yes",
        rules=rules,
        fields=fields,
        wanted=wanted,
        drawing=drawing,
    )


@pages.get("/experiments.json")
def as_json() -> ResponseReturnValue:
    """The experiments as data."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        experiments = course_experiments(connection, course)
    return jsonify(
        course=course.title,
        experiments=[
            {
                "id": e.id,
                "title": e.definition.title,
                "field": e.definition.field,
                "aim": e.definition.aim,
                "minutes": e.definition.minutes,
                "version": e.version or None,
            }
            for _, own in _fields(experiments, request.args.get("q", ""))
            for e in own
        ],
    )


def _experiment(connection: Connection, course: Course, name: str) -> CourseExperiment:
    found = course_experiments(connection, course).get(name)
    if found is None:
        abort(404)
    return found


@pages.get("/experiments/<name>")
def experiment(name: str) -> ResponseReturnValue:
    return _experiment_page(name, dict(request.args), {})


@pages.get("/experiments/<name>.json")
def experiment_json(name: str) -> ResponseReturnValue:
    """The definition as it is."""
    with transaction(pool()) as connection:
        course, _ = course_of(connection)
        return jsonify(_experiment(connection, course, name).definition.document())


def chosen_options(definition: Definition, typed: Mapping[str, str]) -> dict[str, str]:
    """The conventions in a form's fields that are none of the defaults; what is no choice is passed over."""
    found = {}
    for name, option in definition.options.items():
        choice = typed.get(f"option-{name}", option.default)
        if choice in option.choices and choice != option.default:
            found[name] = choice
    return found


def _experiment_page(name: str, typed: Mapping[str, str], faults: Mapping[str, str]) -> str:
    with transaction(pool()) as connection:
        course, benches = course_of(connection)
        shown = _experiment(connection, course, name)
        laboratory = newest_laboratory(connection, course)
    options = chosen_options(shown.definition, typed)
    blank = unstarted(shown.definition, laboratory, options)
    promises, minutes = example.promises(blank)
    return render_template(
        "experiments/experiment.html",
        promises=promises,
        minutes=minutes,
        g_here=example.gravity(blank),
        finished=example.finished(shown.definition, options),
        conventions_change=conventions.what_change(blank),
        d=blank.definition,
        options=options,
        usual=shown.definition.title,
        version=shown.version,
        tables=tables.tables(blank),
        fields=tables.quantities(blank),
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
    typed = {field: text.strip() for field, text in request.form.items() if field != "csrf_token"}
    faults: dict[str, str] = {}
    try:
        key = UUID(typed.get("key", ""))
    except ValueError:
        typed["key"], key = "", uuid4()
    title = typed.get("title", "")
    if not 1 <= len(title) <= 120 or "\x00" in title:
        faults["title"] = "Give the run a title of up to 120 characters."
    with transaction(pool()) as connection:
        course, benches = course_of(connection)
        definition = _experiment(connection, course, name).definition
        chosen = next((b for b in benches if str(b.id) == typed.get("bench")), None)
        try:
            if chosen is None and typed.get("bench-name") and course.joining == "open" and not faults:
                chosen = course_service.join(connection, course, typed["bench-name"])
            elif chosen is None:
                faults["bench"] = "Choose a bench."
        except CavrelError as fault:
            faults["bench"] = fault.what
        try:
            planned = _planned(definition, typed)
        except CavrelError as fault:
            planned, faults["plan"] = [], f"The plan cannot be used: {fault}"
        if not faults and chosen is not None and not typed.get("another"):
            # A bench that begins the same experiment again most often meant to go on with it.
            standing = run_store.same(connection, course.id, chosen.name, name, key)
            if standing is not None:
                faults["again"] = str(standing)
        if not faults and chosen is not None:
            try:
                run = run_store.start(connection, course.id, chosen.id, definition, title, key)
            except run_store.KeyInUse:
                # The form came back from the browser's memory with the key of a run that it started: this is another run.
                key = uuid5(key, f"{chosen.id} {definition.content_hash()} {title}")
                run = run_store.start(connection, course.id, chosen.id, definition, title, key)
            made = [*_conventions(chosen_options(definition, typed)), *planned]
            if typed.get("on-screen") == "yes" and definition.simulate is not None:
                made.append(("run", "run:on-screen", {"value": True}))
            entry_store.append(connection, run, _entries(made, chosen.name, key))
    if faults:
        return _experiment_page(name, typed, faults), 422
    return redirect(url_for("plan.page" if typed.get("first") == "plan" else "measure.page", run=run), 303)


def _planned(definition: Definition, typed: Mapping[str, str]) -> list[Made]:
    """The plan that a form brings, from a field or a file, as entries; none where it brings none. Raises CavrelError."""
    sent = request.files.get("plan-file")
    text = sent.read(MOST_OF_PLAN + 1).decode("utf-8", "replace") if sent and sent.filename else typed.get("plan", "")
    if not text.strip():
        return []
    if len(text) > MOST_OF_PLAN:
        raise RunError("", "this file is too long to be a plan")
    try:
        document = json.loads(text)
    except (ValueError, RecursionError) as fault:
        raise RunError("", f"cannot be read as JSON: {fault}") from fault
    run = runs.load(document)
    of = run.experiment if isinstance(run.experiment, str) else str(run.experiment.get("id", ""))
    if of != definition.id:
        raise RunError("experiment", f"this plan is for '{of}', not for '{definition.id}'")
    return [*plan_entries(definition, run), *set_quantities(definition, run)]


def _conventions(options: Mapping[str, str]) -> list[Made]:
    """The conventions chosen at the start."""
    return [("option", f"option:{name}", {"choice": choice}) for name, choice in options.items()]


def _entries(made: list[Made], bench: str, key: UUID) -> list[NewEntry]:
    """A run's first entries; sent twice, they stand once."""
    now = datetime.now(timezone.utc)
    return [
        NewEntry(kind=kind, slot=slot, body=dict(body), author=bench, made_at=now, client_key=uuid5(key, slot))
        for kind, slot, body in made
    ]
