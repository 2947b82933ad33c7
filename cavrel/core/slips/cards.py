"""A suspect in words: what happened, what speaks for it, what it would change, and what can be written."""

import math

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.quantity.rounding import significant
from cavrel.core.slips.evidence import Features
from cavrel.core.slips.hypothesis import Cell, Hypothesis
from cavrel.core.slips.records import Suspect
from cavrel.core.slips.whole import worked_out


def suspect(
    analysis: Analysis,
    one: Hypothesis,
    other: Analysis,
    says: str,
    probability: float,
    score: float,
    also: tuple[str, ...],
    chooses: str,
) -> Suspect:
    """The card of a proposal. ``other``: the sheet as it would be; ``says``: what speaks for it; ``also``: what fits the same place nearly as
    well; ``chooses``: the choice of a convention that it makes."""
    out = leaves_out(analysis, one)
    if one.again:  # shown is what the fix makes of it, and that leaves the reading out
        cells = tuple(Cell(*place, math.nan) for place in out)
        other = worked_out(analysis, Hypothesis(family=one.family, at=one.at, say="", do="", cells=cells)) or other
    return Suspect(
        family=one.family,
        at=one.at,
        say=f"{one.say[0].upper()}{one.say[1:]}. {says}".strip(),
        fix=one.do,
        before=first_result(analysis),
        after=first_result(other),
        score=score,
        probability=probability,
        writes=() if one.again else tuple(writes(analysis, one)),
        leaves_out=tuple((key, row + 1, trial + 1) for key, row, trial in out),
        stretches=tuple((c.key, c.row + 1, c.trial + 1, *one.stretch) for c in one.cells) if one.stretch else (),
        chooses=chooses,
        also=also,
        hypothesis=one,
    )


def leaves_out(analysis: Analysis, one: Hypothesis) -> list[tuple[str, int, int]]:
    """Input, row and trial from 0 of what nobody can write anew."""
    found = [(c.key, c.row, c.trial) for c in one.cells if one.again or not c.known]
    if one.again:
        for key, values in one.columns.items():
            was = next(e.values for e in analysis.sheet.inputs if e.spec.key == key)
            found += [(key, i, j) for i, j in np.argwhere(np.isfinite(was) & (values != was)).tolist()]
    return found


def writes(analysis: Analysis, one: Hypothesis) -> list[tuple[str, int, int, str]]:
    """Input, row and trial from 1, and the text, of everything that changes."""
    found = [(c.key, c.row + 1, c.trial + 1, c.text) for c in one.cells if c.text]
    entries = {entry.spec.key: entry for entry in analysis.sheet.inputs}
    for key, rows in (one.texts() if one.texts else {}).items():
        for i, row in enumerate(rows):
            for j, text in enumerate(row):
                if text and not math.isclose(
                    float(one.columns[key][i, j]), float(entries[key].values[i, j]), rel_tol=1e-12, abs_tol=0.0
                ):
                    found.append((key, i + 1, j + 1, text))
    return found


def ask(analysis: Analysis, first: Suspect, second: Suspect) -> str:
    """The reading that would tell two suspects apart: the one of them that is easier to take again."""
    places = [place(analysis, s.at) for s in (first, second)]
    if places[0] == places[1]:
        return f"Read {places[0]} again: it decides between the two."
    return f"These two fit nearly alike. Read {places[0]} again, or {places[1]}: either decides."


def place(analysis: Analysis, at: str) -> str:
    """A place in words."""
    parts = at.removeprefix("quantities.").split(".")
    program = analysis.program
    key = at.removeprefix("quantities.") if at.startswith("quantities.") else ".".join(parts[:2])
    key = key if key in program.input_of else parts[0]
    if key not in program.input_of:
        return "what the law takes for granted"
    label = f"“{program.input_of[key].label}”"
    row = parts[2] if len(parts) > 2 and not at.startswith("quantities.") else ""
    return f"{label} in row {row}" if row else label


def first_result(analysis: Analysis) -> str:
    """The first result that has a value, as text."""
    for result in analysis.results.values():
        if not result.reason:
            return result.measured(analysis.rules.rounding).text()
    return "no result"


def speaks(analysis: Analysis, before: Features, after: Features) -> str:
    """What speaks for a suspect: the clauses that moved most, a sentence."""
    clauses: list[tuple[float, str]] = []
    for key in before.repeats.keys() & after.repeats.keys():
        was, now = float(before.repeats[key].squares[0]), float(after.repeats[key].squares[0])
        if was > 1.5 * now:
            gain = 0.5 * before.repeats[key].dof * math.log(was / max(now, 1e-12))
            label = analysis.program.input_of[key].label
            times = math.sqrt(was / max(now, 1e-12))
            how = f"{times:.1f} times" if times < 100 else "far"
            clauses.append((gain, f"repeats of “{label}” scatter {how} less"))
    for name in before.fits.keys() & after.fits.keys():
        if name.startswith("identity#"):
            continue
        was, now = float(before.fits[name].squares[0]), float(after.fits[name].squares[0])
        if was > 1.3 * now:
            label = analysis.program.fits[name].label or name
            gain = 0.5 * before.fits[name].dof * math.log(was / max(now, 1e-12))
            if before.fits[name].known:
                clauses.append(
                    (
                        gain,
                        f"χ² of {label} falls from {significant(was, 3)} to {significant(now, 2)}, with {before.fits[name].dof} to expect",
                    )
                )
            else:
                clauses.append(
                    (gain, f"the points of {label} scatter {math.sqrt(was / max(now, 1e-12)):.1f} times less")
                )
    for i, name in enumerate(before.names):
        if name not in after.names:
            continue
        was, now = abs(float(before.differences[0, i])), abs(float(after.differences[0, after.names.index(name)]))
        if was > now + 1:
            program = analysis.program
            label = program.definition.results[name].label if name in program.definition.results else "the intercept"
            clauses.append(
                (
                    0.5 * (was**2 - now**2) / (1 + was),
                    f"{_lower(label)} comes from {significant(was, 2)} to {significant(now, 1)} standard uncertainties",
                )
            )
    if after.implausible[0] < before.implausible[0]:
        clauses.append((3.0, "what was out of its usual range is inside"))
    if after.lost[0] < before.lost[0]:
        clauses.append((3.0, "every row has a value"))
    if after.uneven[0] < before.uneven[0]:
        clauses.append((1.5, "the settings are even"))
    clauses.sort(key=lambda one: -one[0])
    chosen = [text for _, text in clauses[:2]]
    return f"With it set right {' and '.join(chosen)}." if chosen else ""


def _lower(label: str) -> str:
    return label[0].lower() + label[1:]
