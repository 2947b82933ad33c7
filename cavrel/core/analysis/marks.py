"""The word of each row: as it was typed, else as the rule of its table says."""

import numpy as np

from cavrel.core.definition.steps import Program
from cavrel.core.formula.evaluate import Environment
from cavrel.core.logbook.run import RunDocument


def of_rows(program: Program, run: RunDocument, series: str, rows: int, environment: Environment) -> tuple[str, ...]:
    """The word of each row, ``(rows,)``, empty for none. ``environment``: what the conditions read, a batch of one."""
    outcome = program.definition.series[series].outcome
    offered = {word.casefold(): word for word in outcome.choices} if outcome is not None else {}
    typed = [(text or "").strip() for text in run.marks.get(series, [])[:rows]]
    typed += [""] * (rows - len(typed))
    found = [offered.get(text.casefold(), text) for text in typed]
    if outcome is None or not outcome.by_rule:
        return tuple(found)
    with np.errstate(all="ignore"):
        holds = {
            word: np.broadcast_to(condition(environment), (1, rows))[0] == 1.0
            for word, condition in program.outcomes[series].items()
        }
    rest = next((word for word, condition in outcome.choices.items() if not condition), "")
    due = (next((word for word, rows_of in holds.items() if rows_of[row]), rest) for row in range(rows))
    return tuple(text or word for text, word in zip(found, due, strict=True))
