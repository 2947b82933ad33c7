"""The algebra of a definition's law as a task for a process of its own."""

from typing import Any

from cavrel.core.errors import CavrelError
from cavrel.core.findings import line_meanings
from cavrel.core.formula.text import unparse


def answer(definition: str) -> dict[str, Any]:
    """``{"meanings": {fit: ...}}`` for a definition's canonical JSON, or ``{"place", "what"}`` for one at fault."""
    try:
        found = line_meanings.meanings(definition)
    except CavrelError as fault:
        return {"place": fault.place, "what": fault.what}
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
