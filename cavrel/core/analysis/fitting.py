"""One fit of a program: its curve bound to the batch, weighted, solved, and its parameters' response to every component.

The nominal solution comes from a solver; every other entry of the batch follows by one Gauss-Newton step from there: the law of
propagation through a least-squares fit, exact where the curve is linear in its parameters.
"""

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import uncertainty
from cavrel.core.analysis.fitted import Bound, FitAnalysis, Parameter
from cavrel.core.analysis.perturbations import Perturbations
from cavrel.core.analysis.solving import Solved, Solving
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import FitStep
from cavrel.core.fit.diagnostics import Diagnostics, chance_of, diagnose
from cavrel.core.fit.extremes import extremes
from cavrel.core.fit.least_squares import NoFit, response, step_of
from cavrel.core.fit.models import Damped, Line, Model

Array = NDArray[np.float64]


_VANISHING = 1e-12
BEYOND_CHANCE = 0.05
"""The scatter is believed over the error bars where chance alone would make it this large less often than this. The larger of the two taken
always would call every uncertainty too large on average, for the scatter of a few points is itself mostly noise."""


def fit(
    step: FitStep, bound: Bound, perturbations: Perturbations, rules: HouseRules, span: slice, x0: float
) -> tuple[FitAnalysis, Array, Array]:
    """Fit ``step`` to ``bound``; returns the analysis, and over the wide batch ``(2K+1, p)`` the curve's parameters about its origin and
    those that the definition names.

    ``span``: the components kept for this fit's scatter; ``x0``: where a tangent touches. A fit that cannot be made has a reason.
    """
    return _Fitting(step, bound, perturbations, rules, span, x0).run()


