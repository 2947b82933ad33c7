"""The lesson document, ``cavrel-lesson/1``: what there is to do, with what, and when each bench does it."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError, model_validator

from cavrel.core.definition import Identifier, first_fault
from cavrel.core.definition.parts import Model
from cavrel.core.errors import CavrelError

FORMAT = "cavrel-lesson/1"
LONGEST = 720
"""Minutes of a lesson."""
MOST_BENCHES, MOST_TASKS = 60, 12
GRID = 5
"""Minutes between the starts that are proposed."""

Name = Annotated[str, Field(min_length=1, max_length=40)]


class LessonError(CavrelError):
    """A lesson that cannot be used."""


class Segment(Model):
    """A stretch of an experiment. ``kind``: ``set up``, ``work`` or ``wait``, in which the hands are free; ``say``: what is waited for."""

    kind: Literal["set up", "work", "wait"]
    minutes: Annotated[int, Field(ge=1, le=LONGEST)]
    say: Annotated[str, Field(max_length=400)] = ""


class Task(Model):
    """An experiment of the lesson.

    ``experiment``: its id.
    ``title``: what it is called.
    ``segments``: how it goes, from set-up to the last reading.
    ``needs``: kind of instrument -> how many it takes while it lasts.
    ``minutes``: that it is to take, waits aside; none for what its plan takes.
    ``options``: conventions of its runs.
    """

    experiment: Identifier
    title: Annotated[str, Field(min_length=1, max_length=80)]
    segments: Annotated[tuple[Segment, ...], Field(min_length=1, max_length=12)]
    needs: dict[Annotated[str, Field(max_length=60)], Annotated[int, Field(ge=1, le=60)]] = {}
    minutes: Annotated[int, Field(ge=1, le=LONGEST)] | None = None
    options: dict[str, str] = {}

    @property
    def lasting(self) -> int:
        """Minutes from its first to its last."""
        return sum(segment.minutes for segment in self.segments)

    def hands(self) -> tuple[tuple[int, int], ...]:
        """Minutes from its start in which somebody has to be at it, as (from, to)."""
        return busy(self.segments)


def busy(segments: Sequence[Segment]) -> tuple[tuple[int, int], ...]:
    """Minutes from the first segment's start in which somebody has to be there, as (from, to)."""
    found: list[tuple[int, int]] = []
    at = 0
    for segment in segments:
        if segment.kind != "wait":
            if found and found[-1][1] == at:
                found[-1] = found[-1][0], at + segment.minutes
            else:
                found.append((at, at + segment.minutes))
        at += segment.minutes
    return tuple(found)


class Block(Model):
    """An experiment at a bench.

    ``start``: minutes after the lesson's beginning.
    ``run``: the run that was started for it.
    ``longer``: minutes by which each of its stretches takes longer here, in their order; none for those that are not named.
    """

    bench: Name
    experiment: Identifier
    start: Annotated[int, Field(ge=0, le=LONGEST)]
    run: Annotated[int, Field(ge=1)] | None = None
    longer: Annotated[tuple[Annotated[int, Field(ge=0, le=LONGEST)], ...], Field(max_length=12)] = ()

    @property
    def key(self) -> str:
        """What it is known by: a bench does an experiment once."""
        return f"{self.bench}/{self.experiment}"


class Lesson(Model):
    """A lesson.

    ``title``: what it is called.
    ``begins``: planned beginning, local time, as ``2026-11-26T18:30``.
    ``minutes``: how long it is.
    ``between``: minutes to clear a bench between two experiments.
    ``rotations``: experiments each bench does.
    ``benches``: who takes part.
    ``tasks``: what there is to do.
    ``stock``: kind of instrument -> how many there are; kinds that are not named are never short.
    ``blocks``: the timetable.
    ``started``: the moment it was started, with its zone; none before that.
    ``paused``: the moment since when it rests; none while it goes on.
    ``ended``: the moment it was ended; nothing is called after that.
    """

    format: Literal["cavrel-lesson/1"] = "cavrel-lesson/1"
    title: Annotated[str, Field(min_length=1, max_length=120)]
    begins: Annotated[str, Field(pattern=r"^(\d{4}-\d{2}-\d{2}T\d{2}:\d{2})?$")] = ""
    minutes: Annotated[int, Field(ge=10, le=LONGEST)] = 90
    between: Annotated[int, Field(ge=0, le=60)] = 5
    rotations: Annotated[int, Field(ge=1, le=MOST_TASKS)] = 1
    benches: Annotated[tuple[Name, ...], Field(max_length=MOST_BENCHES)] = ()
    tasks: Annotated[tuple[Task, ...], Field(max_length=MOST_TASKS)] = ()
    stock: dict[Annotated[str, Field(max_length=60)], Annotated[int, Field(ge=0, le=4000)]] = {}
    blocks: Annotated[tuple[Block, ...], Field(max_length=MOST_BENCHES * MOST_TASKS)] = ()
    started: datetime | None = None
    paused: datetime | None = None
    ended: datetime | None = None

    @model_validator(mode="after")
    def _hangs_together(self) -> "Lesson":
        known = {task.experiment for task in self.tasks}
        if len(known) < len(self.tasks):
            raise ValueError("an experiment stands twice among the tasks")
        if len(set(self.benches)) < len(self.benches):
            raise ValueError("a bench stands twice")
        seen: set[str] = set()
        for block in self.blocks:
            if block.bench not in self.benches:
                raise ValueError(f"'{block.bench}' takes no part in this lesson")
            if block.experiment not in known:
                raise ValueError(f"'{block.experiment}' is no task of this lesson")
            if block.key in seen:
                raise ValueError(f"{block.bench} does '{block.experiment}' twice")
            seen.add(block.key)
        for name, moment in (("started", self.started), ("paused", self.paused), ("ended", self.ended)):
            if moment is not None and moment.tzinfo is None:
                raise ValueError(f"the moment it was {name} says its zone, such as +00:00")
            if moment is not None and self.started is None:
                raise ValueError(f"it was {name} and never started")
        return self

    def task(self, experiment: str) -> Task:
        """The task of an experiment. Raises LookupError."""
        for task in self.tasks:
            if task.experiment == experiment:
                return task
        raise LookupError(experiment)

    def segments(self, block: Block) -> tuple[Segment, ...]:
        """How a block goes, its longer stretches as long as they are here."""
        whole = self.task(block.experiment).segments
        more = (*block.longer, *(0 for _ in whole))
        return tuple(
            segment.model_copy(update={"minutes": segment.minutes + minutes}) if minutes else segment
            for segment, minutes in zip(whole, more, strict=False)
        )

    def hands(self, block: Block) -> tuple[tuple[int, int], ...]:
        """Minutes from a block's start in which its bench is busy with it."""
        return busy(self.segments(block)) if block.longer else self.task(block.experiment).hands()

    def end(self, block: Block) -> int:
        """Minutes after the lesson's beginning at which a block ends."""
        return block.start + self.task(block.experiment).lasting + sum(block.longer)


def load(document: Any) -> Lesson:
    """Validate a lesson document read from JSON. Raises LessonError naming the first place at fault."""
    if not isinstance(document, Mapping):
        raise LessonError("", f'a lesson is one JSON object: {{"format": "{FORMAT}", ...}}')
    try:
        return Lesson.model_validate(document)
    except ValidationError as fault:
        raise LessonError(*first_fault(fault)) from fault
