"""Algebra with a deadline: what a definition's lines mean by its law, worked out in a process of its own that can be ended."""

import atexit
import hashlib
import json
import selectors
import subprocess
import sys
from collections import OrderedDict
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from threading import Lock
from typing import Any

from cavrel.core.errors import DefinitionError
from cavrel.core.findings.meaning import LineMeaning
from cavrel.core.formula.parse import parse

SECONDS = 1.5
"""Processor time that one law may take; what is not solved by then is left unsolved."""
_PATIENCE = 8.0
"""Seconds by the clock after which the process is ended, for a machine that is busy otherwise."""
_KEPT = 512


SHIPPED = Path(__file__).resolve().parent / "laws.json"
"""Answers for the experiments that ship, under all their conventions: written by ``./run laws``, so that no start waits for algebra."""


def known_by(definition: str) -> str:
    """What an answer is known by: a digest of the definition's canonical JSON."""
    return hashlib.sha256(definition.encode()).hexdigest()[:32]


@lru_cache(maxsize=1)
def _shipped() -> Mapping[str, dict[str, Any]]:
    return dict(json.loads(SHIPPED.read_text(encoding="utf-8"))) if SHIPPED.exists() else {}


def worked_out(definition: str) -> dict[str, Any]:
    """The answer for a definition's canonical JSON, worked out now."""
    with _child.lock:
        return _child.answer(definition)


class _Child:
    """The process, started when it is first needed and again when it had to be ended."""

    def __init__(self) -> None:
        self.lock = Lock()
        self.process: subprocess.Popen[str] | None = None
        self.known: OrderedDict[str, dict[str, Any]] = OrderedDict()

    def ask(self, definition: str) -> dict[str, Any]:
        """The child's answer; an empty one where the law was not solved in time."""
        with self.lock:
            shipped = _shipped().get(known_by(definition))
            if shipped is not None:
                return shipped
            if definition in self.known:
                self.known.move_to_end(definition)
                return self.known[definition]
            answer = self.answer(definition)
            self.known[definition] = answer
            while len(self.known) > _KEPT:
                self.known.popitem(last=False)
            return answer

    def answer(self, definition: str) -> dict[str, Any]:
        for _ in range(2):  # one that was killed from outside is started anew, once
            try:
                process = self.running()
                assert process.stdin is not None
                process.stdin.write(json.dumps({"definition": definition, "seconds": SECONDS}) + "\n")
                process.stdin.flush()
                return self.line(process)
            except TimeoutError:
                self.end()
                return {"late": True}
            except (OSError, ValueError):
                self.end()
        return {"late": True}

    def running(self) -> subprocess.Popen[str]:
        if self.process is None or self.process.poll() is not None:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "cavrel.catalogue.algebra_child"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
            )
            self.line(self.process, 30.0)
        return self.process

    def line(self, process: subprocess.Popen[str], patience: float = _PATIENCE) -> dict[str, Any]:
        assert process.stdout is not None
        with selectors.DefaultSelector() as waiting:
            waiting.register(process.stdout, selectors.EVENT_READ)
            if not waiting.select(patience):
                raise TimeoutError
        answer: dict[str, Any] = json.loads(process.stdout.readline())
        return answer

    def end(self) -> None:
        if self.process is not None:
            self.process.kill()
            self.process.wait()
            for pipe in (self.process.stdin, self.process.stdout):
                if pipe is not None:
                    pipe.close()
            self.process = None


_child = _Child()
atexit.register(_child.end)


def meanings(definition: str) -> dict[str, LineMeaning]:
    """Fit name -> meaning, for the straight lines of a definition (its canonical JSON) that its law reaches in time. Raises DefinitionError."""
    answer = _child.ask(definition)
    if "what" in answer:
        raise DefinitionError(answer["place"], answer["what"])
    return {
        name: LineMeaning(
            parse(found["slope"]),
            parse(found["intercept"]),
            tuple((constant, parse(text)) for constant, text in found["constants"]),
        )
        for name, found in answer.get("meanings", {}).items()
    }


def solved_in_time(definition: str) -> bool:
    """Whether the algebra of a definition ended before its deadline."""
    return "late" not in _child.ask(definition)
