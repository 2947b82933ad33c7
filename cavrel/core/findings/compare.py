"""Two ways to one number that disagree: which reading is the likeliest cause, and what it would have to be."""

import math
from collections.abc import Iterable
from dataclasses import replace
from itertools import pairwise

import numpy as np
from scipy import optimize

from cavrel.core.analysis import Analysis, ResultAnalysis, analyse
from cavrel.core.definition.steps import Input
from cavrel.core.findings.finding import Finding
from cavrel.core.quantity.rounding import significant

FAR_APART = 2.0
"""Two values further apart than so many expanded uncertainties of their difference are asked about: chance does that to one comparison in
ten thousand. The verdict speaks sooner."""
_ROUNDS = 12


def apart(analysis: Analysis) -> list[Finding]:
    """A remark for every result that disagrees with what the same run says in another way."""
    findings = []
    for result in analysis.results.values():
        other, body = result.compared, analysis.program.definition.results[result.name]
        if other is None or not other.measured or result.reason or body.below or body.above:
            continue
        accepted = other.accepted
        difference = result.value - accepted.value
        if not other.u > 0 or not abs(difference) > FAR_APART * other.coverage_factor * other.u:
            continue
        times = significant(abs(difference) / other.u, 2)
        say = (
            f"{body.label} comes out as {_shown(result, result.value)}, but {_other(analysis, result)} says "
            f"{_shown(result, accepted.value)}: {times} standard uncertainties apart. Both cannot be right."
        )
        findings.append(
            Finding(code="apart", level="caution", at=f"results.{result.name}", title="Two ways disagree", say=say)
        )
    return findings


def _shown(result: ResultAnalysis, value: float) -> str:
    return f"{significant(result.unit.from_si(value), 3)} {result.unit.pretty}".strip()


def _other(analysis: Analysis, result: ResultAnalysis) -> str:
    """What the other value is called: its own label where it is a result or a reading, else its formula's words."""
    own = analysis.program.definition.results[result.name].accepted or ""
    definition = analysis.program.definition
    for table in (definition.results, definition.quantities):
        if own in table:
            label = table[own].label
            return label[0].lower() + label[1:]
    return "the other way"


def explained(analysis: Analysis, findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """The same remarks, each on two ways that disagree with its likeliest cause. Takes some thirty analyses for each of those, so it is
    asked for where it is read."""
    found = []
    for finding in findings:
        if finding.code == "apart":
            why = _cause(analysis, analysis.results[finding.result])
            finding = replace(finding, say=f"{finding.say} {why}".strip())
        found.append(finding)
    return tuple(found)


def _cause(analysis: Analysis, result: ResultAnalysis) -> str:
    """The reading whose own uncertainty weighs most in the difference, and what it would have to be; a sentence or none."""
    assert result.compared is not None
    weights: dict[str, float] = {}
    for index, block in enumerate(analysis.pushes.blocks):
        if block.quantity:
            own = result.compared.parts[analysis.pushes.span(index)]
            weights[block.subject] = weights.get(block.subject, 0.0) + float(own @ own)
    if not weights:
        return ""
    worst = max(weights, key=lambda key: weights[key])
    if not weights[worst] > 0:
        return ""
    spec = analysis.program.input_of[worst]
    say = f"Of all readings “{spec.label}” is the least certain here, so look at it first"
    wanted = _reconciling(analysis, result.name, spec) if spec.series is None else None
    if wanted is None:
        return f"{say}."
    now = float(analysis.values[worst].value[0])
    unit = spec.unit
    would, is_now = (significant(unit.from_si(v), 2) for v in (wanted, now))
    return f"{say}: for both to agree it would have to be {would} {unit.pretty}, not {is_now} {unit.pretty}."


def _reconciling(analysis: Analysis, result: str, spec: Input) -> float | None:
    """The value, SI, of one reading at which the difference vanishes; None where no value between a tenth and the tenfold does that.

    Brent's method on the first sign change (SciPy), a new analysis for each step.
    """
    now = float(analysis.values[spec.key].value[0])
    compared = analysis.results[result].compared
    if not now or compared is None:
        return None

    def difference(value: float) -> float:
        text = f"{spec.unit.from_si(value):.12g}"
        run = analysis.run.model_copy(update={"quantities": {**analysis.run.quantities, spec.name: text}})
        found = analyse(analysis.program, run, analysis.rules).results[result]
        return found.value - found.accepted.value if found.accepted and not found.reason else math.nan

    grid = [now * factor for factor in np.geomspace(0.1, 10, 21)]
    seen = [(value, difference(value)) for value in grid]
    pairs = [(a, b) for a, b in pairwise(seen) if a[1] * b[1] <= 0]
    if not pairs:
        return None
    low, high = min(pairs, key=lambda pair: abs(math.log(abs(pair[0][0] / now))))
    if 0.0 in (low[1], high[1]):
        return float(low[0] if low[1] == 0 else high[0])
    try:
        return float(optimize.brentq(difference, low[0], high[0], rtol=1e-4, maxiter=_ROUNDS, disp=False))
    except ValueError:  # no value somewhere on the way
        return None
