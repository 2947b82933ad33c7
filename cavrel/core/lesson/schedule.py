"""Proposing a timetable: each block in turn at its earliest place, and many orders of the blocks tried.

A serial schedule with a random search over its orders (Kolisch and Hartmann 1999, resource-constrained project scheduling): the lengths of a
school evening need no proof of the optimum, and a bound says when nothing better can come.
"""

import random
from collections.abc import Sequence
from dataclasses import dataclass

from cavrel.core.lesson.document import GRID, LONGEST, Block, Lesson, Task

TRIES = 500
"""Orders tried where the first is not the best there can be."""
MOST_PLACED = 12_000
"""Blocks placed in all of them: a school of forty benches gets fewer tries."""
SEED = 20


class _Laid:
    """What is placed so far, as busy stretches: (from, to) of each bench's hands, (from, to, how many) of each kind of instrument."""

    def __init__(self, lesson: Lesson) -> None:
        self.lesson = lesson
        self.tasks = {task.experiment: _Shape.of(lesson, task) for task in lesson.tasks}
        self.blocks: list[Block] = []
        self.hands: dict[str, list[tuple[int, int]]] = {}
        self.taken: dict[str, list[tuple[int, int, int]]] = {}

    def place(self, bench: str, experiment: str) -> None:
        """At the earliest place where nothing collides; past the longest lesson it is left out."""
        shape, busy = self.tasks[experiment], self.hands.setdefault(bench, [])
        start = 0
        while start + shape.lasting <= LONGEST:
            later = max(self._hands_free(shape, busy, start), self._instruments_free(shape, start))
            if later == start:
                break
            start = -(-later // GRID) * GRID
        else:
            return
        self.blocks.append(Block.model_construct(bench=bench, experiment=experiment, start=start, run=None))
        busy += [(start + a, start + b) for a, b in shape.hands]
        for kind, many in shape.needs:
            self.taken.setdefault(kind, []).append((start, start + shape.lasting, many))

    @staticmethod
    def _hands_free(shape: "_Shape", busy: list[tuple[int, int]], start: int) -> int:
        """``start``, or the minute from which on it no longer collides with what it does collide with."""
        return max([start, *(e - a for a, b in shape.hands for f, e in busy if start + a < e and f < start + b)])

    def _instruments_free(self, shape: "_Shape", start: int) -> int:
        end, later = start + shape.lasting, start
        for kind, many in shape.needs:
            have = self.lesson.stock[kind]
            used = [(a, b, n) for a, b, n in self.taken.get(kind, ()) if a < end and start < b]
            for moment in (start, *(a for a, _, _ in used if a > start)):
                now = [(b, n) for a, b, n in used if a <= moment < b]
                if sum(n for _, n in now) + many > have:
                    later = max(later, min(b for b, _ in now))
        return later


@dataclass(frozen=True, slots=True)
class _Shape:
    """``lasting``: minutes. ``hands``: (from, to) in which the bench is busy, clearing it included. ``needs``: what can run short."""

    lasting: int
    hands: tuple[tuple[int, int], ...]
    needs: tuple[tuple[str, int], ...]

    @classmethod
    def of(cls, lesson: Lesson, task: Task) -> "_Shape":
        cleared = tuple((a, b + (lesson.between if b == task.lasting else 0)) for a, b in task.hands())
        # What there are too few of for one bench alone can never be; hands alone decide then, and the collision is said.
        needs = tuple((kind, many) for kind, many in task.needs.items() if many <= lesson.stock.get(kind, 0))
        return cls(task.lasting, cleared, needs)


def propose(lesson: Lesson) -> Lesson:
    """The lesson with a timetable of its benches, rotations, instruments and lengths; its old blocks are given up.

    What does not fit into the lesson stands after its end, where `collisions` says so.
    """
    if not lesson.tasks or not lesson.benches:
        return lesson.model_copy(update={"blocks": ()})
    order = _rotated(lesson)
    best = _laid(lesson, order)
    cost = _cost(lesson, best)
    draw = random.Random(SEED)
    bound = _bound(lesson)
    for _ in range(max(2, min(TRIES, MOST_PLACED // len(order)))):
        if max((lesson.end(b) for b in best), default=0) <= bound and cost[0] == 0:
            break
        other = _changed(order, draw)
        found = _laid(lesson, other)
        now = _cost(lesson, found)
        if now <= cost:
            order, best, cost = other, found, now
    return lesson.model_copy(
        update={"blocks": tuple(sorted(best, key=lambda b: (lesson.benches.index(b.bench), b.start)))}
    )


def _rotated(lesson: Lesson) -> list[tuple[str, str]]:
    """Who does what, evenly: bench after bench begins with the next experiment, and goes on round the table."""
    many = len(lesson.tasks)
    turns = min(lesson.rotations, many)
    return [
        (bench, lesson.tasks[(i + turn) % many].experiment)
        for turn in range(turns)
        for i, bench in enumerate(lesson.benches)
    ]


def _changed(order: Sequence[tuple[str, str]], draw: random.Random) -> list[tuple[str, str]]:
    """Another order: two blocks change places, one is moved, or, where a bench does not do everything, two benches change what they do."""
    made = list(order)
    if len(made) < 2:
        return made
    i, j = draw.randrange(len(made)), draw.randrange(len(made))
    how = draw.random()
    if how < 0.4:
        made[i], made[j] = made[j], made[i]
    elif how < 0.8:
        made.insert(j, made.pop(i))
    else:
        (bench, first), (other, second) = made[i], made[j]
        if (bench, second) not in made and (other, first) not in made:
            made[i], made[j] = (bench, second), (other, first)
    return made


def _laid(lesson: Lesson, order: Sequence[tuple[str, str]]) -> list[Block]:
    laid = _Laid(lesson)
    for bench, experiment in order:
        laid.place(bench, experiment)
    return laid.blocks


def _cost(lesson: Lesson, blocks: Sequence[Block]) -> tuple[int, int, int]:
    """Minutes beyond the lesson with blocks that found no place, then its end, then how long everybody waits."""
    ends = [lesson.end(b) for b in blocks]
    wanted = len(lesson.benches) * min(lesson.rotations, len(lesson.tasks))
    over = sum(max(end - lesson.minutes, 0) for end in ends) + LONGEST * (wanted - len(blocks))
    return over, max(ends, default=0), sum(ends)


def _bound(lesson: Lesson) -> int:
    """Minutes that no timetable can be shorter than: the longest task, or a bench's hands, or an instrument's turns."""
    turns = min(lesson.rotations, len(lesson.tasks))
    lasting = [task.lasting for task in lesson.tasks]
    hands = sorted(sum(b - a for a, b in task.hands()) for task in lesson.tasks)
    bound = max(lasting) if turns == len(lesson.tasks) else min(lasting)
    bound = max(bound, sum(hands[:turns]) + lesson.between * (turns - 1))
    if turns == len(lesson.tasks):
        for kind, have in lesson.stock.items():
            wanted = sum(
                task.needs.get(kind, 0) * task.lasting for task in lesson.tasks if task.needs.get(kind, 0) <= have
            )
            if have:
                bound = max(bound, -(-wanted * len(lesson.benches) // have))
    return bound
