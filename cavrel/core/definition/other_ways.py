"""A result of a straight line by other ways over the same readings: a line through the origin, the line with its intercept, the mean of rows."""

import re
from collections.abc import Mapping

from cavrel.core.definition.evaluation import Fit
from cavrel.core.definition.parts import ended
from cavrel.core.definition.whole import Definition

ORIGIN, FREE, ROWS = "a line through the origin", "a line with its intercept", "the mean of the single rows"
_ENDS = {ORIGIN: "_zero", FREE: "_free", ROWS: "_rows"}


def other_ways(definition: Definition, result: str) -> tuple[Definition, Mapping[str, str]]:
    """The definition with a fit and a result for each way to ``result``, and by way the name of its result.

    None for a result that is not a formula of one line's slope alone, which theory sends through the origin: other ways would be
    other quantities.
    """
    formula = definition.results[result].formula or ""
    lines = [
        name
        for name, fit in definition.fits.items()
        if re.search(rf"\b{name}\.", formula) and fit.origin and fit.model in ("line", "proportional")
    ]
    whole = [name for name in definition.fits if re.search(rf"\b{name}\.", formula)]
    if len(whole) != 1 or lines != whole or re.search(rf"\b{lines[0]}\.(?!slope\b)", formula):
        return definition, {}
    name, fit = lines[0], definition.fits[lines[0]]
    plain = fit.model_copy(update={"expect": None})
    ways: dict[str, tuple[Fit, str]] = {
        ORIGIN: (plain.model_copy(update={"model": "proportional", "origin": False}), "slope"),
        FREE: (plain.model_copy(update={"model": "line", "origin": False}), "slope"),
        ROWS: (plain.model_copy(update={"model": "mean", "x": None, "y": f"({fit.y})/({fit.x})"}), "mean"),
    }
    fits, results, found = dict(definition.fits), dict(definition.results), dict[str, str]()
    for way, (made, parameter) in ways.items():
        other = ended(name, _ENDS[way], fits)
        fits[other] = made
        found[way] = ended(result, _ENDS[way], results)
        text = re.sub(rf"\b{name}\.slope\b", f"{other}.{parameter}", formula)
        results[found[way]] = definition.results[result].model_copy(update={"formula": text})
    return definition.model_copy(update={"fits": fits, "results": results, "options": {}}), found
