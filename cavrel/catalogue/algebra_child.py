"""The process that does algebra: a line of JSON in, a line out. Whoever started it ends it when it takes too long.

In: ``{"definition": its canonical JSON, "seconds": processor time allowed}``. Out: ``{"meanings": {fit: ...}}``, ``{"place", "what"}`` for a
definition at fault, or ``{"late": true}``.
"""

import contextlib
import json
import resource
import signal
import sys
from types import FrameType

from cavrel.core.errors import CavrelError
from cavrel.core.findings import straighten
from cavrel.core.formula.text import unparse

MEMORY = 2 * 1024**3


class _Late(BaseException):
    """The time is over; no handler of Exception on the way may swallow it."""


def _over(signum: int, frame: FrameType | None) -> None:
    raise _Late


def _answer(line: str) -> dict[str, object]:
    asked = json.loads(line)
    signal.setitimer(signal.ITIMER_VIRTUAL, asked["seconds"])
    try:
        found = straighten.meanings(asked["definition"])
        return {
            "meanings": {
                name: {
                    "slope": unparse(m.slope),
                    "intercept": unparse(m.intercept),
                    "constants": [[constant, unparse(node)] for constant, node in m.constants],
                }
                for name, m in found.items()
            }
        }
    except CavrelError as fault:
        return {"place": fault.place, "what": fault.what}
    except (_Late, MemoryError, RecursionError):
        return {"late": True}
    finally:
        signal.setitimer(signal.ITIMER_VIRTUAL, 0)


def main() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    signal.signal(signal.SIGVTALRM, _over)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the server, which closes our input
    print("{}", flush=True)
    for line in sys.stdin:
        try:
            answer = _answer(line)
        except _Late:  # the bell rang between the last result and its being switched off
            answer = {"late": True}
        print(json.dumps(answer), flush=True)


if __name__ == "__main__":
    with contextlib.suppress(BrokenPipeError):  # whoever asked is gone
        main()
