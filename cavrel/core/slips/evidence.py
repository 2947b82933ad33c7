"""How well a sheet hangs together: one logarithm of a likelihood, from features free of units and scale; long because all witnesses stand here.

The data are the numbers as typed. The size of the noise is unknown and integrated out in every part (`noise`): chi-squared of a fit,
squares within repeats, and differences that ought to be zero, weighed together with their correlations.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.components import resolution_u
from cavrel.core.analysis.sheet import InputReadings
from cavrel.core.definition.rules import HouseRules
from cavrel.core.slips import noise

Array = NDArray[np.float64]

_LOOSE = 0.35
"""Share of its u that a difference may be off by for reasons of its own; keeps differences that are nearly one from speaking twice."""
LOST, UNEVEN = 7.0, 1.3
IMPLAUSIBLE, ONCE_MORE = 5.0, 2.0
"""What a row without a value, an uneven setting, a value out of its range and every further one cost."""
MOST_OF_A_KIND = 4
_FLOOR = 1e-6
_EVEN, _UNSAID = 0.6, 3.0
"""Share of settings up to which a series counts as even, and what one that is not costs."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Repeats:
    """Repeated readings of one input. ``squares``: ``(H,)`` about the rows' means, over the declared variance; ``dof``: of them; ``unit``:
    ``(H,)`` logarithm of the factor of the unit that they are taken in, over all degrees of freedom: what is typed in a unit a thousand times
    smaller scatters over a thousand times as many numbers."""

    squares: Array
    dof: int
    unit: Array


@dataclass(frozen=True, slots=True, kw_only=True)
class Fitted:
    """One fit. ``squares``: ``(H,)`` chi-squared where the variances are ``known``, else the residuals' squares over the scale of y;
    ``variance_dof``: degrees of freedom of the variances, infinite where they are declared; ``series``: the table whose rows it runs over."""

    squares: Array
    dof: int
    known: bool
    variance_dof: float
    series: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Features:
    """What speaks for or against each of ``H`` sheets.

    ``repeats``: by input.
    ``fits``: by name.
    ``distance_of_differences``: ``(H,)`` squared distance of all differences from zero (Mahalanobis).
    ``differences``: ``(H, m)`` each of them in its own standard uncertainties; ``names`` says which.
    ``lost``: ``(H,)`` rows and results without a value though everything behind them was read.
    ``implausible``: ``(H,)`` readings and results out of their ranges.
    ``uneven``: ``(H,)`` settings that break an even series.
    """

    repeats: dict[str, Repeats]
    fits: dict[str, Fitted]
    distance_of_differences: Array
    differences: Array
    names: tuple[str, ...]
    lost: Array
    implausible: Array
    uneven: Array


CHANCE = 0.01
"""A test that comes out as rarely as this by chance is failed."""


def failed(found: Features) -> list[str]:
    """Names of the tests that a sheet computed whole fails: tables by their worst curve, identities, single differences, ranges."""
    names = []
    for name, fit in found.fits.items():
        if fit.known and noise.chance(float(fit.squares[0]), fit.dof, fit.variance_dof) < CHANCE:
            names.append(f"table {fit.series}" if not name.startswith("identity#") else name)
    for name, size in zip(found.names, found.differences[0].tolist(), strict=True):
        if noise.chance(size**2, 1) < CHANCE:
            names.append(f"difference {name}")
    if found.implausible[0] > 0:
        names.append("range")
    if found.lost[0] > 0:
        names.append("lost")
    return list(dict.fromkeys(names))


def of_repeats(repeats: Repeats) -> Array:
    """What repeated readings say by their scatter, ``(H,)``, as a logarithm."""
    return noise.within_rows(repeats.squares, repeats.dof) + repeats.unit


def worst(found: Features) -> dict[str, tuple[str, Array]]:
    """By table, its curve that is worst off on the sheet as it stands, and the logarithm of the likelihood of each sheet by its worst. Two curves
    through the same rows are not two witnesses."""
    of: dict[str, tuple[str, Array]] = {}
    for name, fit in found.fits.items():
        if fit.known:
            own = noise.log_likelihood(fit.squares, fit.dof, fit.variance_dof)
        else:
            own = -0.5 * fit.dof * np.log(fit.squares + _FLOOR)
        if fit.series not in of:
            of[fit.series] = name, own
        else:
            was, other = of[fit.series]
            of[fit.series] = (name if own[0] < other[0] else was), np.minimum(own, other)
    return of


def tests(found: Features) -> Array:
    """The part of the likelihood that fits, identities and differences have, ``(H,)``."""
    total = np.zeros(len(found.distance_of_differences))
    for _, own in worst(found).values():
        total = total + own
    return np.asarray(total + noise.log_likelihood(found.distance_of_differences, found.differences.shape[1]))


def likelihood(found: Features) -> Array:
    """Logarithm of the likelihood of each sheet, ``(H,)``, up to a constant of the experiment."""
    total = tests(found)
    for repeats in found.repeats.values():
        total += of_repeats(repeats)
    total -= LOST * np.minimum(found.lost, MOST_OF_A_KIND)
    total -= np.where(found.implausible > 0, IMPLAUSIBLE - ONCE_MORE, 0.0)
    total -= ONCE_MORE * np.minimum(found.implausible, MOST_OF_A_KIND)
    total -= UNEVEN * found.uneven
    return np.asarray(total)


