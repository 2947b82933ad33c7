"""Proposing a timetable: each block in turn at its earliest place, and many orders of the blocks tried.

A serial schedule with a random search over its orders (Kolisch and Hartmann 1999, resource-constrained project scheduling): the lengths of a
school evening need no proof of the optimum, and a bound says when nothing better can come.
"""

import random
from collections.abc import Sequence
from dataclasses import dataclass, field

from cavrel.core.lesson.collisions import overlap
from cavrel.core.lesson.document import GRID, LONGEST, Block, Lesson

TRIES = 240
"""Orders tried where the first is not the best there can be."""
SEED = 20


@dataclass(slots=True)
class _Laid:
    """What is placed so far: by bench, and by kind of instrument."""

    lesson: Lesson
    blocks: list[Block] = field(default_factory=list)
    by_bench: dict[str, list[Block]] = field(default_factory=dict)
    by_kind: dict[str, list[tuple[int, int, int]]] = field(default_factory=dict)

    def place(self, bench: str, experiment: str) -> None:
        """At the earliest place where nothing collides; past the longest lesson it is left out."""
        task = self.lesson.task(experiment)
        for start in range(0, LONGEST - task.lasting + 1, GRID):
            block = Block.model_construct(bench=bench, experiment=experiment, start=start, run=None)
            if self._free(block):
                self.blocks.append(block)
                self.by_bench.setdefault(bench, []).append(block)
                for kind, many in task.needs.items():
                    self.by_kind.setdefault(kind, []).append((start, start + task.lasting, many))
                return

    def _free(self, block: Block) -> bool:
        task = self.lesson.task(block.experiment)
        begin, end = block.start, block.start + task.lasting
        for kind, many in task.needs.items():
            have = self.lesson.stock.get(kind)
            if have is None:
                continue
            if many > have:  # it can never be; hands alone decide, and the collision is said
                continue
            taken = [(a, b, n) for a, b, n in self.by_kind.get(kind, ()) if a < end and begin < b]
            if any(
                sum(n for a, b, n in taken if a <= t < b) + many > have
                for t in (begin, *(a for a, _, _ in taken if a > begin))
            ):
                return False
        return all(overlap(self.lesson, block, other) is None for other in self.by_bench.get(block.bench, ()))


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
    for _ in range(TRIES):
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
