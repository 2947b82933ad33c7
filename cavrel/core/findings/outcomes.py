"""Outcomes that are no number, held against what the readings of their row predict: it floated, and should have sunk."""

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.findings.finding import Finding
from cavrel.core.formula.evaluate import Environment


def of_outcomes(analysis: Analysis) -> list[Finding]:
    """A remark on every row whose outcome is another than its readings predict."""
    definition, findings = analysis.program.definition, list[Finding]()
    values = {key: found.value[None, :] for key, found in analysis.values.items()}
    for series, expected in analysis.program.outcomes.items():
        rows = analysis.sheet.rows[series]
        holds = {
            word: np.broadcast_to(run(Environment(values, analysis.sheet.keep)), (1, rows))[0]
            for word, run in expected.items()
        }
        outcome = definition.series[series].outcome
        known = {word.casefold(): word for word in outcome.choices} if outcome is not None else {}
        for row, text in enumerate(analysis.run.marks.get(series, [])[:rows], 1):
            seen = known.get((text or "").strip().casefold())
            due = [word for word, found in holds.items() if found[row - 1] == 1.0]
            if seen is None or not due or seen in due or (outcome is not None and outcome.by_rule):
                continue
            findings.append(
                Finding(
                    code="outcome",
                    level="caution",
                    at=f"{series}.{row}",
                    title=f"Row {row}: {seen}, and {due[0]} was predicted",
                    say=f"By the readings of this row, {due[0]} was to be expected. Look at it again, and check the readings of the row.",
                    seen=str(text),
                )
            )
    return findings
