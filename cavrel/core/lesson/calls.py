"""What is called when in a lesson that has begun: waits that end, and the next experiment."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from cavrel.core.lesson.document import Lesson


@dataclass(frozen=True, slots=True, kw_only=True)
class Call:
    """``key``: what it is known by, so that who has heard it is not told twice. ``at``: the moment. ``bench``: whose it is. ``say``: in words."""

    key: str
    at: datetime
    bench: str
    say: str


def calls(lesson: Lesson) -> list[Call]:
    """Every call of a lesson that has begun, in the order of time; none before that or after its end, and while it rests those before."""
    if lesson.started is None or lesson.ended is not None:
        return []
    found = []
    for block in lesson.blocks:
        task = lesson.task(block.experiment)
        at = block.start
        if at:
            moment = lesson.started + timedelta(minutes=at)
            found.append(Call(key=f"{block.key}@{at}", at=moment, bench=block.bench, say=f"now “{task.title}”"))
        for segment in lesson.segments(block):
            at += segment.minutes
            if segment.kind == "wait":
                moment = lesson.started + timedelta(minutes=at)
                what = f" {segment.say}" if segment.say else ""
                say = f"“{task.title}”: the wait is over.{what}"
                found.append(Call(key=f"{block.key}@{at}", at=moment, bench=block.bench, say=say))
    due = [call for call in found if lesson.paused is None or call.at <= lesson.paused]
    return sorted(due, key=lambda call: (call.at, call.key))
