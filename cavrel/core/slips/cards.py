"""A suspect in words: what happened, what speaks for it, what it would change, and what can be written."""

import math

from cavrel.core.analysis import Analysis
from cavrel.core.quantity.rounding import significant
from cavrel.core.slips.evidence import Features
from cavrel.core.slips.hypothesis import Hypothesis
from cavrel.core.slips.records import Change, Suspect
from cavrel.core.words import within


def suspect(
    analysis: Analysis,
    one: Hypothesis,
    other: Analysis,
    says: str,
    probability: float,
    score: float,
    causes: tuple[tuple[str, float], ...],
    at: str,
    convertible: bool,
    chooses: str,
) -> Suspect:
    """The card of a place. ``one``: its likeliest cause; ``other``: the sheet as that would have it; ``says``: what speaks for it; ``causes``: all
    with their shares; ``at``: the place; ``convertible``: whether whole columns may be converted; ``chooses``: the choice of a convention that it
    makes."""
    cell = one.cells[0] if len(one.cells) == 1 and one.cells[0].text and not one.again else None
    return Suspect(
        family=one.family,
        at=one.at,
        place=at,
        say=f"{one.say[0].upper()}{one.say[1:]}. {says}".strip(),
        fix=one.do,
        before=first_result(analysis),
        after=first_result(other),
        changes=changes(analysis, other),
        score=score,
        probability=probability,
        causes=causes,
        proposal=(cell.key, cell.row + 1, cell.trial + 1, cell.text) if cell else None,
        writes=tuple(writes(analysis, one)) if convertible else (),
        stretches=tuple(
            (c.key, c.row + 1, c.trial + 1, *span) for c, span in zip(one.cells, one.stretches, strict=False)
        ),
        chooses=chooses,
        hypothesis=one,
    )


def changes(before: Analysis, after: Analysis) -> tuple[Change, ...]:
    """Every result that would read differently."""
    found = []
    for name, was in before.results.items():
        now = after.results.get(name)
        texts = [r.text(before.rules.rounding) if r is not None and not r.reason else "no value" for r in (was, now)]
        if texts[0] != texts[1]:
            found.append(
                Change(name=name, label=before.program.definition.results[name].label, before=texts[0], after=texts[1])
            )
    return tuple(found)


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
        return f"Read {places[0]} again: that decides between the two."
    return f"Both fit about equally well. Read {places[0]} or {places[1]} again: either decides."


def place(analysis: Analysis, at: str) -> str:
    """A place in words."""
    program = analysis.program
    if at.startswith("systematic."):
        body = program.definition.systematic[int(at.removeprefix("systematic."))]
        return f"a physical cause ({body.label})"
    if at.startswith("instruments."):
        return f"everything read with the {within(program.gauges[at.removeprefix('instruments.')].label)}"
    parts = at.removeprefix("quantities.").split(".")
    key = parts[0] if at.startswith("quantities.") else ".".join(parts[:2])
    if key not in program.input_of:
        return "a convention"
    spec = program.input_of[key]
    label = f"“{spec.label}”"
    if spec.series is None:
        return label
    table = f" of {program.definition.series[spec.series].short}" if len(program.definition.series) > 1 else ""
    if len(parts) < 3:
        return f"every {label}{table}"
    trial = f", trial {parts[3]}" if len(parts) > 3 and spec.repeats > 1 else ""
    return f"{label}{table} in row {parts[2]}{trial}"


def first_result(analysis: Analysis) -> str:
    """The first result that has a value, as text."""
    for result in analysis.results.values():
        if not result.reason:
            return result.text(analysis.rules.rounding)
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
                        f"χ² of {label} falls from {significant(was, 3)} to {significant(now, 2)}, where about {before.fits[name].dof} is expected",
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
                    f"{within(label)} goes from {significant(was, 2)} to {significant(now, 1)} standard uncertainties",
                )
            )
    if after.implausible[0] < before.implausible[0]:
        clauses.append((3.0, "the value comes into its usual range"))
    if after.lost[0] < before.lost[0]:
        clauses.append((3.0, "every row has a value"))
    if after.uneven[0] < before.uneven[0]:
        clauses.append((1.5, "the settings are evenly spaced"))
    clauses.sort(key=lambda one: -one[0])
    chosen = [text for _, text in clauses[:2]]
    return f"If corrected, {' and '.join(chosen)}." if chosen else ""
