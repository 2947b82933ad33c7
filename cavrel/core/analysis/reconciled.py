"""Which value of one single reading would make two ways to a result agree."""

import math
from dataclasses import dataclass

from cavrel.core.analysis.records import Analysis, ResultAnalysis
from cavrel.core.analysis.runner import analyse
from cavrel.core.analysis.zeros import zero_of
from cavrel.core.errors import CavrelError

FAR = 2.0
"""Two ways that differ by more standard uncertainties than this are worth reconciling."""
_ROUNDS, _NEAR = 12, 1e-4
_STARTS = (1.0, 10.0, 0.1)
"""Times what was read: near it, and where a decimal point was lost."""
_LARGEST = 12.0
"""A reading that would have to be more times larger or smaller than this is no candidate: that is another kind of mistake."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Reconciled:
    """``key``: of the quantity; ``value``, ``read``: what it would have to be and what was read, SI; ``far``: their difference over the standard
    uncertainty of what was read, infinite where it has none."""

    key: str
    value: float
    read: float
    far: float


def reconciled(analysis: Analysis, result: ResultAnalysis) -> list[Reconciled]:
    """The quantities of the run that alone could reconcile a result with what it is compared with, the nearest first.

    Empty unless it is compared with another way of the same run, from which it differs by more than `FAR`.
    """
    compared = result.compared
    if compared is None or not compared.measured or compared.waits or not compared.u > 0:
        return []
    if not abs(result.value - compared.accepted.value) > FAR * compared.u:
        return []
    needs = analysis.program.needs[result.name] | analysis.program.needs.get(f"{result.name}#accepted", frozenset())
    found = []
    for spec in analysis.program.inputs:
        values = analysis.values[spec.key]
        if spec.series is not None or spec.key not in needs or spec.exact or spec.count or spec.default is not None:
            continue
        if analysis.run.left_out_trials("", spec.name):
            continue
        read, u = float(values.value[0]), float(values.u[0])
        if not math.isfinite(read) or read == 0:
            continue
        wanted = next((w for s in _STARTS if (w := _root(analysis, result.name, spec.key, read, s)) is not None), None)
        if wanted is not None and 1 / _LARGEST < wanted / read < _LARGEST:
            far = abs(wanted - read) / u if u > 0 else math.inf
            found.append(Reconciled(key=spec.key, value=wanted, read=read, far=far))
    return sorted(found, key=lambda one: one.far)


def _root(analysis: Analysis, result: str, key: str, read: float, start: float) -> float | None:
    """The value of a quantity at which the difference vanishes, by secants from ``start`` times what was read; None where these find none."""
    first, second = start, 1.01 * start
    one, other = (_difference(analysis, result, key, read * share) for share in (first, second))
    for _ in range(_ROUNDS):
        if one is None or other is None or other == one:
            return None
        following = second - other * (second - first) / (other - one)
        if not 1 / _LARGEST < following < _LARGEST:
            return None
        if abs(following - second) < _NEAR:
            return read * following
        first, one, second = second, other, following
        other = _difference(analysis, result, key, read * second)
    return None


def _difference(analysis: Analysis, result: str, key: str, value: float) -> float | None:
    """How far both ways are apart if a quantity had been read so."""
    spec = analysis.program.input_of[key]
    text = f"{spec.unit.from_si(value + zero_of(spec, analysis.sheet.zeros)):.10g}"
    run = analysis.run.model_copy(update={"quantities": {**analysis.run.quantities, spec.name: text}})
    try:
        found = analyse(analysis.program, run, analysis.rules).results[result]
    except CavrelError:
        return None
    if found.reason or found.compared is None:
        return None
    difference = found.value - found.compared.accepted.value
    return difference if math.isfinite(difference) else None
