"""A timetable: what it proposes can be done, what is moved by hand is judged, and it is as short as it can be where that is known."""

import itertools
import json
from datetime import datetime, timedelta, timezone

import pytest

from cavrel import catalogue
from cavrel.core import lesson as lessons
from cavrel.core.laboratory import EMPTY
from cavrel.core.lesson import Block, Lesson, LessonError, Segment, Task, collisions, propose
from cavrel.core.lesson.calls import calls
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.planned import only_plan, plan_entries
from cavrel.service.lessons import checked, moved, task_of


def task(name: str, *segments: tuple[str, int], **needs: int) -> Task:
    made = tuple(Segment(kind=kind, minutes=minutes, say="Let it settle.") for kind, minutes in segments)
    return Task(experiment=name, title=name.title(), segments=made, needs=needs)


SHORT = task("short", ("set up", 5), ("work", 20))
LONG = task("long", ("set up", 10), ("work", 30), lens=1)
SETTLES = task("settles", ("set up", 10), ("wait", 60), ("work", 20), balance=1)


def lesson(*tasks: Task, benches: str = "AB", **more: object) -> Lesson:
    body = {"title": "Evening", "minutes": 120, "benches": list(benches), "rotations": len(tasks), **more}
    return lessons.load({**body, "tasks": [t.model_dump(mode="json") for t in tasks]})


def by_minutes(made: Lesson) -> list[str]:
    """What collides, by walking through every minute of the evening: hands of each bench, instruments of each kind."""
    found = []
    for minute in range(720):
        now = [b for b in made.blocks if b.start <= minute < made.end(b)]
        for bench in made.benches:
            hands = [
                b
                for b in now
                if b.bench == bench
                and any(b.start + x <= minute < b.start + y for x, y in made.task(b.experiment).hands())
            ]
            if len(hands) > 1:
                found.append(f"{bench}@{minute}")
        for kind, many in made.stock.items():
            if sum(made.task(b.experiment).needs.get(kind, 0) for b in now) > many:
                found.append(f"{kind}@{minute}")
        found += [f"late@{b.key}" for b in now if minute >= made.minutes]
    return found


@pytest.mark.parametrize(
    ("benches", "stock", "minutes"),
    [("ABCDEF", {"lens": 2}, 200), ("ABCDEF", {"lens": 1, "balance": 2}, 400), ("A", {}, 200), ("ABC", {"lens": 3, "balance": 1}, 720)],
)  # fmt: skip
def test_what_is_proposed_can_be_done(benches: str, stock: dict, minutes: int) -> None:
    made = propose(lesson(SHORT, LONG, SETTLES, benches=benches, stock=stock, minutes=minutes))
    assert sorted(b.key for b in made.blocks) == sorted(
        f"{b}/{t}" for b in benches for t in ("short", "long", "settles")
    )
    assert not collisions(made)
    assert not by_minutes(made)


def test_a_wait_is_used() -> None:
    """Ninety minutes of settling and reading hold forty minutes of something else: the evening is no longer than its longest experiment."""
    made = propose(lesson(SETTLES, SHORT, benches="A", minutes=90))
    assert max(made.end(b) for b in made.blocks) == 90
    assert not collisions(made) and not by_minutes(made)


def test_as_short_as_it_can_be() -> None:
    """Every order of four small experiments at three benches with one of each apparatus, tried by hand, is no shorter."""
    tasks = [task(f"e{i}", ("work", m), **{f"k{i}": 1}) for i, m in enumerate((20, 35, 15, 30))]
    made = lesson(*tasks, benches="ABC", minutes=300, stock={f"k{i}": 1 for i in range(4)}, between=5)
    proposed = max(propose(made).end(b) for b in propose(made).blocks)
    # A bench's hands: 100 minutes and three clearings.
    assert proposed >= 115
    best = 10_000
    for shifts in itertools.product(itertools.permutations(range(4)), repeat=2):
        free = dict.fromkeys(range(4), 0)
        ends = []
        for order in ((0, 1, 2, 3), *shifts):
            at = 0
            for i in order:
                at = max(at, -(-free[i] // 5) * 5)
                free[i] = at + (20, 35, 15, 30)[i]
                at = free[i] + 5
            ends.append(at - 5)
        best = min(best, max(ends))
    assert proposed <= best


def test_fewer_turns_than_experiments_are_shared_evenly() -> None:
    made = propose(lesson(SHORT, LONG, SETTLES, benches="ABCDEF", rotations=1, minutes=100))
    done = [b.experiment for b in made.blocks]
    assert len(done) == 6 and {done.count(name) for name in ("short", "long", "settles")} == {2}


def test_what_does_not_fit_is_said_not_dropped() -> None:
    made = propose(lesson(SHORT, LONG, benches="A", minutes=30))
    assert len(made.blocks) == 2
    assert [c.say for c in collisions(made)] and "after the lesson" in collisions(made)[-1].say
    assert propose(lesson(benches="A", rotations=1)).blocks == ()
    assert propose(lesson(SHORT, benches="")).blocks == ()


def test_more_than_there_are_of_one_experiment_alone_is_said() -> None:
    made = propose(lesson(LONG, benches="A", stock={"lens": 0}))
    assert [c.say for c in collisions(made)] == ["1 lens at once for A, and there is none"]


@pytest.mark.parametrize(
    ("blocks", "said"),
    [
        ([("A", "short", 0), ("A", "long", 25)], "do “Short” and “Long” at the same time"),  # no time to clear
        ([("A", "short", 0), ("A", "long", 30)], ""),
        ([("A", "long", 0), ("B", "long", 10)], "2 lenses at once for A, B, and there is 1"),
        ([("A", "long", 0), ("B", "long", 40)], ""),
        ([("A", "settles", 0), ("A", "short", 10)], ""),  # in the wait
        ([("A", "settles", 0), ("A", "short", 50)], "do “Settles” and “Short” at the same time"),
        ([("A", "short", 100)], "5 minutes after the lesson"),
        ([("A", "short", 96)], "1 minute after the lesson"),
    ],
)
def test_collisions_in_words(blocks: list, said: str) -> None:
    placed = [{"bench": b, "experiment": e, "start": s} for b, e, s in blocks]
    made = lesson(SHORT, LONG, SETTLES, stock={"lens": 1}, blocks=placed)
    found = "; ".join(c.say for c in collisions(made))
    assert (said in found) if said else not found
    clears = [m for m in by_minutes(made) if not said]
    assert not clears


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ({"benches": ["A", "A"]}, "stands twice"),
        ({"blocks": [{"bench": "Z", "experiment": "short", "start": 0}]}, "takes no part"),
        ({"blocks": [{"bench": "A", "experiment": "tall", "start": 0}]}, "no task"),
        ({"blocks": [{"bench": "A", "experiment": "short", "start": 0}] * 2}, "twice"),
        ({"minutes": 5}, "minutes"),
        ({"minutes": 1e9}, "minutes"),
        ({"begins": "soon"}, "begins"),
        ({"started": "2026-11-26T18:30:00"}, "zone"),
        ({"title": ""}, "title"),
    ],
)
def test_what_is_no_lesson(more: dict, said: str) -> None:
    with pytest.raises(LessonError, match=said):
        lesson(SHORT, **more)
    with pytest.raises(LessonError, match="one JSON object"):
        lessons.load([more])


