"""Something else: what is left when no known source explains a sheet. A result or a part shifted by an unknown amount, points that scatter
more than declared, a curve that nobody named."""

import math

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.slips import evidence, noise
from cavrel.core.slips.evidence import Features

Array = NDArray[np.float64]


def weight(analysis: Analysis, features: Features, prior: float) -> float:
    """Logarithm of prior times likelihood over that of the sheet as it stands, of everything that has no name."""
    gains: list[float] = []
    gaps = features.differences[0]
    count = len(gaps)
    whole = float(noise.log_likelihood(features.distance_of_differences[:1], count)[0])
    for j in range(count):
        kept = [i for i in range(count) if i != j]
        left = _apart(analysis, features, kept)
        gains.append(
            float(noise.log_likelihood(np.array([left]), count - 1)[0]) - whole + noise.of_effect(float(gaps[j]))
        )
    if count > 1:
        gains.append(sum(noise.of_effect(float(z)) for z in gaps) - whole)
    for name, own in evidence.worst(features).values():
        fit = features.fits[name]
        if not fit.known:
            continue
        chi2, base = float(fit.squares[0]), float(own[0])
        gains.append(noise.of_scatter(chi2, fit.dof) - base)
        bend = _bend(analysis, name, chi2)
        if bend is not None and fit.dof > 1:
            unbent = np.array([max(chi2 - bend, 0.0)])
            straight = float(noise.log_likelihood(unbent, fit.dof - 1, fit.variance_dof)[0])
            gains.append(straight - base + noise.of_effect(math.sqrt(bend)))
    if not gains:
        return math.log(prior)
    return math.log(prior) + float(np.logaddexp.reduce(gains)) - math.log(len(gains))


def _apart(analysis: Analysis, features: Features, kept: list[int]) -> float:
    ought = evidence.tested(analysis)
    u = np.array([ought[i][3] for i in kept])
    parts = [ought[i][4] for i in kept]
    return float(evidence.distance(features.differences[:1][:, kept], evidence.correlation(parts, u))[0])


def _bend(analysis: Analysis, name: str, chi2: float) -> float | None:
    """By how much an added power of x would lower chi-squared; None where that cannot be told."""
    fit = {**analysis.fits, **analysis.means}.get(name)
    if fit is None or not fit.made or fit.diagnostics is None or fit.diagnostics.curvature_p is None:
        return None
    found = fit.diagnostics
    root = np.sqrt(found.weights)
    raw = (found.x - found.x.mean()) ** found.power * root
    rest = raw - found.basis @ (found.basis.T @ raw)
    length = float(rest @ rest)
    if not length > 0:
        return None
    term = float(rest @ (found.residuals * root)) ** 2 / length
    return min(term, chi2)
