"""Work within limits: what runs over is said, costs nobody else anything, and the next one is answered."""

import contextlib
import io
import os
import signal
import threading
import time
from pathlib import Path
from typing import Any

import openpyxl
import pytest

from cavrel.bounded import Over, Task, pool, run
from cavrel.core.errors import CavrelError


def task(name: str = "builtins:eval", **limits: Any) -> Task:
    return Task(name=name, what="this sum", **limits)


def children() -> set[int]:
    """Processes that wait for work."""
    return {child.process.pid for child in pool._children.idle}


def test_it_answers_with_plain_data_from_another_process() -> None:
    assert run(task(), "{'a': (1, 2.5, b'x', [None, True])}") == {"a": (1, 2.5, b"x", [None, True])}
    assert run(task("os:getpid")) != os.getpid()
    assert run(task("os:nice"), 0) == int(os.environ["CAVREL_NICE"])


@pytest.mark.parametrize(
    ("given", "limits", "said", "surely"),
    [
        ("sum(1 for _ in range(10**11))", {"seconds": 0.3}, "more than 0.3 s of processor time", True),
        ("sum(range(10**11))", {"seconds": 0.1}, "took longer than 1 s", True),
        ("len(bytearray(2 * 10**8))", {"megabytes": 100}, "more than 100 MB of memory", True),
        ("'x' * 3_000_000", {"answer": 2 * 2**20}, "makes more than 2 MB", True),
        ("__import__('decimal').Decimal(1)", {}, "cannot be worked on", True),
        ("__import__('time').sleep(60)", {"seconds": 0.01}, "took longer than 1 s", False),
    ],
)
def test_what_runs_over_is_said_and_the_next_is_answered(
    monkeypatch: pytest.MonkeyPatch, given: str, limits: dict[str, Any], said: str, surely: bool
) -> None:
    monkeypatch.setattr(pool, "SLACK", 1.0)
    with pytest.raises(Over, match=said) as found:
        run(task(**limits), given)
    assert found.value.surely is surely
    assert run(task(), "6 * 7") == 42


def test_just_within_its_limits() -> None:
    assert run(task(megabytes=100), "len(bytearray(5 * 10**7))") == 5 * 10**7
    assert len(run(task(answer=2 * 2**20), "'x' * 2_000_000")) == 2_000_000
    # The limits of one task are not those of the next in the same process.
    assert run(task(megabytes=400), "len(bytearray(2 * 10**8))") == 2 * 10**8


def test_its_own_fault_comes_back_with_its_place_and_a_break_with_its_trace() -> None:
    with pytest.raises(CavrelError, match="not readable as TOML") as found:
        run(task("cavrel.catalogue:read_toml"), "a =")
    assert not isinstance(found.value, Over)
    with pytest.raises(RuntimeError, match="ZeroDivisionError"):
        run(task(), "1/0")


def test_one_that_was_killed_while_it_waited_is_followed_by_another() -> None:
    run(task(), "1")
    for pid in children():
        os.kill(pid, signal.SIGKILL)
    time.sleep(0.05)
    assert run(task(), "2") == 2
    # One that died of its work is not tried for ever.
    with pytest.raises(Over, match="more memory than"):
        run(task("os:abort"))
    assert run(task(), "3") == 3


def test_so_many_at_once_and_no_more() -> None:
    took: list[float] = []
    began = time.monotonic()

    def one() -> None:
        run(task("time:sleep"), 0.5)
        took.append(time.monotonic() - began)

    threads = [threading.Thread(target=one) for _ in range(2 * pool.AT_ONCE)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert max(took) >= 1.0
    assert len(children()) <= pool.AT_ONCE


def test_one_that_waits_too_long_for_its_turn_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pool, "TURN", 0.05)
    held = [pool._children.turns.acquire() for _ in range(pool.AT_ONCE)]
    try:
        with pytest.raises(Over, match="has to wait for others"):
            run(task(), "1")
    finally:
        for _ in held:
            pool._children.turns.release()


def test_idle_ones_go(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pool, "IDLE", 0.0)
    run(task(), "1")
    deadline = time.monotonic() + 10
    while children() and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not children()


def wide() -> bytes:
    """A workbook of a few kB with cells at both ends of its only sheet."""
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet["A1"] = sheet["XFD1048576"] = 1
    sink = io.BytesIO()
    book.save(sink)
    return sink.getvalue()


@pytest.mark.parametrize(
    ("what", "body", "said"),
    [
        ("a sheet of seventeen thousand million cells", wide(), "takes more memory than|has more than 3000 rows"),
        ("nineteen megabytes of rows", b"1,2\n" * 4_750_000, "4750000 lines; 3000 rows are the most"),
        ("one row of two million cells", b"1," * 2_000_000, "columns; 3000 and 80 are the most"),
    ],
)
def test_tables_that_are_too_large_are_refused_at_once(what: str, body: bytes, said: str) -> None:
    reading = Task(name="cavrel.core.document.grid:plain_sheets", what="this file", seconds=10, megabytes=500)
    began = time.monotonic()
    with pytest.raises(CavrelError, match=said):
        run(reading, body, "a file")
    assert time.monotonic() - began < 15, what  # a bound against hanging


def resident() -> int:
    return os.sysconf("SC_PAGE_SIZE") * int(Path("/proc/self/statm").read_text().split()[1])


def test_nothing_of_it_reaches_this_process() -> None:
    before = resident()
    with contextlib.suppress(Over):
        run(task(megabytes=300), "len(bytearray(2 * 10**8))")
    assert resident() - before < 50 * 2**20
