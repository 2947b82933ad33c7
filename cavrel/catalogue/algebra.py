"""Algebra with a deadline: what a definition's lines mean by its law, computed in a process of its own that can be ended."""

import hashlib
import json
from collections import OrderedDict
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from threading import Lock
from typing import Any

from cavrel import bounded
from cavrel.core.definition import Definition
from cavrel.core.errors import DefinitionError
from cavrel.core.findings.meaning import LineMeaning
from cavrel.core.formula.parse import parse

TASK = bounded.Task(name="cavrel.catalogue.algebra_work:answer", what="the law", seconds=1.5, megabytes=1000)
"""What is not solved by then is left unsolved."""
_KEPT = 512
_READ = ("format", "law", "quantities", "series", "fits", "results")
"""Parts of a definition that algebra reads; the rest, and all words, can change without its being asked again."""

SHIPPED = Path(__file__).resolve().parent / "laws.json"
"""Answers for the experiments that ship, under all their conventions: written by ``./run laws``, so that no start waits for algebra."""
_known: OrderedDict[str, dict[str, Any]] = OrderedDict()
_lock = Lock()


def asked(definition: Definition) -> str:
    """What algebra is asked: the law, the fits and what they rest on, as canonical JSON of a definition without words."""
    body = {name: _wordless(part) for name, part in definition.document().items() if name in _READ}
    body |= {"id": "x", "title": "x", "field": "mechanics", "aim": "x"}
    return json.dumps(body, sort_keys=True)


def _wordless(part: Any) -> Any:
    if isinstance(part, dict):
        return {name: "x" if name == "label" and isinstance(v, str) else _wordless(v) for name, v in part.items()}
    return [_wordless(one) for one in part] if isinstance(part, list) else part


def known_by(question: str) -> str:
    """What an answer is known by: a digest of what was asked."""
    return hashlib.sha256(question.encode()).hexdigest()[:32]


@lru_cache(maxsize=1)
def _shipped() -> Mapping[str, dict[str, Any]]:
    return dict(json.loads(SHIPPED.read_text(encoding="utf-8"))) if SHIPPED.exists() else {}


def answered(question: str) -> dict[str, Any]:
    """The answer, computed now. Raises Over."""
    found: dict[str, Any] = bounded.run(TASK, question)
    return found


def _answer(definition: Definition) -> Mapping[str, Any]:
    """The answer; one that is late by what it used itself is remembered, one that a busy machine made late is not."""
    question = asked(definition)
    key = known_by(question)
    shipped = _shipped().get(key)
    if shipped is not None:
        return shipped
    with _lock:
        if key in _known:
            _known.move_to_end(key)
            return _known[key]
    try:
        answer = answered(question)
    except bounded.Over as fault:
        answer = {"late": True}
        if not fault.surely:
            return answer
    with _lock:
        _known[key] = answer
        while len(_known) > _KEPT:
            _known.popitem(last=False)
    return answer


class Late(Exception):
    """Algebra did not end in time."""


def meanings(definition: Definition) -> dict[str, LineMeaning]:
    """Fit name -> meaning, for the straight lines of a definition that its law reaches. Raises DefinitionError, Late."""
    answer = _answer(definition)
    if "late" in answer:
        raise Late
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
