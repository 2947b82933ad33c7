"""One send at a time is computed, and only if no newer one of its page waits."""

import threading

from cavrel.service import recompute_lock
from cavrel.service.recompute_lock import Turn


def test_only_the_newest_of_a_page_is_wanted() -> None:
    first, other, second = Turn(1, "a"), Turn(1, "b"), Turn(1, "a")
    with first as wanted:
        assert not wanted
    with other as wanted:
        assert wanted
    with second as wanted:
        assert wanted


def test_pages_without_a_name_and_pages_of_other_runs_are_their_own() -> None:
    for one, two in ((Turn(1, ""), Turn(1, "")), (Turn(1, "a"), Turn(2, "a"))):
        with one as first:
            assert first
        with two as second:
            assert second


def test_one_at_a_time_and_a_failure_lets_the_next_one_on() -> None:
    inside, most, lock = 0, 0, threading.Lock()

    def work() -> None:
        nonlocal inside, most
        try:
            with Turn(1, ""):
                with lock:
                    inside += 1
                    most = max(most, inside)
                with lock:
                    inside -= 1
                raise ValueError
        except ValueError:
            pass

    threads = [threading.Thread(target=work) for _ in range(40)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(10)
    assert most == 1 and not any(thread.is_alive() for thread in threads)


def test_nothing_is_remembered_of_pages_that_have_their_answer_or_are_gone() -> None:
    before = dict(recompute_lock._newest)
    for end in (True, False):
        a, b = Turn(3, "a"), Turn(3, "a")
        for turn in (a, b):
            if end:
                turn.end()
            else:
                with turn:
                    pass
    assert recompute_lock._newest == before
