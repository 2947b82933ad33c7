"""A lesson: experiments at benches, on a time axis."""

from cavrel.core.lesson.collisions import Collision, collisions
from cavrel.core.lesson.document import FORMAT, Block, Lesson, LessonError, Segment, Task, load
from cavrel.core.lesson.history import before_that
from cavrel.core.lesson.pauses import resumed, stretched
from cavrel.core.lesson.schedule import propose

__all__ = [
    "FORMAT",
    "Block",
    "Collision",
    "Lesson",
    "LessonError",
    "Segment",
    "Task",
    "before_that",
    "collisions",
    "load",
    "propose",
    "resumed",
    "stretched",
]