def distance(differences: Array, correlation: Array) -> Array:
    """Squared distance ``(H,)`` of ``differences`` ``(H, m)``, in standard uncertainties, whose correlation ``(m, m)`` is known."""
    if not differences.shape[1]:
        return np.zeros(len(differences))
    loose = correlation + _LOOSE**2 * np.eye(len(correlation))
    known = np.where(np.isfinite(differences), np.clip(differences, -1e6, 1e6), 0.0)
    return np.asarray(np.maximum(np.einsum("hm,hm->h", known, np.linalg.solve(loose, known.T).T), 0.0))


def declared(entry: InputReadings, rules: HouseRules) -> float:
    """Variance of single readings of an input as its instrument declares it, SI; of the last digit alone where there is none."""
    gauge = entry.spec.gauge
    known = entry.step[np.isfinite(entry.step)]
    step = float(np.median(known)) if len(known) else 0.0
    if gauge is not None and gauge.least_count is not None and entry.spec.extract is None:
        step = gauge.least_count
    own = (gauge.reaction or 0.0, gauge.placement or 0.0) if gauge is not None else (0.0, 0.0)
    return float(np.square(resolution_u(step, rules)) + own[0] ** 2 + own[1] ** 2)


def marks(entry: InputReadings) -> float:
    """The steps in which the readings of an input were typed, SI: their last digit, without the zeros that all of them end in."""
    known = np.isfinite(entry.values) & np.isfinite(entry.step) & (entry.step > 0)
    if not known.any():
        return math.inf
    step = float(entry.step[known].min())
    counts = np.abs(entry.spec.unit.from_si(entry.values[known]) / (step / entry.spec.unit.factor))
    while counts.max() >= 0.5 and (np.abs(counts / 10 - np.round(counts / 10)) < 1e-6).all():
        counts, step = counts / 10, step * 10
    return step


def scale(values: Array) -> Array:
    """How large ``values`` ``(H, n)`` are, ``(H, 1)``, whatever is added to all of them and however wild one is: the median distance
    from the median."""
    away = np.abs(values - median(values))
    found = median(away)
    known = np.where(np.isnan(away), -np.inf, away)
    return np.asarray(np.where(found > 0, found, known.max(axis=1, keepdims=True)))


