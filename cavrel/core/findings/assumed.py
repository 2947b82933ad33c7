"""What nobody typed and formulas reckon with all the same."""

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.definition.steps import Derived
from cavrel.core.findings.finding import Finding
from cavrel.core.formula.evaluate import Environment
from cavrel.core.quantity.rounding import significant
from cavrel.core.words import within

USUAL = 100e-6
"""Dead time of a common Geiger counter, s."""
MATTERS = 0.01
"""It is said where that would change a value by this share of it, or more."""


def of_dead_times(analysis: Analysis) -> list[Finding]:
    """A counter whose dead time formulas subtract, of which nothing is said, where it counts fast enough for that to matter."""
    program, findings = analysis.program, []
    for key in (key for key, value in program.constants.items() if key.endswith(".dead_time") and value == 0):
        gauge = program.gauges[key.partition(".")[0]]
        largest, label = 0.0, ""
        plain = {**analysis.nominal, "pi": np.array([[np.pi]])}
        for step in program.steps:
            if not isinstance(step, Derived):
                continue
            with np.errstate(all="ignore"):
                without, with_it = (
                    step.run(Environment({**plain, key: np.array([[time]])}, analysis.sheet.keep))
                    for time in (0.0, USUAL)
                )
                shares = np.abs(with_it / without - 1)
            if float(np.nanmax(shares, initial=0.0)) > largest:
                largest = float(np.nanmax(shares))
                label = _label(analysis, step)
        if largest > MATTERS:
            say = (
                f"No dead time is entered for the {gauge.label}, so counts are not corrected. With a typical 100 µs, "
                f"{within(label)} would change by up to {significant(100 * largest, 2)} %. Enter it in Plan; its data sheet gives it."
            )
            findings.append(Finding(code="dead-time", level="note", at="run", title="Dead time not entered", say=say))
    return findings


def _label(analysis: Analysis, step: Derived) -> str:
    definition = analysis.program.definition
    body = (
        definition.quantities[step.name] if step.series is None else definition.series[step.series].columns[step.name]
    )
    return body.label
