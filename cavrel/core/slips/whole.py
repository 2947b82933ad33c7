"""Sheets as they would be, computed whole, and how much likelier each is than the sheet as it stands."""

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis, analyse, analyse_sheet
from cavrel.core.analysis.sheet import InputReadings, Sheet
from cavrel.core.errors import CavrelError
from cavrel.core.slips import evidence
from cavrel.core.slips.evidence import Features, Repeats
from cavrel.core.slips.hypothesis import Cell, Hypothesis

Array = NDArray[np.float64]


def reanalysed(analysis: Analysis, one: Hypothesis) -> Analysis | None:
    """The analysis of the sheet as a proposal has it; None where it cannot be."""
    try:
        if one.program is not None:
            return analyse(one.program, analysis.run, analysis.rules)
        return analyse_sheet(analysis.program, analysis.run, analysis.rules, changed(analysis.sheet, one))
    except CavrelError:
        return None


def repeats_of(features: Features, index: int) -> dict[str, Repeats]:
    """The repeats of one sheet of a batch."""
    return {
        key: replace(own, squares=own.squares[[index]], unit=own.unit[[index]]) for key, own in features.repeats.items()
    }


_OTHER_CURVE = 2


def comparable(base: Features, found: Features, before: Analysis, after: Analysis) -> float:
    """By how much a sheet computed whole is likelier, as a logarithm, over what both sheets have."""
    fits = base.fits.keys() & found.fits.keys()
    # Another convention may fit another curve, of a parameter or two more or less; of other rows it is another test, left aside on both sides.
    same = before.program is after.program
    pairs = ((n, base.fits[n], found.fits[n]) for n in base.fits.keys() & found.fits.keys())
    fits = {n for n, a, b in pairs if a.known == b.known and (same or abs(a.dof - b.dof) <= _OTHER_CURVE)}
    both = []
    tests = {True: evidence.tested(before), False: evidence.tested(after)}
    for own in (base, found):
        known = {one[1]: one for one in tests[own is base]}
        # A proposal that leaves nothing to compare has not brought two values together: what it lost stays as far apart as it was.
        ought = (
            [known.get(one[1], one) for one in tests[True]]
            if same
            else [o for o in known.values() if o[1] in base.names]
        )
        ought = [one for one in ought if same or one[1] in found.names]
        u = np.array([one[3] for one in ought])
        differences = np.array([[one[2] for one in ought]]) / u if ought else np.zeros((1, 0))
        parts = [one[4] for one in ought]
        if len({len(p) for p in parts}) > 1:  # of two analyses with components of their own
            parts = [np.eye(len(parts))[i] * one[3] for i, one in enumerate(ought)]
        both.append(
            replace(
                own,
                fits={name: own.fits[name] for name in fits},
                differences=differences,
                distance_of_differences=evidence.distance(differences, evidence.correlation(parts, u)),
            )
        )
    return float(evidence.likelihood(both[1])[0] - evidence.likelihood(both[0])[0])


def narrower(before: Analysis, after: Analysis) -> float:
    """What the density of typed numbers gains by tests that became narrower, and pays for those that became wider, as a logarithm: a sheet in
    a unit ten times smaller passes every test that instruments declare in the old one."""
    was, now = evidence.looseness(before), evidence.looseness(after)
    return sum(count * (was[name][0] - width) for name, (width, count) in now.items() if name in was)


def changed(sheet: Sheet, one: Hypothesis) -> Sheet:
    """The sheet as it would be. What nobody can know is left out."""
    cells: dict[str, list[Cell]] = {}
    for cell in one.cells:
        cells.setdefault(cell.key, []).append(cell)
    inputs = []
    for entry in sheet.inputs:
        key = entry.spec.key
        if key in one.columns:
            inputs.append(_with(entry, one.columns[key], one.noise))
        elif key in cells:
            values, extracted = entry.values.copy(), entry.extracted.copy()
            for cell in cells[key]:
                values[cell.row, cell.trial] = cell.value if cell.known else math.nan
                if math.isfinite(cell.u):
                    extracted[cell.row, cell.trial] = cell.u
            inputs.append(replace(entry, values=values, extracted=extracted))
        else:
            inputs.append(entry)
    return replace(sheet, inputs=tuple(inputs))


def _with(entry: InputReadings, values: Array, noise: str) -> InputReadings:
    """An input with other values. Where a whole column is multiplied, last digits and typed ± grow with it; where the noise is of what was shown,
    what its instrument declares does, too."""
    with np.errstate(all="ignore"):
        factor = np.abs(values / entry.values)
    ratio = factor[np.isfinite(factor)]
    same = len(ratio) > 0 and float(np.ptp(ratio)) <= 1e-9 * float(ratio.max())
    size = float(ratio[0]) if same and ratio[0] > 0 else 1.0
    changed = replace(entry, values=values, step=entry.step * size, stated=entry.stated * size)
    gauge = entry.spec.gauge
    if noise != "shown" or gauge is None or size == 1.0:
        return changed
    sized = {name: v * size for name in _SIZED if (v := getattr(gauge, name)) is not None}
    return replace(changed, spec=replace(entry.spec, gauge=replace(gauge, **sized)))


_SIZED = ("least_count", "reaction", "placement", "zero", "offset")
