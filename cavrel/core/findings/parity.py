"""Readings held to account: identities that are true whatever the truth is, standards, and the rows that break them."""

import math

import numpy as np
from numpy.typing import NDArray
from scipy import special

from cavrel.core.analysis import Analysis
from cavrel.core.findings.finding import Finding
from cavrel.core.quantity.rounding import significant
from cavrel.core.quantity.units import Unit
from cavrel.core.quantity.value import amount_text
from cavrel.core.words import counted

_ALPHA = 0.001
"""Chance that readings without a slip break an identity so far; for one row among several, shared among them."""


def of_identities(analysis: Analysis) -> list[Finding]:
    """A remark on every row that breaks an identity, or on the whole where no single row does."""
    findings = []
    for parity in analysis.parities:
        if not math.isfinite(parity.chi2) or parity.dof < 1:
            continue
        body = analysis.program.definition.identities[parity.index]
        z = np.where(parity.u > 0, parity.residual / np.where(parity.u > 0, parity.u, 1.0), 0.0)
        chance = special.erfc(np.abs(np.nan_to_num(z)) / math.sqrt(2)) * parity.dof
        keep = analysis.sheet.keep[parity.series] if parity.series else np.ones(1, bool)
        odd = np.flatnonzero((chance < _ALPHA) & keep)
        several = len(odd) > max(1, parity.dof // 3)
        if len(odd) and not several and parity.series:
            for row in odd.tolist():
                findings.append(
                    Finding(
                        code="parity",
                        level="caution",
                        at=f"{parity.series}.{row + 1}",
                        title=f"Row {row + 1} contradicts itself",
                        say=f"{body.say} Here the two sides differ by {amount_text(parity.residual[row], parity.unit, 2, True)}, "
                        f"{significant(abs(float(z[row])), 2)} standard uncertainties. One of its readings must be wrong.",
                        row_out=(parity.series, row + 1),
                    )
                )
        elif special.chdtrc(parity.dof, parity.chi2) < _ALPHA:
            known = parity.residual[np.isfinite(parity.residual) & keep]
            findings.append(
                Finding(
                    code="parity",
                    level="caution",
                    at=f"series.{parity.series}" if parity.series else "run",
                    title="Readings contradict each other",
                    say=f"{body.say} The two sides differ by {amount_text(float(np.median(known)), parity.unit, 2, True)}"
                    f"{' (median)' if parity.series else ''}: something that enters every row is wrong."
                    if parity.series
                    else f"{body.say} The two sides differ by {amount_text(float(known[0]), parity.unit, 2, True)}, "
                    f"{significant(math.sqrt(parity.chi2), 2)} standard uncertainties.",
                )
            )
    return findings


def of_verifications(analysis: Analysis) -> list[Finding]:
    """A remark on every table compared with a standard of which a row lies further from it than it may."""
    findings = []
    for verified in analysis.verified:
        keep = analysis.sheet.keep[verified.series]
        known = np.isfinite(verified.differ) & keep
        beyond = np.flatnonzero(known & (np.abs(verified.differ) > verified.within * (1 + 1e-9)))
        if not len(beyond):
            continue
        body = analysis.program.definition.verify[verified.index]
        unit = analysis.program.verifications[verified.index].differ.unit
        worst = amount_text(float(np.abs(verified.differ[beyond]).max()), unit, 2, True)
        say = (
            f"{counted(len(beyond), 'row')} of {int(known.sum())} {'differs' if len(beyond) == 1 else 'differ'} from the standard by more than "
            f"{body.limit}{_one_limit(verified.within, unit)}; the largest difference is "
            f"{worst}. As it is, it cannot replace the standard."
        )
        at = f"series.{verified.series}"
        findings.append(
            Finding(code="verification", level="caution", at=at, title=f"{body.label}: not passed", say=say)
        )
    return findings


def _one_limit(within: NDArray[np.float64], unit: Unit) -> str:
    """The limit as an amount after a comma, where it is the same in every row."""
    known = within[np.isfinite(within)]
    return f", {amount_text(float(known[0]), unit, 2, True)}" if len(known) and np.ptp(known) == 0 else ""
