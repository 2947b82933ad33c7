"""A line for each word of a table's rows: fits and results of the definition once more, over the rows of one word each."""

import re

from cavrel.core.definition.evaluation import Fit, Result
from cavrel.core.definition.parts import ended
from cavrel.core.definition.whole import Definition
from cavrel.core.quantity import units

_UNJUDGED = {"accepted": None, "below": "", "above": ""}


def lined(definition: Definition, series: str, words: list[str]) -> Definition:
    """The definition with its fits over ``series``, and the results of them, once for each of these words of its rows.

    A fit that runs over the rows of one word already is the line of that word. Results of two words stand with their difference. Only the
    result of the definition's own fit is compared with an accepted value.
    """
    outcome = definition.series[series].outcome
    words = [word for word in words if outcome is not None and word in outcome.choices]
    own = {n: f for n, f in definition.fits.items() if f.series == series and not f.sketch and len(f.marked) < 2}
    fits, results = dict(definition.fits), dict(definition.results)
    for word in words:
        fits |= {_name(n, word, words, definition): _fit(f, word) for n, f in own.items() if word not in f.marked}
    for key, result in definition.results.items():
        named = [name for name in own if re.search(rf"\b{name}\.", result.formula or "")]
        if named:
            ways = _ways(definition, key, named, words)
            results |= {name: made for name, made in ways.values() if made is not None}
            results |= _difference(key, result, {word: name for word, (name, _) in ways.items()})
    return definition.model_copy(update={"fits": fits, "results": results})


def unlined(definition: Definition) -> Definition:
    """The definition without those."""
    fits, results = dict(definition.fits), dict(definition.results)
    gone = {name for name, fit in fits.items() if fit.marked and fit.label.endswith(f", {fit.marked[0]}")}
    while gone:
        fits = {name: fit for name, fit in fits.items() if name not in gone}
        results = {name: result for name, result in results.items() if name not in gone}
        formulas = {name: result.formula or "" for name, result in results.items()}
        gone = {name for name, text in formulas.items() if any(re.search(rf"\b{other}\b", text) for other in gone)}
    return definition.model_copy(update={"fits": fits, "results": results})


def _fit(fit: Fit, word: str) -> Fit:
    return fit.model_copy(update={"marked": (word,), "label": f"{fit.label or 'the line'}, {word}", "expect": None})


def _ways(definition: Definition, key: str, named: list[str], words: list[str]) -> dict[str, tuple[str, Result | None]]:
    """By word, what a result of fits is called over its rows, and itself; None for the definition's own."""
    result, found = definition.results[key], dict[str, tuple[str, Result | None]]()
    of_own = {word for name in named for word in definition.fits[name].marked}
    for word in words:
        if word in of_own:
            found[word] = key, None
            continue
        formula = result.formula or ""
        for name in named:
            formula = re.sub(rf"\b{name}\.", f"{_name(name, word, words, definition)}.", formula)
        label = f"{result.label}, {word}"[:80]
        made = result.model_copy(update={"formula": formula, "label": label, **_UNJUDGED})
        found[word] = _name(key, word, words, definition), made
    return found


def _difference(key: str, result: Result, ways: dict[str, str]) -> dict[str, Result]:
    """The difference of a result between the first two words."""
    if len(ways) < 2:
        return {}
    (first, one), (second, other) = list(ways.items())[:2]
    label, scale = f"{result.label}: {first} less {second}"[:80], bool(units.unit(result.unit or "").offset)
    made = Result(label=label, formula=f"{one} - {other}", unit=result.unit, difference=scale)
    return {ended(key, "_less"): made}


def _name(name: str, word: str, words: list[str], definition: Definition) -> str:
    """What a fit or result is called over the rows of a word: as nothing else of the definition is."""
    plain = re.sub(r"[^A-Za-z0-9]", "", word)[:10] or "w"
    alike = [other for other in words if (re.sub(r"[^A-Za-z0-9]", "", other)[:10] or "w") == plain]
    end = f"_{plain}{alike.index(word) + 1 if len(alike) > 1 else ''}"
    return ended(name, end, definition.fits, definition.results, definition.quantities)
