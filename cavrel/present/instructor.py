"""True values of the simulated apparatus, compared with what the run found."""

import math
from dataclasses import dataclass

from scipy import special

from cavrel.core.bench import Bench
from cavrel.core.bench import truths as hidden
from cavrel.core.document import result_text
from cavrel.core.quantity.value import amount_text
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True)
class Truth:
    """``label``: of a result. ``true``: what the apparatus hides. ``found``: what the run found, empty while nothing. ``off``: how many of its
    standard uncertainties lie between, None where it has none. ``chance``: how often chance alone would put them as far apart."""

    label: str
    true: str
    found: str
    off: float | None
    chance: float | None


def truths(opened: RunView, bench: Bench) -> list[Truth]:
    """The hidden truth of each result that the simulation states."""
    listed = []
    for name, value in hidden(opened.program, bench.seed).items():
        result = opened.analysis.results[name]
        found = "" if result.reason else result_text(opened.analysis, result)
        known = not result.reason and result.u > 0 and math.isfinite(result.value)
        true = amount_text(value, result.unit, 5)
        off = abs(result.value - value) / result.u if known else None
        chance = 2 * float(special.stdtr(result.dof, -off)) if off is not None else None
        listed.append(Truth(opened.definition.results[name].label, true, found, off, chance))
    return listed