def test_moved_by_hand() -> None:
    made = propose(lesson(SHORT, LONG, benches="AB"))
    there = moved(made, "A/short", "A", 65)
    assert next(b.start for b in there.blocks if b.key == "A/short") == 65
    with pytest.raises(LessonError, match="B does “Short” already"):
        moved(made, "A/short", "B", 0)
    with pytest.raises(LessonError, match="removed meanwhile"):
        moved(made, "A/tall", "A", 0)
    begun = checked(
        made,
        blocks=tuple(
            b.model_copy(update={"run": 7}) if b.key == "A/short" else b for b in made.blocks if b.key != "B/short"
        ),
    )
    with pytest.raises(LessonError, match="has started at A"):
        moved(begun, "A/short", "B", 0)
    assert next(b.start for b in moved(begun, "A/short", "A", 99999).blocks if b.key == "A/short") == 720


def test_calls_come_when_waits_end() -> None:
    moment = datetime(2026, 11, 26, 18, 30, tzinfo=timezone.utc)
    blocks = [{"bench": "A", "experiment": "settles", "start": 0}, {"bench": "A", "experiment": "short", "start": 15}]
    made = lesson(SHORT, SETTLES, blocks=blocks)
    assert calls(made) == []
    said = calls(checked(made, started=moment))
    assert [((c.at - moment) / timedelta(minutes=1), c.say) for c in said] == [
        (15, "now “Short”"),
        (70, "“Settles”: the wait is over. Let it settle."),
    ]
    assert len({c.key for c in said}) == 2


def test_what_an_experiment_takes_of_an_evening() -> None:
    for definition in catalogue.experiments().values():
        made = task_of(definition, EMPTY)
        assert abs(made.lasting - (definition.minutes or 0)) <= len(made.segments), definition.id
        assert made.hands()[0][0] == 0
    torsion = task_of(catalogue.experiments()["torsion-balance"], EMPTY)
    assert [s.minutes for s in torsion.segments if s.kind == "wait"] == [60, 60]
    assert torsion.needs == {"optical scale": 1, "tape": 1, "stopwatch": 1, "digital balance": 1}
    shorter = task_of(catalogue.experiments()["pendulum"], EMPTY, 40)
    assert 25 <= shorter.lasting <= 42


def test_the_document_reads_back() -> None:
    made = propose(lesson(SHORT, LONG))
    assert lessons.load(json.loads(json.dumps(made.model_dump(mode="json")))) == made
    assert Block(bench="A", experiment="short", start=5).key == "A/short"


def test_a_plan_becomes_entries_and_a_plan_again() -> None:
    pendulum = catalogue.experiments()["pendulum"]
    body = {
        "format": "cavrel-run/1",
        "experiment": "pendulum",
        "quantities": {"N": "30", "theta": "9"},
        "rules": {"rounding": "two"},
        "instruments": {"watch": {"kind": "photogate timer"}},
        "series": {"swings": {"L": ["60"], "t": [["31.1"]]}},
        "plan": {
            "settings": {"swings.L": ["60", "90"]},
            "trials": {"swings.t": 3},
            "reasons": {"range": "the stairs"},
            "roles": {"times": "Ines"},
            "foreseen": {"g": "about 9.8"},
        },
    }
    run = runs.load(body)
    found = plan_entries(pendulum, run)
    assert {slot for _, slot, _ in found} == {
        "rule:rounding", "instrument:watch", "trials:swings.t", "settings:swings.L", "words:reason.range", "words:role.times",
        "words:foreseen.g",
    }  # fmt: skip
    kept = only_plan(run, pendulum)
    assert "series" not in kept and kept["quantities"] == {"N": "30"}
    assert plan_entries(pendulum, runs.load(kept)) == found
    bare = run.model_copy(update={"instruments": {}, "rules": {}, "plan": run.plan.model_copy(update={"trials": {}})})
    with pytest.raises(Exception, match="names no column that is set"):
        plan_entries(catalogue.experiments()["spring"], bare)
