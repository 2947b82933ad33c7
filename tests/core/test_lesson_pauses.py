"""A lesson that rests, goes on and ends; a wait that takes longer: minutes counted here by hand."""

from datetime import datetime, timedelta, timezone

import pytest

from cavrel.core import lesson as lessons
from cavrel.core.lesson import Lesson, LessonError, collisions, resumed, stretched
from cavrel.core.lesson.calls import calls

START = datetime(2026, 11, 26, 18, 30, tzinfo=timezone.utc)
SETTLES = [("set up", 10), ("wait", 30), ("work", 20)]


def minute(at: float) -> datetime:
    return START + timedelta(minutes=at)


def evening(**more: object) -> Lesson:
    """Two experiments at bench A, of which one settles; B begins its only one at minute 40."""
    task = {
        "segments": [{"kind": k, "minutes": m, "say": ""} for k, m in SETTLES],
        "experiment": "settles",
        "title": "S",
    }
    short = {"segments": [{"kind": "work", "minutes": 15}], "experiment": "short", "title": "Short"}
    return lessons.load(
        {
            "title": "Evening",
            "minutes": 90,
            "between": 0,
            "benches": ["A", "B"],
            "tasks": [task, short],
            "blocks": [
                {"bench": "A", "experiment": "settles", "start": 0},
                {"bench": "A", "experiment": "short", "start": 15},
                {"bench": "B", "experiment": "short", "start": 40},
            ],
            "started": START.isoformat(),
            **more,
        }
    )


def ends(made: Lesson) -> dict[str, tuple[int, int]]:
    return {block.key: (block.start, made.end(block)) for block in made.blocks}


def test_what_was_under_way_takes_longer_and_what_had_not_begun_starts_later() -> None:
    made = resumed(evening(paused=minute(32).isoformat()), minute(43.5))
    assert made.paused is None and made.started == START
    # Twelve minutes: A's wait goes on to 52 and its reading to 72; what ended at 30 is as it was.
    assert ends(made) == {"A/settles": (0, 72), "A/short": (15, 30), "B/short": (52, 67)}
    assert [s.minutes for s in made.segments(made.blocks[0])] == [10, 42, 20]
    assert [c.at for c in calls(made) if "over" in c.say] == [minute(52)]
    assert lessons.load(made.model_dump(mode="json")) == made


def test_nothing_is_called_while_it_rests_or_after_its_end() -> None:
    assert [c.at for c in calls(evening())] == [minute(15), minute(40), minute(40)]
    assert [c.at for c in calls(evening(paused=minute(20).isoformat()))] == [minute(15)]
    assert calls(evening(ended=minute(20).isoformat())) == []


def test_a_pause_within_the_hands_makes_the_hands_longer() -> None:
    made = resumed(evening(paused=minute(5).isoformat()), minute(9))
    assert made.hands(made.blocks[0]) == ((0, 14), (44, 64))
    assert ends(made)["A/short"] == (19, 34) and not collisions(made)


def test_a_wait_is_stretched_and_what_it_then_meets_is_said() -> None:
    made = stretched(evening(), "A/settles", 25, minute(5))
    assert ends(made)["A/settles"] == (0, 85) and not collisions(made)
    assert ends(stretched(made, "A/settles", 10, minute(5)))["A/settles"] == (0, 95)
    assert "5 minutes after the lesson" in collisions(stretched(made, "A/settles", 10, minute(5)))[0].say


@pytest.mark.parametrize(("key", "minutes"), [("B/short", 5), ("C/short", 5), ("A/settles", 0), ("A/settles", -5)])
def test_what_waits_for_nothing_cannot_be_stretched(key: str, minutes: int) -> None:
    with pytest.raises(LessonError):
        stretched(evening(), key, minutes, minute(5))


def test_only_what_rests_goes_on_and_only_what_has_started_rests() -> None:
    with pytest.raises(LessonError):
        resumed(evening(), minute(5))
    with pytest.raises(LessonError, match="never started"):
        lessons.load({"title": "Evening", "paused": START.isoformat()})
    with pytest.raises(LessonError, match="zone"):
        evening(ended="2026-11-26T19:30:00")


def test_of_two_waits_the_one_that_is_not_over_is_stretched() -> None:
    made = evening()
    twice = made.tasks[0].model_copy(update={"segments": (*made.tasks[0].segments, *made.tasks[0].segments[1:])})
    made = made.model_copy(update={"tasks": (twice, made.tasks[1])})
    assert stretched(made, "A/settles", 5, minute(20)).blocks[0].longer == (0, 5)
    assert stretched(made, "A/settles", 5, minute(50)).blocks[0].longer == (0, 0, 0, 5)
    with pytest.raises(LessonError):
        stretched(made, "A/settles", 5, minute(95))
