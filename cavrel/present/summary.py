"""A run in a few lines, for lists and comparisons."""

import math
from dataclasses import asdict
from typing import Any

from cavrel.core.document import result_text
from cavrel.present.stages import stages
from cavrel.service.run_view import RunView


def summary(opened: RunView) -> dict[str, Any]:
    """As JSON: ``of`` the experiment's title, ``begun``, ``stages``, ``flags`` how many remarks to check, ``results`` with value and u in SI,
    ``answer`` the name of the first result and its value as text, empty while there is none."""
    results = {
        name: {"value": float(result.value), "u": float(result.u), "dimension": result.unit.dimension.si()}
        for name, result in opened.analysis.results.items()
        if not result.reason and math.isfinite(result.value) and 0 < result.u < math.inf
    }
    return {
        "of": opened.definition.title,
        "begun": opened.begun.isoformat(),
        "stages": [asdict(stage) for stage in stages(opened)],
        "flags": sum(finding.level != "note" for finding in opened.findings),
        "results": results,
        "answer": _answer(opened),
    }


def _answer(opened: RunView) -> list[str]:
    result = opened.result
    return [] if result is None or result.reason else [result.name, result_text(opened.analysis, result)]
