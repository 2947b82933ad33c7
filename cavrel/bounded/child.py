"""The process that does bounded work (``python -m cavrel.bounded.child``): a task in, an answer out.

Whoever started it ends it when it takes too long.
"""

import contextlib
import importlib
import os
import pickle
import resource
import signal
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from types import FrameType
from typing import Any, BinaryIO

from cavrel.bounded.pool import HEAD, NICE, come_within
from cavrel.core.errors import CavrelError

_known: dict[str, Callable[..., Any]] = {}


class _Late(BaseException):
    """The time is over; no handler of Exception on the way may swallow it."""


def _over(signum: int, frame: FrameType | None) -> None:
    raise _Late


def _function(name: str) -> Callable[..., Any]:
    if name not in _known:
        module, _, function = name.partition(":")
        _known[name] = getattr(importlib.import_module(module), function)
    return _known[name]


def _memory() -> int:
    """Bytes of address space that this process has."""
    return int(Path("/proc/self/statm").read_bytes().split()[0]) * resource.getpagesize()


def answered(name: str, seconds: float, memory: int, idle: bool, given: tuple[Any, ...]) -> tuple[str, Any]:
    """``ok`` and what the function returns, ``fault`` with place and words, ``over`` with what ran over, ``broke`` with a trace."""
    act = _function(name)  # loading is not its work
    with contextlib.suppress(OSError):
        os.sched_setscheduler(0, os.SCHED_IDLE if idle and NICE else os.SCHED_OTHER, os.sched_param(0))
    _, hard = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (_memory() + memory, hard))
    signal.setitimer(signal.ITIMER_VIRTUAL, seconds)
    try:
        return "ok", act(*given)
    except CavrelError as fault:
        return "fault", (fault.place, fault.what)
    except _Late:
        return "over", "time"
    except (MemoryError, RecursionError):
        return "over", "memory"
    except Exception:
        return "broke", traceback.format_exc()[-4000:]
    finally:
        signal.setitimer(signal.ITIMER_VIRTUAL, 0)
        resource.setrlimit(resource.RLIMIT_AS, (hard, hard))


def main() -> None:
    """Answer until nobody asks any more."""
    come_within()
    source, sink = sys.stdin.buffer, os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what a library prints is no answer
    with contextlib.suppress(OSError):
        os.nice(NICE)
    signal.signal(signal.SIGVTALRM, _over)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the server, which closes our input
    _send(sink, b"")
    while head := source.read(HEAD.size):
        body = source.read(HEAD.unpack(head)[0])
        try:
            answer = answered(*pickle.loads(body))
        except _Late:  # the bell rang between the last result and its being switched off
            answer = "over", "time"
        _send(sink, pickle.dumps(answer, protocol=5))


def _send(sink: BinaryIO, body: bytes) -> None:
    sink.write(HEAD.pack(len(body)) + body)
    sink.flush()


if __name__ == "__main__":
    with contextlib.suppress(BrokenPipeError):  # whoever asked is gone
        main()
