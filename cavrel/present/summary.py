"""A run in a few lines, for lists and comparisons."""

import math
from dataclasses import asdict
from typing import Any

from cavrel.present.stages import stages
from cavrel.service.run_view import RunView


def summary(opened: RunView) -> dict[str, Any]:
    """As JSON: ``of`` the experiment's title, ``begun``, ``stages``, ``findings`` how many remarks, ``results`` with value and u in SI."""
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
    }
