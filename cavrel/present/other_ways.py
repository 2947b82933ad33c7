"""A result by other ways, side by side, and what would reconcile two of them."""

from dataclasses import dataclass

import numpy as np

from cavrel import catalogue
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.analysis.reconciled import reconciled
from cavrel.core.analysis.records import ResultAnalysis
from cavrel.core.definition.other_ways import other_ways
from cavrel.core.document import result_text
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.value import amount_text
from cavrel.core.words import within
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView

MOST = 3
"""More readings than so many that could each reconcile two ways say nothing of any of them."""


@dataclass(frozen=True, slots=True)
class Way:
    """``way``: by which; ``value``: as text; ``differs``: from the first, with the uncertainty of that, empty for the first."""

    way: str
    value: str
    differs: str


@optional("other ways to a result", list)
def ways(opened: RunView, name: str) -> list[Way]:
    """A result as it stands, and by every other way that its readings allow; empty where there is none."""
    result, body = opened.analysis.results[name], opened.definition.results[name]
    if result.reason:
        return []
    found = [(within(body.method) if body.method else "the definition’s formula", result, opened.analysis)]
    definition, names = other_ways(opened.definition, name)
    if names:
        run = opened.state.run
        program = catalogue.program_of(definition, run.instruments, None, run.accepted, None, run.earlier())
        analysis = analyse(program, run, opened.analysis.rules)
        found = [(found[0][0], analysis.results[name], analysis)]
        found += [(way, analysis.results[other], analysis) for way, other in names.items()]
    for other, alike in opened.analysis.results.items():
        accepted = opened.definition.results[other].accepted
        if other != name and accepted and accepted == body.accepted and alike.unit == result.unit and not body.combine:
            label = opened.definition.results[other].label
            if not names:
                found.append((within(label), alike, opened.analysis))
    first = found[0][1]
    made = [(way, one, analysis) for way, one, analysis in found if not one.reason and one.u > 0]
    # The way that a run takes already is one of these: said once.
    kept = (
        [made[0], *(o for o in made[1:] if not np.isclose(o[1].value, first.value, rtol=1e-9, atol=0))] if made else []
    )
    if len(kept) < 2:
        return []
    return [Way(way, result_text(analysis, one), _differs(analysis, one, first)) for way, one, analysis in kept]


def _differs(analysis: Analysis, one: ResultAnalysis, first: ResultAnalysis) -> str:
    if one is first:
        return ""
    u = float(np.linalg.norm(one.parts - first.parts))
    return analysis.measured(one.value - first.value, u, one.unit.difference).text()


@optional("what would reconcile two ways", str)
def reconciling(opened: RunView, result: ResultAnalysis) -> str:
    """Which reading alone would make a result agree with the other way that it is compared with; empty where none would."""
    candidates = reconciled(opened.analysis, result)[:MOST]
    said = []
    for one in candidates:
        spec = opened.program.input_of[one.key]
        wanted, read = (amount_text(v, spec.unit, 3) for v in (one.value, one.read))
        far = f", {significant(one.far, 2)} standard uncertainties away" if one.far < 1e3 else ""
        said.append(f"{within(spec.label)} {wanted} (read {read}{far})")
    if not said:
        return ""
    if len(said) == 1:
        return f"Both ways would agree with {said[0]}."
    many = "Either" if len(said) == 2 else "Any one"
    return f"{many} of these alone would make both ways agree: {', '.join(said[:-1])}, or {said[-1]}."
