"""Many sheets carried through one program at once, with the weights of the sheet as it stands; long because it follows all of a program.

Fits are solved anew for every sheet, but each point keeps its weight, scaled where the whole of y is; so what leads here is computed
whole afterwards.
"""

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.binding import bind
from cavrel.core.analysis.fitted import Bound, FitAnalysis
from cavrel.core.analysis.identities import Parity
from cavrel.core.analysis.points import curve_of
from cavrel.core.definition.steps import Derived, FitStep, Input, ResultStep
from cavrel.core.fit import solver
from cavrel.core.fit.models import Model
from cavrel.core.formula.evaluate import Environment
from cavrel.core.slips import evidence
from cavrel.core.slips.evidence import Features, Fitted, Repeats
from cavrel.core.slips.hypothesis import Hypothesis

Array = NDArray[np.float64]

_ROUNDS, _SETTLED, _STARTS, _FAR, _WILD = 14, 1e-4, 3, 0.4, 30.0
"""A curve of a proposal needs no more figures than decide whether it is worth a look. Beyond the fourth, a logarithm of the scale of an axis,
and beyond the last, chi-squared for a degree of freedom, the nominal curve is no place to begin."""


def features(analysis: Analysis, proposals: Sequence[Hypothesis]) -> Features:
    """The features of the sheet as it stands (entry 0) and of each of ``proposals``."""
    with np.errstate(all="ignore"):
        return _Carrying(analysis, proposals).run()


