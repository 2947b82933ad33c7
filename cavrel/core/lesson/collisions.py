"""What cannot be in a timetable: two things for one pair of hands, more instruments than there are, minutes after the end."""

from dataclasses import dataclass

from cavrel.core.lesson.document import Block, Lesson
from cavrel.core.words import counted


@dataclass(frozen=True, slots=True, kw_only=True)
class Collision:
    """``say``: what collides, in words. ``blocks``: keys of those that do. ``at``: minutes after the beginning."""

    say: str
    blocks: tuple[str, ...]
    at: int


def collisions(lesson: Lesson) -> list[Collision]:
    """Everything that cannot be, in the order of time."""
    found = [*_hands(lesson), *_instruments(lesson), *_late(lesson)]
    return sorted(found, key=lambda one: (one.at, one.say))


def _hands(lesson: Lesson) -> list[Collision]:
    found = []
    for bench in lesson.benches:
        own = sorted((b for b in lesson.blocks if b.bench == bench), key=lambda b: b.start)
        for i, first in enumerate(own):
            for second in own[i + 1 :]:
                at = overlap(lesson, first, second)
                if at is not None:
                    titles = " and ".join(f"“{lesson.task(b.experiment).title}”" for b in (first, second))
                    found.append(
                        Collision(
                            say=f"{bench} would do {titles} at the same time",
                            blocks=(first.key, second.key),
                            at=at,
                        )
                    )
    return found


def overlap(lesson: Lesson, first: Block, second: Block) -> int | None:
    """The first minute in which two blocks of one bench both need its hands; those between two experiments count for the clearing."""
    for one, other, gap in ((first, second, lesson.between), (second, first, lesson.between)):
        for a, b in lesson.hands(one):
            begin, end = one.start + a, one.start + b
            # Clearing up takes its time after the last reading, not when the hands go over to something that waits.
            over = end + (gap if end == lesson.end(one) else 0)
            for c, d in lesson.hands(other):
                if begin < other.start + d and other.start + c < over:
                    return max(begin, other.start + c)
    return None


def _instruments(lesson: Lesson) -> list[Collision]:
    found = []
    for kind, many in lesson.stock.items():
        users = [
            (b, lesson.task(b.experiment).needs[kind]) for b in lesson.blocks if kind in lesson.task(b.experiment).needs
        ]
        said: set[tuple[str, ...]] = set()
        for moment in sorted({b.start for b, _ in users}):
            now = [(b, n) for b, n in users if b.start <= moment < lesson.end(b)]
            wanted = sum(n for _, n in now)
            keys = tuple(sorted(b.key for b, _ in now))
            if wanted > many and keys not in said:
                said.add(keys)
                who = ", ".join(sorted({b.bench for b, _ in now}))
                have = f"there {'is' if many == 1 else 'are'} {many}" if many else "there is none"
                found.append(
                    Collision(say=f"{counted(wanted, kind)} at once for {who}, and {have}", blocks=keys, at=moment)
                )
    return found


def _late(lesson: Lesson) -> list[Collision]:
    return [
        Collision(
            say=f"{b.bench} would end “{lesson.task(b.experiment).title}” {counted(over, 'minute')} after the lesson",
            blocks=(b.key,),
            at=lesson.minutes,
        )
        for b in lesson.blocks
        if (over := lesson.end(b) - lesson.minutes) > 0
    ]
