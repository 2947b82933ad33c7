"""What the lesson's page shows: the timetable, what collides, what is called when, and what can be chosen."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from cavrel.core.definition import Definition
from cavrel.core.lesson import Lesson, collisions
from cavrel.core.lesson.calls import calls
from cavrel.core.words import counted
from cavrel.graph.timetable import Bar, timetable
from cavrel.present import texts, zones


def content(lesson: Lesson, now: datetime | None = None) -> dict[str, Any]:
    """The timetable with everything said of it."""
    found = collisions(lesson)
    amiss = {key for one in found for key in one.blocks}
    begins = _begins(lesson)
    gone = (now - lesson.started).total_seconds() / 60 if now is not None and lesson.started is not None else None
    ends = max((lesson.end(b) for b in lesson.blocks), default=0)
    return {
        "lesson": lesson,
        "drawing": timetable(list(lesson.benches), _bars(lesson, amiss, begins), lesson.minutes, begins, gone)
        if lesson.blocks
        else "",
        "collisions": [one.say for one in found],
        "waits": _waits(lesson, begins),
        "ends": clock(begins + ends) if lesson.blocks else "",
        "over": max(ends - lesson.minutes, 0),
        "listed": _listed(lesson, begins),
        "missing": _missing(lesson),
    }


EARLY = 15
"""Minutes before its time from which a start is asked about."""


def doubts(lesson: Lesson, now: datetime) -> list[str]:
    """What speaks against starting a lesson now: it clashes, or its time is yet to come. One that has started is only added to."""
    if lesson.started is not None:
        return []
    found = [f"{one.say}." for one in collisions(lesson)]
    here = zones.local(now).replace(tzinfo=None)
    begins = datetime.fromisoformat(lesson.begins) if lesson.begins else here
    early = (begins - here).total_seconds() / 60
    if early > EARLY:
        found.append(
            f"It is planned for {texts.day_and_time(begins)}, and its waits are called from the moment it starts."
        )
    return found


def clock(minute: int) -> str:
    """Minutes after midnight as ``18:30``."""
    return f"{minute // 60 % 24:02d}:{minute % 60:02d}"


def _begins(lesson: Lesson) -> int:
    """Minutes after midnight, local time: as planned, or as it began."""
    if lesson.started is not None:
        local = zones.local(lesson.started)
        return local.hour * 60 + local.minute
    text = lesson.begins.partition("T")[2]
    return int(text[:2]) * 60 + int(text[3:]) if text else 18 * 60


def _bars(lesson: Lesson, amiss: set[str], begins: int) -> list[Bar]:
    found = []
    for block in lesson.blocks:
        task = lesson.task(block.experiment)
        segments = lesson.segments(block)
        waits = [s.minutes for s in segments if s.kind == "wait"]
        waiting = f", of it {counted(sum(waits), 'minute')} waiting" if waits else ""
        says = f"{block.bench}: {task.title}, {clock(begins + block.start)} to {clock(begins + lesson.end(block))}{waiting}"
        found.append(
            Bar(
                key=block.key,
                row=lesson.benches.index(block.bench),
                start=block.start,
                stretches=tuple((s.kind, s.minutes) for s in segments),
                title=task.title,
                says=f"{says}{', clashes' if block.key in amiss else ''}",
                amiss=block.key in amiss,
                run=block.run,
            )
        )
    return found


def _waits(lesson: Lesson, begins: int) -> list[str]:
    """The waits in words, once for each experiment."""
    return [
        f"“{task.title}”: {counted(s.minutes, 'minute')} in which the bench is free. {s.say}".strip()
        for task in lesson.tasks
        for s in task.segments
        if s.kind == "wait"
    ]


def _listed(lesson: Lesson, begins: int) -> list[dict[str, Any]]:
    """The timetable as a table, for print and for who does not see the drawing."""
    return [
        {
            "bench": bench,
            "blocks": [
                {
                    "key": b.key,
                    "title": lesson.task(b.experiment).title,
                    "from": clock(begins + b.start),
                    "to": clock(begins + lesson.end(b)),
                    "start": b.start,
                    "run": b.run,
                    "waits": any(s.kind == "wait" for s in lesson.task(b.experiment).segments),
                }
                for b in sorted((b for b in lesson.blocks if b.bench == bench), key=lambda b: b.start)
            ],
        }
        for bench in lesson.benches
    ]


def _missing(lesson: Lesson) -> list[str]:
    """What the laboratory lays no hand on: kinds that are needed and not counted there."""
    return sorted({kind for task in lesson.tasks for kind in task.needs if kind not in lesson.stock})


def choices(lesson: Lesson, experiments: Mapping[str, Definition], benches: Sequence[str]) -> dict[str, Any]:
    """What the form offers."""
    chosen = {task.experiment: task for task in lesson.tasks}
    return {
        "all_benches": list(dict.fromkeys([*benches, *lesson.benches])),
        "offered": [
            {
                "id": d.id,
                "title": d.title,
                "minutes": d.minutes,
                "chosen": d.id in chosen,
                "own": (chosen[d.id].minutes or "") if d.id in chosen else "",
                "takes": chosen[d.id].lasting if d.id in chosen else None,
            }
            for d in experiments.values()
        ],
    }


def calls_of(lesson: Lesson) -> list[dict[str, str]]:
    """What will be called, with its time of day."""
    return [
        {"at": zones.local(call.at).strftime("%H:%M"), "say": f"{call.bench}: {call.say}"} for call in calls(lesson)
    ]


def listed(kept: Sequence[tuple[int, Lesson]]) -> list[dict[str, Any]]:
    """The lessons of a course in a line each."""
    return [
        {
            "id": number,
            "title": lesson.title,
            "begins": lesson.begins.replace("T", " ") or "no date yet",
            "says": ", ".join(_sizes(lesson)),
            "started": lesson.started is not None,
        }
        for number, lesson in kept
    ]


def _sizes(lesson: Lesson) -> list[str]:
    return [
        counted(len(lesson.benches), "bench", "benches"),
        counted(len(lesson.tasks), "experiment"),
        counted(lesson.minutes, "minute"),
    ]
