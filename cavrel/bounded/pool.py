"""The processes that do bounded work, and how they are asked."""

import atexit
import contextlib
import io
import os
import pickle
import selectors
import struct
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from threading import BoundedSemaphore, Lock, Timer
from typing import Any

from cavrel.core.errors import CavrelError

AT_ONCE = 2
"""Of the processes of one process that answers pages."""
IDLE = 45.0
"""Seconds after which a process that nobody asks is ended."""
RENEWED = 200
"""Answers after which a process is ended, so that none grows for ever."""
SLACK = 8.0
"""Seconds by the clock that every task may wait for the machine."""
TURN = 20.0
"""Seconds that one waits for its turn."""
_START = 30.0
NICE = int(os.environ.get("CAVREL_NICE") or "19")
"""How much lower the priority of background work is than that of answering pages; 0 for not at all."""
HEAD = struct.Struct(">Q")


@dataclass(frozen=True, slots=True, kw_only=True)
class Task:
    """A kind of work.

    ``name``: the function, as ``package.module:function``; it takes what it is given and returns plain data (texts, bytes, numbers, lists,
    tuples, dicts).
    ``what``: it in words, such as ``this workbook``, for when it runs over.
    ``seconds``: of processor time.
    ``megabytes``: of memory, above what the process has when it begins.
    ``answer``: bytes that it may return.
    ``idle``: it takes only the time that nothing else on the machine wants.
    """

    name: str
    what: str
    seconds: float = 5.0
    megabytes: int = 300
    answer: int = 64 * 2**20
    idle: bool = False

    @property
    def patience(self) -> float:
        """Seconds by the clock after which the process is ended, for a machine that is busy otherwise."""
        return 4 * self.seconds + SLACK


class Over(CavrelError):
    """Work that ran over its limits. ``surely``: by what it used itself, whatever else the machine does; the same again runs over again."""

    def __init__(self, what: str, surely: bool) -> None:
        super().__init__("", what)
        self.surely = surely


class _Plain(pickle.Unpickler):
    """Reads plain data and nothing else."""

    def find_class(self, module: str, name: str) -> Any:
        """Raises pickle.UnpicklingError for everything that is more than data."""
        raise pickle.UnpicklingError(f"an answer holds {module}.{name}")


class _Child:
    """One process."""

    def __init__(self) -> None:
        self.answers = 0
        self.since = time.monotonic()
        self.process = subprocess.Popen(
            [sys.executable, "-m", "cavrel.bounded.child"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0
        )
        self.buffer = b""
        self._read(_START, 100)

    def ask(self, task: Task, given: tuple[Any, ...]) -> tuple[str, Any]:
        """What became of the work. Raises TimeoutError, EOFError, OSError, MemoryError for too long an answer."""
        body = pickle.dumps((task.name, task.seconds, task.megabytes * 2**20, task.idle, given), protocol=5)
        assert self.process.stdin is not None
        self.process.stdin.write(HEAD.pack(len(body)))
        for at in range(0, len(body), 1 << 20):
            self.process.stdin.write(body[at : at + (1 << 20)])
        found: tuple[str, Any] = _Plain(io.BytesIO(self._read(task.patience, task.answer))).load()
        self.answers += 1
        return found

    def _read(self, patience: float, most: int) -> bytes:
        out = self.process.stdout
        assert out is not None
        end = time.monotonic() + patience
        wanted, pieces, have = HEAD.size, [], 0
        head = True
        with selectors.DefaultSelector() as waiting:
            waiting.register(out, selectors.EVENT_READ)
            while True:
                if not waiting.select(max(end - time.monotonic(), 0)):
                    raise TimeoutError
                piece = out.read(min(wanted - have, 1 << 20))
                if not piece:
                    raise EOFError
                pieces.append(piece)
                have += len(piece)
                if have < wanted:
                    continue
                body = b"".join(pieces)
                if not head:
                    return body
                (wanted,) = HEAD.unpack(body)
                if wanted > most:
                    raise MemoryError
                pieces, have, head = [], 0, False
                if not wanted:
                    return b""

    def seconds(self) -> float:
        """Of processor time that it has used; zero for one that is gone."""
        try:
            fields = Path(f"/proc/{self.process.pid}/stat").read_text().rpartition(")")[2].split()
        except OSError:
            return 0.0
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

    def alive(self) -> bool:
        return self.process.poll() is None

    def end(self) -> None:
        self.process.kill()
        self.process.wait()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()


class _Children:
    """Those of this process."""

    def __init__(self) -> None:
        self.turns = BoundedSemaphore(AT_ONCE)
        self.lock = Lock()
        self.idle: list[_Child] = []

    def run(self, task: Task, given: tuple[Any, ...]) -> Any:
        if not self.turns.acquire(timeout=TURN):
            raise Over(f"{task.what} has to wait for others that are being worked on; try again in a moment", False)
        try:
            return self._asked(task, given)
        finally:
            self.turns.release()

    def _asked(self, task: Task, given: tuple[Any, ...]) -> Any:
        for again in (False, True):
            child = self._taken()
            before = child.seconds()
            try:
                outcome, value = child.ask(task, given)
            except BaseException as fault:
                fresh, busy = not child.answers, child.seconds() - before
                child.end()
                if isinstance(fault, TimeoutError):
                    said = f"{task.what} took longer than {task.patience:.0f} s and was stopped"
                    raise Over(said, busy > task.seconds) from fault
                if isinstance(fault, MemoryError):
                    raise Over(f"{task.what} makes more than {task.answer // 2**20} MB", True) from fault
                if isinstance(fault, pickle.UnpicklingError):
                    raise Over(f"{task.what} cannot be worked on", True) from fault
                if not isinstance(fault, EOFError | OSError):
                    raise
                # One that had waited may have been killed from outside; one that was new died of its work.
                if again or fresh:
                    raise Over(f"{task.what} takes more memory than {task.megabytes} MB", False) from fault
                continue
            if outcome == "over":
                child.end()
                said = (
                    f"{task.megabytes} MB of memory" if value == "memory" else f"{task.seconds:g} s of processor time"
                )
                raise Over(f"{task.what} takes more than {said}", True)
            self._given_back(child)
            if outcome == "fault":
                raise CavrelError(*value)
            if outcome == "broke":
                raise RuntimeError(value)
            return value
        raise AssertionError

    def _taken(self) -> _Child:
        with self.lock:
            while self.idle:
                child = self.idle.pop()
                if child.alive():
                    return child
                child.end()
        return _Child()

    def _given_back(self, child: _Child) -> None:
        if child.answers >= RENEWED:
            child.end()
            return
        with self.lock:
            child.since = time.monotonic()
            self.idle.append(child)
        timer = Timer(IDLE + 0.5, self._retire)
        timer.daemon = True
        timer.start()

    def _retire(self) -> None:
        with self.lock:
            old = [child for child in self.idle if time.monotonic() - child.since >= IDLE]
            self.idle = [child for child in self.idle if child not in old]
        for child in old:
            child.end()

    def end(self) -> None:
        with self.lock:
            children, self.idle = self.idle, []
        for child in children:
            child.end()


_children = _Children()
atexit.register(lambda: _children.end())


def run(task: Task, *given: Any) -> Any:
    """What a task makes of what it is given, in a process of its own.

    Raises Over where it runs over its limits, CavrelError for what it says itself, RuntimeError where it breaks.
    """
    return _children.run(task, given)


def within() -> bool:
    """Whether this is a process that does bounded work itself."""
    return _within


def come_within() -> None:
    """From here on this is one."""
    global _within
    _within = True


_within = False