class _Fitting(Solving):
    """Carries one fit from its batch to its parameters."""

    def run(self) -> tuple[FitAnalysis, Array, Array]:
        reason = self.impossible()
        if not reason:
            try:
                with np.errstate(all="ignore"):
                    return self.made(self.solve())
            except NoFit as fault:
                reason = str(fault)
        nothing = np.full((1, len(self.step.parameters)), np.nan)
        return self.unmade(reason), nothing, nothing

    def made(self, solved: Solved, reported: tuple[str, Diagnostics] | None = None) -> tuple[FitAnalysis, Array, Array]:
        """Parameters with all their contributions. ``reported``: who speaks for the rows' uncertainty, with the diagnostics that said so."""
        theta, count = solved.theta, self.perturbations.count
        parameter_sensitivity, basis = response(solved.jacobian, solved.weights)
        left = self.left_over(theta)
        over_batch = self.followed(solved, parameter_sensitivity, left)
        parts = self.perturbations.contributions(left)
        own, variance = self.own_of(parts)
        whole = np.zeros((len(parts), self.bound.y.shape[1]))
        whole[:, self.use] = np.where(own[:, None], parts, 0.0)
        variance_dof = uncertainty.variance_dof(whole, self.use, self.perturbations, self.wide)
        if solved.counted:
            self.scale_counting(over_batch, theta, parts, 1 / solved.weights)
            variance = 1 / solved.weights
        diagnostics = self.diagnose(solved, basis, variance_dof)
        source = self.source(variance, variance_dof, diagnostics, theta)
        if reported is not None:
            source, diagnostics = reported[0], replace(diagnostics, reported=(reported[1].chi2, reported[1].p))
        elif source == "scatter" and self.step.model == "mean" and np.ptp(solved.weights) > 0:
            # Weights that their own chi-squared refutes say nothing: all rows count alike, as anyone can check by hand.
            alike = replace(solved, weights=np.ones(len(self.use)), known=False)
            return self.made(replace(alike, theta=self.again(self.curve, theta, alike.weights)), (source, diagnostics))
        sizes = np.zeros(len(self.use))
        if diagnostics.dof > 0:
            squares = float((solved.weights * diagnostics.residuals**2).sum())
            sizes = np.sqrt(squares / diagnostics.dof / solved.weights)
        if source != "propagated":
            own_components = own if self.wide else self.perturbations.of_components(own)
            # Components that are not believed have no say: the rows' own, for which the scatter or the extreme lines speak.
            silent = np.flatnonzero(own_components)
            over_batch[1 + silent] = over_batch[1 + count + silent] = theta
            places = 1 + self.span.start + self.use
            if source == "scatter":
                moved = (parameter_sensitivity * sizes).T
                over_batch[places], over_batch[places + count] = theta + moved, theta - moved
            else:
                half = self.extremes(theta)
                assert half is not None
                over_batch[places[0]], over_batch[places[0] + count] = theta + half, theta - half
        return self.described(solved, over_batch, diagnostics, source, sizes, parameter_sensitivity)

    def followed(self, solved: Solved, parameter_sensitivity: Array, left: Array) -> Array:
        """The parameters over the wide batch, ``(2K+1, p)``, as they follow the residuals ``left`` ``(batch, n)``."""
        theta, perturbations = solved.theta, self.perturbations
        designs = None
        if solved.errors is not None or (self.curve.linear and not self.bound.x.strides[0]):
            # Where no component moves an abscissa all entries of a linear curve have one design, and its response is exact.
            moved = left @ parameter_sensitivity.T
        else:
            start = np.repeat(theta[None, :], len(left), axis=0)
            designs = self.curves.jacobian(start)
            if len(designs) != len(left):
                designs = np.broadcast_to(designs, (*left.shape, len(theta)))
            moved = step_of(designs, left, solved.weights)
        moved = moved - moved[:1]
        if self.wide:
            return theta + moved
        spread = perturbations.layout.spread(self.use, self.bound.y.shape[1])
        over_batch = np.zeros((perturbations.batch, len(theta)))
        over_batch[spread.lone_wide] = moved[spread.lone]
        entries, at = spread.entries, spread.at
        follows = parameter_sensitivity[:, at] * (left[entries, at] - left[0, at])
        if designs is not None:
            # A row whose abscissa moves also changes what its residual stands for: the other half of the estimator's derivative.
            turned = (designs[entries, at] - designs[0, at]) * (solved.weights * left[0])[at, None]
            follows += (parameter_sensitivity / solved.weights) @ parameter_sensitivity.T @ turned.T
        over_batch[spread.wide] = follows.T
        return over_batch + theta

    def scale_counting(self, over_batch: Array, theta: Array, parts: Array, variance: Array) -> None:
        """Counting's own components take the size that the curve predicts instead of the root of what was counted."""
        perturbations = self.perturbations
        total = (parts[perturbations.own(parts)] ** 2).sum(axis=0)
        place = np.full(self.bound.y.shape[1], -1)
        place[self.use] = np.arange(len(self.use))
        for index, column in enumerate(perturbations.columns):
            if (
                perturbations.groups[column.group].counts is None
                or column.rows is None
                or not (parts[index] != 0).any()
            ):
                continue
            if len(column.rows) == 1 and not perturbations.own(parts)[index]:
                continue  # a count that all rows share, such as a background
            at = np.where(column.rows < len(place), place[np.minimum(column.rows, len(place) - 1)], -1)
            components, at = column.components[at >= 0], at[at >= 0]
            counted = parts[index, at] ** 2
            rest = total[at] - counted
            size = np.sqrt(np.maximum(variance[at] - rest, 0.0) / np.where(counted > 0, counted, 1.0))
            for start in (1, 1 + perturbations.count):
                over_batch[start + components] = theta + (over_batch[start + components] - theta) * size[:, None]

    def diagnose(self, solved: Solved, basis: Array, variance_dof: float) -> Diagnostics:
        power = 2 if self.shape is None else self.shape.polynomial + 1
        fitted = self.curve.predict(solved.theta[None, :])[0]
        return diagnose(
            self.x,
            self.y,
            fitted,
            basis,
            solved.weights,
            solved.known,
            power,
            self.count > 1 or self.step.model == "mean",
            variance_dof,
        )

    def source(self, variance: Array, variance_dof: float, diagnostics: Diagnostics, theta: Array) -> str:
        """Who speaks for the rows' own uncertainty: by the house rule, and by what is known of the residuals' ``variance`` ``(n,)``, which
        rests on ``variance_dof`` degrees of freedom."""
        rule = self.rules.fit_uncertainty
        if rule == "extreme_lines" and isinstance(self.shape, Line) and self.extremes(theta) is not None:
            return "extreme lines"
        if diagnostics.dof <= 0:
            return "propagated"
        if not (variance > 0).all() or rule == "scatter":
            return "scatter"
        if self.rules.fit_uncertainty == "propagated":
            return "propagated"
        chance = chance_of(float((diagnostics.residuals**2 / variance).sum()), diagnostics.dof, variance_dof)
        return "scatter" if chance < BEYOND_CHANCE else "propagated"

    def extremes(self, theta: Array) -> Array | None:
        """Half the difference between the steepest and the shallowest line through all error boxes, as (slope, intercept).

        Each box reaches one standard uncertainty of the row's own components to every side. None where no line passes through all.
        """
        own, _ = self.own_of(self.residual_parts(theta))
        u_x = np.sqrt((self.x_parts[own][:, self.use] ** 2).sum(axis=0))
        u_y = np.sqrt((self.y_parts[own][:, self.use] ** 2).sum(axis=0))
        assert self.shape is not None
        found = extremes(self.shape.local(self.x), self.y, u_x, u_y, bool(theta[0] >= 0))
        return None if found is None else np.asarray((found[1] - found[0]) / 2)

    def described(
        self,
        solved: Solved,
        over_batch: Array,
        diagnostics: Diagnostics,
        source: str,
        sizes: Array,
        parameter_sensitivity: Array,
    ) -> tuple[FitAnalysis, Array, Array]:
        theta = solved.theta
        shape: Model | None = self.shape
        if self.forced:  # formulas may still name the intercept, which is zero by house rule
            theta, shape = np.array([theta[0], 0.0]), Line()
            over_batch = np.concatenate([over_batch, np.zeros_like(over_batch)], axis=1)
        parts = self.perturbations.contributions(over_batch)
        named = shape.named(theta[None, :])[0] if shape is not None else theta
        naming = shape.naming(theta) if shape is not None else np.eye(len(theta))
        named_parts = parts @ naming.T
        size = len(self.step.parameters)
        u = uncertainty.combined(named_parts)
        # A slope that is zero but for the last bits of its sum is zero: what divides by it has no value.
        named = np.where(np.abs(named) < _VANISHING * u, 0.0, named)
        unbounded: tuple[str, ...] = ()
        if isinstance(shape, Damped) and not theta[1] > uncertainty.combined(parts)[1]:
            # Within its uncertainty nothing fades: the time it takes has a lower end only.
            unbounded = ("tau",)
            named, named_parts = named.copy(), named_parts.copy()
            named[1], named_parts[:, 1], u[1] = math.inf, math.nan, math.nan
        parameters = {
            name: Parameter(float(named[i]), float(u[i]), unit, named_parts[:, i])
            for i, (name, unit) in enumerate(self.step.parameters.items())
        }
        analysis = FitAnalysis(
            **self.read(),
            parameters=parameters,
            covariance=named_parts[:, :size].T @ named_parts[:, :size],
            diagnostics=diagnostics,
            known=solved.known,
            counted=solved.counted,
            weighted=self.step.model == "mean" and float(np.ptp(solved.weights)) > 1e-9 * float(solved.weights.max()),
            source=source,
            shape=shape,
            theta=theta,
            parts=parts,
            weights=solved.weights,
            errors=solved.errors,
            scatter=sizes,
            parameter_sensitivity=parameter_sensitivity,
            unbounded=unbounded,
        )
        return analysis, over_batch, named + (over_batch - theta) @ naming.T