class _Carrying:
    def __init__(self, analysis: Analysis, proposals: Sequence[Hypothesis]) -> None:
        self.analysis, self.count = analysis, 1 + len(proposals)
        self.repeats: dict[str, Repeats] = {}
        self.values: dict[str, Array] = dict(analysis.nominal)
        self.sheets(proposals)

    # --- inputs ------------------------------------------------------------------------------------------------------

    def sheets(self, proposals: Sequence[Hypothesis]) -> None:
        """The mean of every row, and the squares of its trials about it, on every sheet."""
        single: dict[str, list[tuple[int, int, int, float]]] = {}
        whole: dict[str, list[tuple[int, Array, str]]] = {}
        for index, one in enumerate(proposals, 1):
            for cell in one.cells:
                single.setdefault(cell.key, []).append((index, cell.row, cell.trial, cell.value))
            for key, readings in one.columns.items():
                whole.setdefault(key, []).append((index, readings, one.noise))
        for entry in self.analysis.sheet.inputs:
            key = entry.spec.key
            squares, dof = evidence.within(entry.values)
            declared = evidence.declared(entry, self.analysis.rules)
            rounded = float(np.square(evidence.marks(entry))) / 12
            variance = max(declared, rounded if math.isfinite(rounded) else 0.0)
            # Repeats that are all alike scatter by less than their last digit shows, not by nothing.
            least = dof * rounded if math.isfinite(rounded) else 0.0
            total = np.full(self.count, (float(np.nansum(squares)) + least) / (variance or 1.0))
            unit = np.zeros(self.count)
            if key in single or key in whole:
                means = np.repeat(self.analysis.nominal[key], self.count, axis=0)
                if key in single:
                    moved = total * variance
                    self.change(entry.values, single[key], means, moved)
                    total = moved / (variance or 1.0)
                if key in whole:
                    at = [i for i, _, _ in whole[key]]
                    turned = np.stack([readings for _, readings, _ in whole[key]])
                    kinds = [kind for _, _, kind in whole[key]]
                    means[at], total[at], unit[at] = self.replaced(entry.values, turned, kinds, (declared, rounded))
                self.values[key] = means
            if dof > 0 and variance > 0 and not entry.spec.count:
                self.repeats[key] = Repeats(squares=total, dof=dof, unit=unit)

    @staticmethod
    def change(values: Array, cells: list[tuple[int, int, int, float]], means: Array, total: Array) -> None:
        """Single readings: the mean moves by its share, the squares by what that leaves."""
        index, row, trial = (np.array([cell[i] for cell in cells]) for i in range(3))
        new = np.array([cell[3] for cell in cells])
        many = np.maximum(np.isfinite(values).sum(axis=1)[row], 1)
        old, middle = values[row, trial], means[0][row]
        moved = middle + (new - old) / many
        means[index, row] = moved
        np.add.at(total, index, (new - old) * (new - moved + old - middle))
        np.maximum(total, 0.0, out=total)

    @staticmethod
    def replaced(
        values: Array, readings: Array, kinds: list[str], variances: tuple[float, float]
    ) -> tuple[Array, Array, Array]:
        """Means ``(k, rows)``, squares over their variance ``(k,)`` and logarithms of the change of unit ``(k,)`` of whole columns
        ``(k, rows, trials)``.

        ``kinds``: whose the noise is, by column (`Hypothesis.noise`); ``variances``: of one reading as declared, and by the last digit typed. A
        number typed in a unit f times as large spreads over f times fewer numbers, which is what the density of typed numbers pays for.
        """
        declared, rounded = variances
        known = np.isfinite(readings)
        many = known.sum(axis=2)
        filled = np.where(known, readings, 0.0)
        mean = np.where(many > 0, filled.sum(axis=2) / np.maximum(many, 1), np.nan)
        squares = (np.where(known, readings - mean[:, :, None], 0.0) ** 2).sum(axis=2)
        before, _ = evidence.within(values)
        ratio = np.abs(readings / values)
        low = np.where(known, ratio, np.inf).min(axis=2)
        high = np.where(known, ratio, -np.inf).max(axis=2)
        multiple = np.where((high - low <= 1e-9 * high) & (low > 0), low, 1.0)
        spread = np.sqrt(squares / np.where(before > 0, before, 1.0))
        kind = np.array(kinds)[:, None]
        factor = np.where((squares > 0) & (before > 0), spread, multiple)
        factor = np.where(kind == "same", 1.0, factor)
        base = max(declared, rounded if math.isfinite(rounded) else 0.0) or 1.0
        variance = np.where(
            kind == "converted", np.maximum(declared, np.nan_to_num(rounded * factor**2, posinf=0.0)), base
        )
        variance = np.where(variance > 0, variance, base)
        unit = np.where(kind == "converted", np.log(factor) - 0.5 * np.log(variance / base), 0.0)
        free = np.maximum(many - 1, 0)
        least = free * (rounded if math.isfinite(rounded) else 0.0) * np.where(kind == "converted", factor**2, 1.0)
        total = np.where(kind == "shown", (before + least) / base, (squares + least) / variance)
        return mean, total.sum(axis=1), (free * unit).sum(axis=1)

    # --- the program -------------------------------------------------------------------------------------------------

    def run(self) -> Features:
        analysis = self.analysis
        self.environment = Environment(self.values, analysis.sheet.keep)
        self.fits: dict[str, Fitted] = {}
        self.lost = np.zeros(self.count)
        self.intercepts: dict[str, Array] = {}
        others: dict[str, Array] = {}
        for step in analysis.program.steps:
            if isinstance(step, Derived):
                rows = analysis.sheet.rows[step.series] if step.series else 1
                found = step.run(self.environment)
                self.values[step.key] = np.broadcast_to(found, (len(found), rows))
            elif isinstance(step, FitStep):
                self.fit(step)
            elif isinstance(step, ResultStep):
                self.result(step, others)
        for parity in analysis.parities:
            self.parity(parity)
        return self.gathered(others)

    def result(self, step: ResultStep, others: dict[str, Array]) -> None:
        if step.combine:
            weights = self.analysis.results[step.key].weights
            mean = sum((self.values[name] * weight for name, weight in weights.items()), np.zeros((1, 1)))
            self.values[step.key] = mean if weights else np.full((1, 1), np.nan)
        else:
            assert step.run is not None
            self.values[step.key] = step.run(self.environment)
        if step.accepted_run is not None:
            others[step.key] = step.accepted_run(self.environment)
        elif step.accepted_name is not None:
            others[step.key] = np.array([[self.analysis.accepted[step.accepted_name].value]])
        if self.analysis.behind_read(step.key, 1)[0]:
            self.lost += np.broadcast_to(~np.isfinite(self.values[step.key][:, 0]), self.count)

    def parity(self, parity: Parity) -> None:
        """How far each sheet is from an identity, in the uncertainties of the sheet as it stands, scaled as its left side is."""
        if parity.dof < 1 or not math.isfinite(parity.chi2):
            return
        step = self.analysis.program.identities[parity.index]
        gap, left = (
            np.broadcast_to(v, (len(v), len(parity.left)))
            for v in (step.run(self.environment), step.size(self.environment))
        )
        counts = (parity.whiten != 0).any(axis=0)
        size = evidence.median(np.abs(left[:, counts]))
        scale = np.where((size > 0) & (size[0] > 0), size / size[0], 1.0)
        squares = ((np.where(counts, gap / scale, 0.0) @ parity.whiten.T) ** 2).sum(axis=1)
        squares = np.broadcast_to(np.where(np.isfinite(squares), squares, parity.chi2), self.count).copy()
        self.fits[f"identity#{parity.index}"] = evidence.of_parity(squares, parity.dof, parity.index)

    def fit(self, step: FitStep) -> None:
        fit = {**self.analysis.fits, **self.analysis.means}[step.name]
        bound = bind(step, self.environment, fit.keep)
        read = self.analysis.behind_read(step.name, bound.y.shape[1])
        gone = read & fit.keep & ~(np.isfinite(bound.x) & np.isfinite(bound.y))
        body = self.analysis.program.definition.fits.get(step.name)
        counts = not step.plain and not (body is not None and body.sketch)
        if counts:
            self.lost += np.broadcast_to(gone.sum(axis=1), self.count)
        if not fit.made or fit.diagnostics is None:
            if counts:
                self.unmade(step, bound)
            return
        theta, left, y = self.solved(step, fit, bound)
        for i, name in enumerate(step.parameters):
            self.values[f"{step.name}.{name}"] = theta[:, i : i + 1]
            if name == "intercept":
                self.intercepts[step.name] = theta[:, i] / self.scaled(evidence.scale(y)[:, 0])
        dof = fit.diagnostics.dof
        if dof <= 0 or not counts:
            return
        known = fit.diagnostics.chi2 is not None
        # The spread about a mean is what is tested, so there the size of the values is the scale.
        size = evidence.median(np.abs(y)) if step.model == "mean" else evidence.scale(y)
        size = np.where(size > 0, size, 1.0)
        weights = weighing(fit, left[0]) * (size[0, 0] / size) ** 2 if known else 1 / size**2
        squares = np.broadcast_to((weights * left**2).sum(axis=1), self.count).copy()
        # A curve that some sheet has no value for says nothing of that sheet; the rows it lost are counted.
        squares[~np.isfinite(squares)] = squares[0]
        self.fits[step.name] = Fitted(
            squares=squares, dof=dof, known=known, variance_dof=fit.diagnostics.variance_dof, series=step.series
        )

    def unmade(self, step: FitStep, bound: Bound) -> None:
        """A curve that the sheet as it stands does not allow, but another sheet may: points alike, sought from the model's own starts."""
        rows = np.flatnonzero(self.analysis.behind_read(step.name, bound.y.shape[1]) & bound.keep)
        if step.shape is None or len(rows) <= len(step.shape.names):
            return
        many = max(len(bound.x), len(bound.y))
        x, y = (np.broadcast_to(v, (many, v.shape[1]))[:, rows] for v in (bound.x, bound.y))
        whole = np.flatnonzero(np.isfinite(x).all(axis=1) & np.isfinite(y).all(axis=1))
        if not len(whole):
            return
        x, y = x[whole], y[whole]
        shape, alike = step.shape.about(x[0]), np.ones(len(rows))
        wide = np.full((len(whole), bound.x.shape[1]), np.nan)
        wide[:, rows] = x
        curve = curve_of(step, shape, replace(bound, x=wide), rows)
        starts = [np.zeros(len(shape.names))]
        if not shape.linear:
            starts = [*shape.starts(x[0], y[0], alike)[:_STARTS], *self.calm(shape, x[0], y[0], alike)]
        least = np.full(len(whole), np.inf)
        for start in starts:
            theta, _ = solver.batch(curve, y, alike, np.repeat(start[None, :], len(y), axis=0), _ROUNDS, _SETTLED)
            squares = ((y - curve.predict(theta)) ** 2).sum(axis=1)
            least = np.fmin(least, np.where(np.isfinite(squares), squares, np.inf))
        size = np.maximum(evidence.scale(y)[:, 0], 1e-300)
        found = np.ones(many)
        found[whole] = np.where(np.isfinite(least), least / size**2, 1.0)
        self.fits[step.name] = Fitted(
            squares=np.broadcast_to(found, self.count),
            dof=len(rows) - len(shape.names),
            known=False,
            variance_dof=0.0,
            series=step.series,
        )

    def solved(self, step: FitStep, fit: FitAnalysis, bound: Bound) -> tuple[Array, Array, Array]:
        """Parameters as the definition names them ``(H, p)``, residuals and ordinates ``(H, n)`` of every sheet."""
        assert fit.diagnostics is not None
        many = max(len(bound.x), len(bound.y), self.formula_reads(step))
        shape = fit.shape
        wide = replace(
            bound,
            x=np.broadcast_to(bound.x, (many, bound.y.shape[1])),
            y=np.broadcast_to(bound.y, (many, bound.y.shape[1])),
        )
        y = wide.y[:, fit.rows]
        curve = curve_of(step, shape, wide, fit.rows)
        if curve.linear:
            theta = fit.theta + solver.step(curve, y, fit.weights, fit.theta)
            if fit.parameter_sensitivity.shape[0] < len(fit.theta):  # sent through the origin by house rule
                theta = np.stack(
                    [(y * wide.x[:, fit.rows]).sum(axis=1) / (wide.x[:, fit.rows] ** 2).sum(axis=1), np.zeros(many)],
                    axis=1,
                )
        else:
            begins = [self.starts(fit, wide.x[:, fit.rows], y)]
            found = fit.diagnostics
            if shape is not None and found.chi2 is not None and found.chi2 > _WILD * found.dof:
                calm = self.calm(shape, wide.x[0, fit.rows], y[0], fit.weights)
                begins += [np.repeat(start[None, :], many, axis=0) for start in calm]
            theta, least = begins[0], np.full(many, np.inf)
            for start in begins:
                reached, _ = solver.batch(curve, y, fit.weights, start, _ROUNDS, _SETTLED)
                squares = (fit.weights * (y - curve.predict(reached)) ** 2).sum(axis=1)
                better = np.nan_to_num(squares, nan=np.inf, posinf=np.inf) < least
                theta, least = np.where(better[:, None], reached, theta), np.where(better, squares, least)
            theta = np.where(np.isfinite(theta), theta, np.nan)
        left = y - curve.predict(theta)
        named = shape.named(theta) if shape is not None else theta
        return named, left, y

    @staticmethod
    def starts(fit: FitAnalysis, x: Array, y: Array) -> Array:
        """Where the search for each sheet's curve begins, ``(H, p)``: at the nominal one, but for axes on another scale."""
        start = np.repeat(fit.theta[None, :], len(y), axis=0)
        if fit.shape is None:
            return start
        sizes = [evidence.scale(v)[:, 0] for v in (x, y)]
        far = np.flatnonzero(np.any([np.abs(np.log(size / size[0])) > _FAR for size in sizes], axis=0))
        for index in far.tolist():
            near = fit.shape.near(x[index], y[index], fit.weights)
            if near is None:
                near = next(iter(fit.shape.starts(x[index], y[index], fit.weights)), None)
            if near is not None and np.isfinite(near).all():
                start[index] = near
        return start

    @staticmethod
    def calm(shape: Model, x: Array, y: Array, weights: Array) -> list[Array]:
        """Where a curve would begin without the point that lies farthest from the others: one wild reading can bend a curve so far that no
        sheet finds back from there."""
        rest = np.arange(len(y)) != int(np.argmax(np.abs(y - np.median(y))))
        return list(shape.starts(x[rest], y[rest], weights[rest])[:1]) if rest.sum() > len(shape.names) else []

    def formula_reads(self, step: FitStep) -> int:
        """Entries that a formula's curve has for values other than its columns."""
        return self.count if step.curve is not None else 1

    # --- features ----------------------------------------------------------------------------------------------------

    def scaled(self, sizes: Array) -> Array:
        """How much larger than on the sheet as it stands, within a thousandfold."""
        ratio = np.abs(sizes / sizes[0]) if len(sizes) else sizes
        return np.clip(np.where(np.isfinite(ratio) & (ratio > 0), ratio, 1.0), 1e-3, 1e3)

    def gathered(self, others: dict[str, Array]) -> Features:
        analysis = self.analysis
        ought = evidence.tested(analysis)
        u = np.array([one[3] for one in ought])
        columns = []
        for kind, name, _, own, _ in ought:
            if kind == "intercept":
                columns.append(np.broadcast_to(self.intercepts[name], self.count) / own)
                continue
            value, other = self.values[name][:, 0], others[name][:, 0]
            gap = value - other
            largest = np.maximum(np.abs(value), np.abs(other)) if other[0] else np.ones(1)
            sized = np.abs(value) if other[0] and abs(value[0]) > 0 else largest
            columns.append(np.broadcast_to(gap / self.scaled(np.broadcast_to(sized, gap.shape)), self.count) / own)
        gaps = np.stack(columns, axis=1) if columns else np.zeros((self.count, 0))
        # A proposal that leaves nothing to compare has not brought two values together.
        gaps = np.where(np.isfinite(gaps), gaps, gaps[:1])
        return Features(
            repeats=self.repeats,
            fits=self.fits,
            distance_of_differences=evidence.distance(gaps, evidence.correlation([one[4] for one in ought], u)),
            differences=gaps,
            names=tuple(one[1] for one in ought),
            lost=self.lost,
            implausible=self.implausible(),
            uneven=self.uneven(),
        )

    def implausible(self) -> Array:
        total = np.zeros(self.count)
        for spec in self.analysis.program.inputs:
            if spec.plausible is not None:
                total += np.broadcast_to((spec.plausible(self.environment) == 0).sum(axis=1), self.count)
            means = self.values.get(spec.key)
            if means is not None and not spec.unit.offset:
                # By rows, which is enough to tell a sign turned in one of them.
                less = (means < 0).sum(axis=1)
                several = np.isfinite(means).sum(axis=1)
                total += np.broadcast_to(np.where(several > 2, np.minimum(less, several - less), less), self.count)
            if means is not None and spec.whole:
                total += np.broadcast_to((np.isfinite(means) & (means != np.round(means))).sum(axis=1), self.count)
        for name, run in self.analysis.program.ranges.items():
            if name in self.values:
                total += np.broadcast_to((run(self.environment) == 0).sum(axis=1), self.count)
        return total

    def uneven(self) -> Array:
        total = np.zeros(self.count)
        for spec in self.analysis.program.inputs:
            if _set(spec) and spec.key in self.values:
                total += np.broadcast_to(evidence.uneven(self.values[spec.key]), self.count)
        return total


def weighing(fit: FitAnalysis, left: Array) -> Array:
    """1/variance of each point of a fit, ``(n,)``; ``left``: its residuals. A mean that its own chi-squared refutes counts all rows alike, but
    that chi-squared is the one to better."""
    assert fit.diagnostics is not None and fit.diagnostics.chi2 is not None
    if fit.known:
        return fit.weights
    weights = 1 / fit.u_y[fit.rows] ** 2
    return np.asarray(weights * fit.diagnostics.chi2 / float((weights * left**2).sum()))


def _set(spec: Input) -> bool:
    return spec.chosen
