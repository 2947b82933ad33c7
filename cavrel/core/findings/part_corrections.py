"""A correction found in one part and carried into another: what the results are with it and without, and whether it is worth carrying."""

import math
from dataclasses import dataclass

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.records import ResultAnalysis

_TELLS = 2.0
"""Standard uncertainties from zero from which a correction is more than its uncertainty."""
_SAME = 1e-9


@dataclass(frozen=True, slots=True, kw_only=True)
class Changed:
    """One result that a carried correction changes.

    ``name``: of the result.
    ``without``, ``carried``: the result both ways.
    ``by``: carried less without, SI.
    ``u``: standard uncertainty of ``by``, SI, with what both share; NaN where it is not known.
    ``z_without``, ``z_carried``: standard uncertainties from what it is compared with, NaN where there is nothing.
    """

    name: str
    without: ResultAnalysis
    carried: ResultAnalysis
    by: float
    u: float
    z_without: float
    z_carried: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Carried:
    """A correction, the result ``name`` of one part, and what it changes elsewhere. ``tells``: it is larger than its uncertainty would have
    it by chance; None where its uncertainty is not known."""

    name: str
    correction: ResultAnalysis
    tells: bool | None
    changed: tuple[Changed, ...]


def carried(name: str, without: Analysis, carrying: Analysis) -> Carried:
    """What carrying the result ``name`` changes. Both analyses are of the same readings."""
    correction = carrying.results[name]
    tells = abs(correction.value) >= _TELLS * correction.u if correction.u > 0 else None
    alike = (
        without.perturbations.starts == carrying.perturbations.starts
        and without.perturbations.count == carrying.perturbations.count
    )
    changed = []
    for key, result in carrying.results.items():
        before = without.results.get(key)
        if key == name or before is None or result.reason or before.reason:
            continue
        by = result.value - before.value
        if abs(by) <= _SAME * max(abs(result.value), abs(before.value)):
            continue
        changed.append(
            Changed(
                name=key,
                without=before,
                carried=result,
                by=by,
                u=_u(before, result) if alike else math.nan,
                z_without=_z(before),
                z_carried=_z(result),
            )
        )
    return Carried(name=name, correction=correction, tells=tells, changed=tuple(changed))


def _u(before: ResultAnalysis, after: ResultAnalysis) -> float:
    """Of the difference: contributions of one component are subtracted before they are squared (JCGM 100, 5.2)."""
    if not (before.u > 0 and after.u > 0):
        return math.nan
    return float(np.sqrt(np.nansum((after.parts - before.parts) ** 2)))


def _z(result: ResultAnalysis) -> float:
    other = result.compared
    if other is None or not other.u > 0:
        return math.nan
    return (result.value - other.accepted.value) / other.u
