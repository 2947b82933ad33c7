"""What a lesson was: undo goes back through it step by step."""

from collections.abc import Mapping, Sequence
from typing import Any


def before_that(states: Sequence[Mapping[str, Any]]) -> Mapping[str, Any] | None:
    """What undo goes back to, of everything that a lesson was, the first first: an undo is itself a state, equal to an earlier one, and the next
    undo goes on from there; None where there is nothing before."""
    line: list[Mapping[str, Any]] = []
    for state in states:
        if len(line) > 1 and state == line[-2]:
            line.pop()
        elif not line or state != line[-1]:
            line.append(state)
    return line[-2] if len(line) > 1 else None
