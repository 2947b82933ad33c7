"""Lessons: what an experiment takes of an evening, changes kept one after the other, and a start that makes the runs with their plans."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, timezone
from typing import Any
from uuid import NAMESPACE_URL, UUID, uuid5

from cavrel import catalogue
from cavrel.core import lesson as lessons
from cavrel.core.definition import Definition, choose
from cavrel.core.document.forecast import change_of
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import Laboratory
from cavrel.core.lesson import Block, Lesson, LessonError, Segment, Task
from cavrel.core.lesson.calls import calls
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.planned import plan_entries, set_quantities
from cavrel.core.plan.changes import Setup
from cavrel.core.plan.forecast import Forecast
from cavrel.core.plan.improvements import Planner
from cavrel.service.laboratories import taken
from cavrel.store import courses
from cavrel.store import entries as entry_store
from cavrel.store import lessons as store
from cavrel.store import runs as run_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Connection

HOURS = 24
"""A lesson that began longer ago calls nothing any more."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Due:
    """Something to be called. ``key``: what it is known by. ``at``: the moment. ``bench``: whose. ``say``: in words. ``run``: the run, if any."""

    key: str
    at: datetime
    bench: str
    say: str
    run: int | None


def task_of(
    definition: Definition, laboratory: Laboratory, minutes: int | None = None, options: Mapping[str, str] | None = None
) -> Task:
    """What an experiment takes: how it goes at the pace its author states, within ``minutes`` if given, and the instruments it needs.

    Without a simulation it takes as long as its author says, at a stretch.
    """
    chosen = choose(definition, options or {})
    needs: dict[str, int] = {}
    for own in chosen.instruments.values():
        if own.kind:
            needs[own.kind] = needs.get(own.kind, 0) + 1
    stated = minutes or definition.minutes or 60
    segments = [Segment(kind="work", minutes=stated)]
    planned = _planned(definition, laboratory, minutes, options)
    if planned is not None:
        planner, setup = planned
        found = planner.forecast(setup, drawn=1)
        segments = _whole_minutes(planner, setup, found)
    return Task(
        experiment=definition.id,
        title=definition.title,
        segments=tuple(segments),
        needs=needs,
        minutes=minutes,
        options=dict(options or {}),
    )


def _whole_minutes(planner: Planner, setup: Setup, found: Forecast) -> list[Segment]:
    stretches = planner.timeline(found, setup)
    return [
        Segment(
            kind=s.kind, minutes=min(max(1, math.ceil(s.minutes - 0.25)), lessons.document.LONGEST), say=s.say[:400]
        )
        for s in stretches
    ]


def _planned(
    definition: Definition, laboratory: Laboratory, minutes: int | None, options: Mapping[str, str] | None
) -> tuple[Planner, Setup] | None:
    """The plan of an experiment within ``minutes``; None where nothing can be predicted."""
    of_course = taken(choose(definition, options or {}), laboratory)
    try:
        planner = catalogue.planner(definition, options, laboratory.house_rules(), of_course.accepted, laboratory)
        setup = Setup(instruments=of_course.instruments)
        if minutes is not None:
            found = planner.forecast(setup, drawn=1)
            first = next((one.name for one in found.results.values() if not one.reason and one.u > 0), None)
            if first is not None and planner.minutes(found, setup) > minutes:
                setup, _ = planner.within(setup, first, float(minutes))
    except CavrelError:
        return None
    return planner, setup


def stock_of(laboratory: Laboratory) -> dict[str, int]:
    """How many of each kind of instrument there are; kinds that the laboratory does not hold are never short."""
    stock: dict[str, int] = {}
    for own in laboratory.instruments.values():
        stock[own.kind] = stock.get(own.kind, 0) + own.count
    return stock


def read(kept: store.Kept) -> Lesson:
    """The lesson that is kept. Raises LessonError."""
    return lessons.load(kept.body)


def change(connection: Connection, course: int, lesson: int, make: Callable[[Lesson], Lesson]) -> tuple[int, Lesson]:
    """Keep the next state of a lesson, made from how it stands now; returns its number and itself. Raises LookupError, LessonError."""
    store.lock(connection, lesson)
    kept = store.get(connection, course, lesson)
    if kept is None:
        raise LookupError(lesson)
    before = read(kept)
    after = make(before)
    if after == before:
        return kept.state, before
    return store.add(connection, lesson, document(after), after.started), after


def document(lesson: Lesson) -> dict[str, Any]:
    """A lesson as it is kept."""
    return {**lesson.model_dump(mode="json", exclude_defaults=True), "format": lesson.format}


