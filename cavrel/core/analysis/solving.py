"""The nominal solution of one fit: how its points are weighted, and the curve that is nearest to them."""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import uncertainty
from cavrel.core.analysis.points import Points
from cavrel.core.fit import solver, york
from cavrel.core.fit.least_squares import NoFit, response
from cavrel.core.fit.models import Straight
from cavrel.core.fit.models.base import stack
from cavrel.core.fit.solver import Curve

Array = NDArray[np.float64]


X_MATTERS = 0.01
"""Error bars along x count when they add more than this share to the variance of any residual."""
_REWEIGHTINGS = 15
_SETTLED = 1e-8
"""Weights that change by no more are settled: what the curve still moves by is a far smaller share of its uncertainty."""
_SCORINGS = 60
_PROPORTIONAL = 0.05
"""A count acts in proportion where what half its up and down leave over is under this share of their difference."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Solved:
    """The nominal solution of a fit.

    ``theta``: ``(p,)`` parameters about the curve's origin.
    ``weights``: ``(n,)`` 1/variance, or 1.
    ``known``: the weights are 1/variance.
    ``jacobian``: ``(n, p)`` derivatives where the parameters' response is taken.
    ``errors``: where both axes count, for a straight line.
    ``counted``: the points rest on counts that the curve predicts.
    """

    theta: Array
    weights: Array
    known: bool
    jacobian: Array
    errors: york.Errors | None = None
    counted: bool = False


@dataclass(frozen=True, slots=True)
class Counts:
    """Ordinates that rest on counts: ``count`` ``(n,)`` each row's mean count, ``part`` ``(n,)`` what counting contributes to y, ``u`` ``(n,)``
    the count's own standard uncertainty, ``rest`` ``(n,)`` variance of y by the rows' other components."""

    count: Array
    part: Array
    u: Array
    rest: Array

    def variance(self, residuals: Array) -> Array:
        """Variance of each y where the curve, which lies ``residuals`` below the points, predicts the counts."""
        by_count = self.part / self.u
        expected = np.maximum(self.count - residuals / by_count, LEAST_EXPECTED)
        # How many intervals were averaged: u² is the mean over their number, or its square's inverse where nothing was counted.
        times = np.where(self.count > 0, self.count / self.u**2, 1 / self.u)
        return np.asarray(self.rest + by_count**2 * expected / times)


LEAST_EXPECTED = 0.05
"""Counts that a curve predicts for an interval never fall below this: a weight must stay finite."""


class Solving(Points):
    """Weights, and the curve nearest to the points."""

    def solve(self) -> Solved:
        curve = self.curve
        alike = np.ones(len(self.use))
        theta = self.first(curve, alike)
        if self.rules.weights == "equal" or self.step.plain:
            return self.solved(curve, theta, alike, False)
        own, own_variance = self.own_of(self.residual_parts(theta))
        y_variance = uncertainty.squares(self.y_parts[own][:, self.use])
        if not (own_variance > 0).all():
            return self.solved(curve, theta, alike, False)
        counts = self.counts(own, own_variance)
        if counts is not None:
            return self.by_counts(curve, theta, counts)
        if not self.x_matters(own_variance, y_variance):
            weights = 1 / y_variance
            return self.solved(curve, self.again(curve, theta, weights), weights, True)
        if isinstance(self.shape, Straight):
            return self.york(theta, own)
        weights = alike
        for _ in range(_REWEIGHTINGS):
            # Error bars along x reach y through the slope there, which the solution itself decides.
            _, variance = self.own_of(self.residual_parts(theta))
            new = 1 / variance
            if (np.abs(new - weights) <= _SETTLED * np.abs(weights)).all():
                break
            weights = new
            theta = self.again(curve, theta, weights)
        return self.solved(curve, theta, weights, True)

    def counts(self, own: NDArray[np.bool_], own_variance: Array) -> Counts | None:
        """What counting contributes to the ordinates; None unless each row's y follows one count in proportion, the abscissae none."""
        if self.wide or not self.perturbations.counted:
            return None
        part, count, u = (np.full(self.bound.y.shape[1], np.nan) for _ in range(3))
        for index, column in enumerate(self.perturbations.columns):
            group = self.perturbations.groups[column.group]
            if group.counts is None or column.rows is None or not own[index] or column.rows.max() >= len(part):
                continue
            if (self.x_parts[index] != 0).any():
                return None
            moved, at = self.y_parts[index], column.rows
            if not (moved != 0).any():
                continue
            if not np.isnan(part[at]).all():
                return None
            of_column = column.components - self.perturbations.starts[column.group]
            part[at], count[at], u[at] = moved[at], group.counts[of_column], group.u[of_column]
            up, down = (self.bound.y[1 + index + k] - self.bound.y[0] for k in (0, len(self.perturbations.columns)))
            if (np.abs(up + down)[at] > _PROPORTIONAL * np.abs(up - down)[at]).any():
                return None
        part, count, u = part[self.use], count[self.use], u[self.use]
        if not (np.abs(part) > 0).all():
            return None
        return Counts(count, part, u, np.maximum(own_variance - part**2, 0.0))

    def by_counts(self, curve: Curve, theta: Array, counts: Counts) -> Solved:
        """The likeliest curve for counts: least squares whose weights are those that the curve predicts, taken until both settle, which is
        Fisher's scoring of Poisson's likelihood (McCullagh and Nelder 1989, Generalized Linear Models, 2.5)."""
        weights = np.ones(len(self.use))
        for _ in range(_SCORINGS):
            new = 1 / counts.variance(self.y - curve.predict(theta[None, :])[0])
            settled = np.allclose(new, weights, rtol=1e-9, atol=0)
            weights = new
            theta = self.again(curve, theta, weights)
            if settled:
                break
        return replace(self.solved(curve, theta, weights, True), counted=True)

    def first(self, curve: Curve, weights: Array) -> Array:
        """The best curve with all points alike."""
        if self.shape is None:
            base = np.array(list(self.step.free.values()))
            try:
                theta = solver.nominal(curve, self.y, weights, base[None, :])
                response(curve.jacobian(theta[None, :])[0], weights)
                return theta
            except NoFit:
                return self.farther(curve, weights, base)
        if isinstance(self.shape, Straight):
            return self.shape.closed(self.x, self.y, weights)
        if self.shape.linear:
            return solver.nominal(curve, self.y, weights, np.zeros((1, self.count)))
        near = self.shape.near(self.x, self.y, weights)
        quick = solver.newton(curve, self.y, weights, near) if near is not None and np.isfinite(near).all() else None
        if quick is not None:
            return quick
        found = self.shape.starts(self.x, self.y, weights)
        if not len(found):
            raise NoFit("a power law needs every x above zero")
        return solver.nominal(curve, self.y, weights, found)

    def farther(self, curve: Curve, weights: Array, base: Array) -> Array:
        """The definition's starting values led nowhere: all of them moved together, and each on its own, by up to a hundredfold."""
        factors = (0.01, 0.1, 0.3, 3.0, 10.0, 100.0)
        moved = [base * factor for factor in factors]
        for i in range(len(base)):
            for factor in factors:
                start = base.copy()
                start[i] *= factor
                moved.append(start)
        best, cost, reason = None, math.inf, ""
        for start in moved:
            try:
                theta = solver.nominal(curve, self.y, weights, start[None, :])
                response(curve.jacobian(theta[None, :])[0], weights)
            except NoFit as fault:
                reason = str(fault)
                continue
            squares = float((weights * (self.y - curve.predict(theta[None, :])[0]) ** 2).sum())
            if squares < cost:
                best, cost = theta, squares
        if best is None:
            raise NoFit(reason)
        return best

    def again(self, curve: Curve, theta: Array, weights: Array) -> Array:
        if isinstance(self.shape, Straight):
            return self.shape.closed(self.x, self.y, weights)
        return solver.nominal(curve, self.y, weights, theta[None, :], near=True)

    def solved(self, curve: Curve, theta: Array, weights: Array, known: bool) -> Solved:
        if self.shape is not None:
            theta = self.shape.tidy(theta)
        return Solved(theta=theta, weights=weights, known=known, jacobian=curve.jacobian(theta[None, :])[0])

    def york(self, theta: Array, own: NDArray[np.bool_]) -> Solved:
        x_parts, y_parts = self.x_parts[own][:, self.use], self.y_parts[own][:, self.use]
        errors = york.Errors(
            uncertainty.squares(x_parts), uncertainty.squares(y_parts), np.add.reduce(x_parts * y_parts, 0)
        )
        through = self.count == 1
        assert self.shape is not None
        x = self.shape.local(self.x)
        slope, intercept, adjusted = york.solve(x, self.y, errors, float(theta[0]), through)
        if not math.isfinite(slope):
            raise NoFit(
                "no straight line with error bars on both axes settles; set the house rule for abscissae to ignore"
            )
        best = np.array([slope] if through else [slope, intercept])
        return Solved(
            theta=best,
            weights=1 / errors.of_residual(slope),
            known=True,
            jacobian=stack(adjusted) if through else stack(adjusted, 1.0),
            errors=errors,
        )

    def residual_parts(self, theta: Array) -> Array:
        """Contributions to every point's residual about the curve ``theta``, ``(L, n)`` or ``(K, n)``."""
        return self.perturbations.contributions(self.left_over(theta))

    def left_over(self, theta: Array) -> Array:
        """Residuals over the batch, ``(batch, n)``."""
        return np.asarray(self.ordinates - self.fitting_in(self.curves.predict(theta[None, :])))

    def fitting_in(self, values: Array) -> Array:
        """Values of a curve as a batch that fits the points'."""
        return self.perturbations.widen(values) if self.wide else values

    def own_of(self, parts: Array) -> tuple[NDArray[np.bool_], Array]:
        """Which contributions are a row's own: of components that move that row and no other; and the variance of each residual by them."""
        own = self.perturbations.own(parts)
        return own, uncertainty.squares(parts[own])

    def x_matters(self, own_variance: Array, y_variance: Array) -> bool:
        if self.rules.abscissae == "ignore":
            return not (y_variance > 0).all()
        if self.rules.abscissae == "york":
            return True
        return bool((np.abs(own_variance - y_variance) > X_MATTERS * y_variance).any())