def median(values: Array) -> Array:
    """The median of what is known in each row of ``values`` ``(H, n)``, ``(H, 1)``; NaN where nothing is."""
    ordered = np.sort(values, axis=1)  # what is not known comes last
    count = np.isfinite(values).sum(axis=1, keepdims=True)
    low = np.take_along_axis(ordered, np.maximum((count - 1) // 2, 0), axis=1)
    high = np.take_along_axis(ordered, np.minimum(count // 2, values.shape[1] - 1), axis=1)
    return np.asarray(np.where(count > 0, np.where(count % 2 == 0, (low + high) / 2, low), np.nan))


def within(values: Array) -> tuple[Array, int]:
    """Squares of ``(rows, trials)`` about the rows' means ``(rows,)``, and their degrees of freedom."""
    many = np.isfinite(values).sum(axis=1)
    mean = np.where(many > 0, np.nansum(values, axis=1) / np.maximum(many, 1), np.nan)
    return np.nansum((values - mean[:, None]) ** 2, axis=1), int(np.maximum(many - 1, 0).sum())


def below_zero(values: Array) -> int:
    """How many of an input's readings lie below zero where most lie above, or the other way round."""
    known = values[np.isfinite(values)]
    less = int((known < 0).sum())
    return min(less, len(known) - less) if len(known) > 2 else less


def broken(values: Array) -> float:
    """How many numbers of things are no whole numbers."""
    known = values[np.isfinite(values)]
    return float((known != np.round(known)).sum())


def uneven(values: Array) -> Array:
    """How many settings of ``(H, rows)`` break an even series, ``(H,)``."""
    if values.shape[1] < 4:
        return np.zeros(len(values))
    size = np.nan_to_num(np.abs(values)).max(axis=1, keepdims=True)
    second = np.abs(values[:, 2:] - 2 * values[:, 1:-1] + values[:, :-2])
    odd = (second > 1e-6 * size).sum(axis=1).astype(float)
    # Of settings that follow no even step anyway, one more that does not says nothing.
    return np.asarray(np.where(odd <= _EVEN * second.shape[1], np.minimum(odd, MOST_OF_A_KIND), _UNSAID))


def tested(analysis: Analysis) -> list[tuple[str, str, float, float, Array]]:
    """Everything that ought to be zero: (kind, name, difference, u, contributions ``(K,)``), SI: results less what they are compared
    with, and intercepts that the law has pass through the origin."""
    found = []
    for name, result in analysis.results.items():
        body, other = analysis.program.definition.results[name], result.compared
        if other is None or body.below or body.above or result.reason or not other.u > 0:
            continue
        gap = result.value - other.accepted.value
        if math.isfinite(gap):
            found.append(("result", name, gap, other.u, other.parts))
    for name, fit in analysis.fits.items():
        step = analysis.program.fits[name]
        if not (step.origin and fit.made and "intercept" in fit.parameters) or step.model != "line":
            continue
        intercept = fit.parameters["intercept"]
        if intercept.u > 0 and analysis.rules.origin != "forced":
            found.append(("intercept", name, intercept.value, intercept.u, intercept.parts))
    return found


def looseness(analysis: Analysis) -> dict[str, tuple[float, int]]:
    """How wide everything that is tested is for what it measures: by table or difference, the logarithm of u over the size of the values, and
    how many numbers it is of. A sheet in a unit ten times smaller passes every test that instruments declare in the old one, at this price."""
    found: dict[str, tuple[float, int]] = {}
    for name, fit in {**analysis.fits, **analysis.means}.items():
        step, known = analysis.program.fits[name], fit.diagnostics
        body = analysis.program.definition.fits.get(name)
        if step.plain or (body is not None and body.sketch) or known is None or known.chi2 is None or known.dof <= 0:
            continue
        y = fit.y[None, fit.rows]
        size = float((median(np.abs(y)) if step.model == "mean" else scale(y))[0, 0])
        u = float(np.median(1 / np.sqrt(known.weights)))
        if size > 0 and u > 0 and math.isfinite(u) and known.dof > found.get(step.series, (0.0, 0))[1]:
            found[step.series] = math.log(u / size), known.dof
    for kind, name, _, u, _ in tested(analysis):
        compared = analysis.results[name].compared if kind == "result" else None
        size = max(abs(analysis.results[name].value), abs(compared.accepted.value)) if compared else 0.0
        if size > 0:
            found[f"{kind} {name}"] = math.log(u / size), 1
    return found


def correlation(parts: list[Array], u: Array) -> Array:
    """Correlation ``(m, m)`` of differences with contributions ``parts`` and standard uncertainties ``u`` ``(m,)``."""
    if not parts:
        return np.zeros((0, 0))
    stacked = np.nan_to_num(np.stack(parts)) / u[:, None]
    return np.asarray(stacked @ stacked.T)


def of_analysis(analysis: Analysis, repeats: dict[str, Repeats]) -> Features:
    """The features of one sheet computed whole, ``H`` = 1, with its ``repeats``."""
    fits: dict[str, Fitted] = {}
    lost = 0.0
    for name, fit in {**analysis.fits, **analysis.means}.items():
        step = analysis.program.fits[name]
        if step.plain or (name in analysis.program.definition.fits and analysis.program.definition.fits[name].sketch):
            continue
        whole = analysis.behind_read(name, len(fit.x))
        lost += float((whole & ~(np.isfinite(fit.x) & np.isfinite(fit.y))).sum())
        if not fit.made or fit.diagnostics is None:
            continue
        found = fit.diagnostics
        if found.dof <= 0:
            continue
        squares = found.chi2 if found.chi2 is not None else float(found.residuals @ found.residuals)
        size = 1.0 if found.chi2 is not None else float(scale(fit.y[None, fit.rows])[0, 0]) ** 2 or 1.0
        fits[name] = Fitted(
            squares=np.array([squares / size]),
            dof=found.dof,
            known=found.chi2 is not None,
            variance_dof=found.variance_dof,
            series=step.series,
        )
    for parity in analysis.parities:
        if parity.dof > 0 and math.isfinite(parity.chi2):
            fits[f"identity#{parity.index}"] = of_parity(np.array([parity.chi2]), parity.dof, parity.index)
    lost += sum(bool(r.reason) and analysis.behind_read(name, 1)[0] for name, r in analysis.results.items())
    ought = tested(analysis)
    u = np.array([one[3] for one in ought])
    gaps = np.array([[one[2] for one in ought]]) / u if ought else np.zeros((1, 0))
    with np.errstate(all="ignore"):
        implausible = sum(
            float((spec.plausible(analysis.environment)[0] == 0).sum())
            for spec in analysis.program.inputs
            if spec.plausible is not None
        )
    implausible += sum(float(below_zero(entry.values)) for entry in analysis.sheet.inputs if not entry.spec.unit.offset)
    implausible += sum(broken(entry.values) for entry in analysis.sheet.inputs if entry.spec.whole)
    implausible += sum(result.plausible is False for result in analysis.results.values())
    odd = sum(
        float(uneven(analysis.values[spec.key].value[None, :])[0])
        for spec in analysis.program.inputs
        if spec.chosen and spec.key in analysis.values
    )
    return Features(
        repeats=repeats,
        fits=fits,
        distance_of_differences=distance(gaps, correlation([one[4] for one in ought], u)),
        differences=gaps,
        names=tuple(one[1] for one in ought),
        lost=np.array([lost]),
        implausible=np.array([implausible]),
        uneven=np.array([odd]),
    )


def of_parity(squares: Array, dof: int, index: int) -> Fitted:
    """An identity as a witness: its residuals ought to be zero, as those of a curve ought to be small."""
    return Fitted(squares=squares, dof=dof, known=True, variance_dof=math.inf, series=f"identity#{index}")