def moved(lesson: Lesson, key: str, bench: str, start: int) -> Lesson:
    """With a block somewhere else. Raises LessonError where that is no place."""
    block = next((b for b in lesson.blocks if b.key == key), None)
    if block is None:
        raise LessonError(key, "is no longer in this lesson; it was removed meanwhile")
    other = f"{bench}/{block.experiment}"
    if other != key and any(b.key == other for b in lesson.blocks):
        raise LessonError(key, f"{bench} does “{lesson.task(block.experiment).title}” already")
    if block.run is not None and bench != block.bench:
        raise LessonError(
            key, f"its run has started at {block.bench}; move the run to another bench in the list of runs"
        )
    made = Block(
        bench=bench,
        experiment=block.experiment,
        start=min(max(start, 0), lessons.document.LONGEST),
        run=block.run,
        longer=block.longer,
    )
    return checked(lesson, blocks=tuple(made if b.key == key else b for b in lesson.blocks))


def checked(lesson: Lesson, **changed: object) -> Lesson:
    """A lesson with parts changed, judged anew. Raises LessonError."""
    return lessons.load({**lesson.model_dump(mode="json"), **{k: _plain(v) for k, v in changed.items()}})


def _plain(value: object) -> object:
    if isinstance(value, tuple):
        return [_plain(one) for one in value]
    dump = getattr(value, "model_dump", None)
    return dump(mode="json") if dump else value.isoformat() if isinstance(value, datetime) else value


def start(
    connection: Connection,
    course: int,
    lesson: int,
    experiments: Mapping[str, Definition],
    laboratory: Laboratory,
    now: datetime | None = None,
) -> Lesson:
    """Begin a lesson: every block that has no run gets one, with its plan. Begun twice, it has begun once. Raises LookupError, LessonError."""
    benches = {bench.name: bench.id for bench in courses.benches(connection, course)}

    def begun(before: Lesson) -> Lesson:
        moment = before.started or now or datetime.now(timezone.utc)
        plans = {task.experiment: _plan_of(experiments, laboratory, task) for task in before.tasks}
        blocks = []
        for block in before.blocks:
            if block.run is not None:
                blocks.append(block)
                continue
            if block.bench not in benches:
                raise LessonError(
                    block.bench,
                    "is no longer a bench of this course; move its experiments to another, or remove them",
                )
            definition, made = plans[block.experiment]
            key = uuid5(NAMESPACE_URL, f"lesson {lesson} {block.key}")
            run = run_store.start(connection, course, benches[block.bench], definition, definition.title, key)
            if not entry_store.newest(connection, run):
                entry_store.append(connection, run, _entries(made, before.title, key, moment))
            blocks.append(block.model_copy(update={"run": run}))
        return checked(before, blocks=tuple(blocks), started=moment)

    return change(connection, course, lesson, begun)[1]


def _plan_of(
    experiments: Mapping[str, Definition], laboratory: Laboratory, task: Task
) -> tuple[Definition, list[tuple[str, str, Mapping[str, object]]]]:
    """The experiment of a task, and its plan as entries. Raises LessonError where it is no longer among the experiments."""
    definition = experiments.get(task.experiment)
    if definition is None:
        raise LessonError(task.experiment, "is no longer among the experiments; remove it from the lesson")
    planned = _planned(definition, laboratory, task.minutes, task.options)
    body: dict[str, object] = {"format": runs.FORMAT, "experiment": task.experiment, "options": task.options}
    if planned is not None and task.minutes is not None:
        change = change_of(planned[1])
        body |= {
            key: value for key, value in change.items() if key != "instruments"
        }  # the laboratory gives those anyway
    run = runs.load(body)
    return definition, [*plan_entries(definition, run), *set_quantities(definition, run)]


def _entries(
    made: list[tuple[str, str, Mapping[str, object]]], author: str, key: UUID, moment: datetime
) -> list[NewEntry]:
    return [
        NewEntry(kind=kind, slot=slot, body=dict(body), author=author[:80], made_at=moment, client_key=uuid5(key, slot))
        for kind, slot, body in made
    ]


def due(connection: Connection, course: int) -> list[Due]:
    """What is called in every page of the course: lessons that have begun, and waits that benches started."""
    found = []
    for kept in store.running(connection, course, HOURS):
        lesson = read(kept)
        by_key = {block.key: block.run for block in lesson.blocks}
        for call in calls(lesson):
            found.append(
                Due(
                    key=f"{kept.id}:{call.key}",
                    at=call.at,
                    bench=call.bench,
                    say=call.say,
                    run=by_key.get(call.key.rpartition("@")[0]),
                )
            )
    for wait in store.waits(connection, course, HOURS):
        try:
            at = datetime.fromisoformat(str(wait.body["until"]).replace("Z", "+00:00"))
        except ValueError:
            continue
        if at.tzinfo is not None:
            say = f"“{wait.title}”: the wait is over"
            found.append(Due(key=f"wait:{wait.entry}", at=at, bench=wait.bench, say=say, run=wait.run))
    return sorted(found, key=lambda one: one.at)
