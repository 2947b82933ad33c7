"""A lesson that rests and goes on, and waits that take longer than was planned."""

import math
from datetime import datetime

from cavrel.core.lesson.document import LONGEST, Block, Lesson, LessonError


def resumed(lesson: Lesson, now: datetime) -> Lesson:
    """The lesson going on: what had not begun starts later by as long as it rested, and what was under way takes so much longer.

    Raises LessonError where it does not rest.
    """
    if lesson.paused is None or lesson.started is None:
        raise LessonError("", "the lesson does not rest")
    rested = max(0, math.ceil((now - lesson.paused).total_seconds() / 60))
    at = (lesson.paused - lesson.started).total_seconds() / 60
    blocks = tuple(_later(lesson, block, at, rested) for block in lesson.blocks) if rested else lesson.blocks
    return lesson.model_copy(update={"paused": None, "blocks": blocks})


def stretched(lesson: Lesson, key: str, minutes: int, now: datetime) -> Lesson:
    """With a block's wait longer by ``minutes``; of several, the first that is not over. Raises LessonError where it waits for nothing."""
    block = next((b for b in lesson.blocks if b.key == key), None)
    if block is None:
        raise LessonError(key, "is no longer in this lesson; it was removed meanwhile")
    segments = lesson.segments(block)
    gone = (now - lesson.started).total_seconds() / 60 - block.start if lesson.started is not None else 0.0
    ends = [sum(segment.minutes for segment in segments[: i + 1]) for i in range(len(segments))]
    waits = [i for i, segment in enumerate(segments) if segment.kind == "wait" and ends[i] > gone]
    if not waits or not 0 < minutes <= LONGEST:
        raise LessonError(key, "there is no wait in it that could take longer")
    made = _longer(block, waits[0], minutes)
    return lesson.model_copy(update={"blocks": tuple(made if b.key == key else b for b in lesson.blocks)})


def _later(lesson: Lesson, block: Block, at: float, rested: int) -> Block:
    if block.start >= at:
        return block.model_copy(update={"start": min(block.start + rested, LONGEST)})
    end = float(block.start)
    for index, segment in enumerate(lesson.segments(block)):
        end += segment.minutes
        if at < end:
            return _longer(block, index, rested)
    return block


def _longer(block: Block, index: int, minutes: int) -> Block:
    whole = [*block.longer, *(0 for _ in range(index + 1 - len(block.longer)))]
    whole[index] = min(whole[index] + minutes, LONGEST)
    return block.model_copy(update={"longer": tuple(whole)})
