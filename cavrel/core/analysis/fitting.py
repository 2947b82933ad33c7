"""One fit of a program: its curve bound to the batch, weighted, solved, and its parameters' response to every component.

The nominal solution comes from a solver; every other entry of the batch follows by one Gauss-Newton step from there: the law of
propagation through a least-squares fit, exact where the curve is linear in its parameters.
"""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import optimize

from cavrel.core.analysis import uncertainty
from cavrel.core.analysis.fitted import Bound, FitAnalysis, Parameter
from cavrel.core.analysis.lanes import Pushes
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import FitStep
from cavrel.core.fit import solver, york
from cavrel.core.fit.diagnostics import Diagnostics, chance_of, diagnose
from cavrel.core.fit.models import Damped, Line, Model, Proportional, Straight, Tangent
from cavrel.core.fit.solver import Curve, NoFit
from cavrel.core.formula.evaluate import Compiled, Environment
from cavrel.core.words import counted

Array = NDArray[np.float64]

X_MATTERS = 0.01
"""Error bars along x count when they add more than this share to the variance of any residual."""
_REWEIGHTINGS = 15
_SCORINGS = 60
_PROPORTIONAL = 0.05
"""A count acts in proportion where what half its up and down leave over is under this share of their difference."""
BEYOND_CHANCE = 0.05
"""The scatter is believed over the error bars where chance alone would make it this large less often than this. The larger of the two taken
always would call every uncertainty too large on average, for the scatter of a few points is itself mostly noise."""


def curve_of(step: FitStep, shape: Model | None, bound: Bound, use: NDArray[np.intp]) -> Curve:
    """A fit's curve over the rows ``use`` of every entry of ``bound``."""
    if shape is not None:
        x = bound.x[:, use]
        return Curve(lambda theta: shape.predict(theta, x), lambda theta: shape.jacobian(theta, x), shape.linear)
    assert step.curve is not None
    compiled, names = step.curve, [f"{step.name}.{p}" for p in step.free]
    rows = bound.y.shape[1]

    starts = np.abs(np.array(list(step.free.values())))

    def run(formula: Compiled, theta: Array) -> Array:
        values = dict(bound.environment.values)
        values.update({name: theta[:, i : i + 1] for i, name in enumerate(names)})
        found = formula(Environment(values, bound.environment.keep, bound.environment.spread))
        return np.broadcast_to(found, (found.shape[0], rows))[:, use]

    def predict(theta: Array) -> Array:
        return run(compiled, theta)

    def jacobian(theta: Array) -> Array:
        columns = []
        for i, slope in enumerate(step.slopes):
            if slope is not None:
                columns.append(run(slope, theta))
                continue
            # Central differences, with the step that balances rounding against curvature, on the parameter's own scale.
            up, down = theta.copy(), theta.copy()
            h = 6e-6 * np.maximum(np.abs(theta[:, i]), 1e-3 * (starts[i] or 1.0))
            up[:, i] += h
            down[:, i] -= h
            columns.append((predict(up) - predict(down)) / (up[:, i] - down[:, i])[:, None])
        most = max(len(column) for column in columns)
        return np.stack([np.broadcast_to(column, (most, column.shape[1])) for column in columns], axis=2)

    return Curve(predict, jacobian, False)


@dataclass(frozen=True, slots=True)
class _Solved:
    """The nominal solution: derivatives ``jacobian`` ``(n, p)`` where the parameters' response is taken."""

    theta: Array
    weights: Array
    known: bool
    jacobian: Array
    errors: york.Errors | None = None
    counted: bool = False


@dataclass(frozen=True, slots=True)
class _Counts:
    """Ordinates that rest on counts: ``count`` ``(n,)`` each row's mean count, ``part`` ``(n,)`` what counting contributes to y, ``u`` ``(n,)``
    the count's own standard uncertainty, ``rest`` ``(n,)`` variance of y by the rows' other components."""

    count: Array
    part: Array
    u: Array
    rest: Array

    def variance(self, residuals: Array) -> Array:
        """Variance of each y where the curve, which lies ``residuals`` below the points, foretells the counts."""
        by_count = self.part / self.u
        expected = np.maximum(self.count - residuals / by_count, _LEAST_EXPECTED)
        # How many intervals were averaged: u² is the mean over their number, or its square's inverse where nothing was counted.
        times = np.where(self.count > 0, self.count / self.u**2, 1 / self.u)
        return np.asarray(self.rest + by_count**2 * expected / times)


_LEAST_EXPECTED = 0.05
"""Counts that a curve foretells for an interval never fall below this: a weight must stay finite."""


def fit(
    step: FitStep, bound: Bound, pushes: Pushes, rules: HouseRules, span: slice, x0: float
) -> tuple[FitAnalysis, Array, Array]:
    """Fit ``step`` to ``bound``; returns the analysis, and over the wide batch ``(2K+1, p)`` the curve's parameters about its origin and
    those that the definition names.

    ``span``: the components kept for this fit's scatter; ``x0``: where a tangent touches. A fit that cannot be made has a reason.
    """
    return _Fitting(step, bound, pushes, rules, span, x0).run()


class _Fitting:
    """Carries one fit from its batch to its parameters."""

    def __init__(self, step: FitStep, bound: Bound, pushes: Pushes, rules: HouseRules, span: slice, x0: float) -> None:
        self.step, self.pushes, self.rules, self.span = step, pushes, rules, span
        self.use = np.flatnonzero(np.isfinite(bound.x[0]) & np.isfinite(bound.y[0]) & bound.keep)
        self.forced = isinstance(step.shape, Line) and step.origin and rules.origin == "forced"
        self.shape: Model | None = Proportional() if self.forced else step.shape
        if step.model == "tangent":
            self.shape = Tangent(x0)
            near = np.argsort(np.abs(bound.x[0, self.use] - x0), kind="stable")
            self.use = np.sort(self.use[near[: step.points or max(5, -(-len(self.use) // 3))]])
        self.count = len(self.shape.names) if self.shape is not None else len(step.free)
        self.wide = pushes.is_wide(bound.x) or pushes.is_wide(bound.y) or self.reads_wide(bound)
        whole = pushes.batch if self.wide else pushes.narrow
        x, y = (pushes.widen(v) if self.wide else v for v in (bound.x, bound.y))
        rows = bound.y.shape[1]
        self.bound = Bound(
            np.broadcast_to(x, (whole, rows)), np.broadcast_to(y, (whole, rows)), bound.environment, bound.keep
        )
        self.x_parts, self.y_parts = pushes.contributions(self.bound.x), pushes.contributions(self.bound.y)
        self.x, self.y = bound.x[0, self.use], bound.y[0, self.use]
        if self.shape is not None:
            self.shape = self.shape.about(self.x)

    def reads_wide(self, bound: Bound) -> bool:
        """Whether the curve of a formula rests on values that have an entry for each component."""
        if self.step.curve is None or not len(self.use):
            return False
        with np.errstate(all="ignore"):
            start = np.array(list(self.step.free.values()))[None, :]
            return self.pushes.is_wide(curve_of(self.step, None, bound, self.use).predict(start))

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

    def impossible(self) -> str:
        """Why no curve can be drawn; empty if it can."""
        n, model = len(self.use), self.step.model
        if not self.summable():
            return "the readings are too large to be fitted"
        words = {"proportional": "line", "power": "power law", "damped": "damped oscillation", "formula": "curve"}
        kind = words.get(model, model)
        if n < self.count:
            article = "an" if kind[0] in "aeiou" else "a"
            there = f"there {'is' if n == 1 else 'are'} {n}" if n else "there is none"
            return f"{article} {kind} needs {counted(self.count, 'complete row')}; {there}"
        if model == "mean" or model == "formula":
            return ""
        if self.count == 1:
            return "" if (self.x != 0).any() else "all points stand at x = 0"
        if np.ptp(self.x) <= 1e-12 * max(float(np.abs(self.x).max()), 1e-300):
            return f"all points stand at the same x; a {kind} needs at least two different settings"
        return ""

    def unmade(self, reason: str) -> FitAnalysis:
        nothing = np.full(self.pushes.count, np.nan)
        parameters = {p: Parameter(math.nan, math.nan, unit, nothing) for p, unit in self.step.parameters.items()}
        size = len(parameters)
        return FitAnalysis(
            **self.read(),
            reason=reason,
            parameters=parameters,
            covariance=np.full((size, size), np.nan),
            theta=np.full(size, np.nan),
            parts=np.zeros((self.pushes.count, size)),
            weights=np.zeros(len(self.use)),
            scatter=np.zeros(len(self.use)),
            gain=np.zeros((size, len(self.use))),
        )

    def read(self) -> dict[str, Any]:
        """What was read, as a fit's record holds it."""
        return {
            "name": self.step.name,
            "x": self.bound.x[0],
            "y": self.bound.y[0],
            "u_x": uncertainty.combined(self.x_parts),
            "u_y": uncertainty.combined(self.y_parts),
            "rows": self.use,
        }

    # --- the nominal solution ----------------------------------------------------------------------------------------

    def solve(self) -> _Solved:
        curve = curve_of(self.step, self.shape, self.bound.nominal(), self.use)
        alike = np.ones(len(self.use))
        theta = self.first(curve, alike)
        if self.rules.weights == "equal" or self.step.plain:
            return self.solved(curve, theta, alike, False)
        own, own_variance = self.own_of(self.residual_parts(theta))
        y_variance = (self.y_parts[own][:, self.use] ** 2).sum(axis=0)
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
            if (np.abs(new - weights) <= 1e-10 * np.abs(weights)).all():
                break
            weights = new
            theta = self.again(curve, theta, weights)
        return self.solved(curve, theta, weights, True)

    def counts(self, own: NDArray[np.bool_], own_variance: Array) -> _Counts | None:
        """What counting contributes to the ordinates; None unless each row's y follows one count in proportion, the abscissae none."""
        if self.wide:
            return None
        part, count, u = (np.full(self.bound.y.shape[1], np.nan) for _ in range(3))
        for index, lane in enumerate(self.pushes.lanes):
            block = self.pushes.blocks[lane.block]
            if block.counts is None or lane.rows is None or not own[index] or lane.rows.max() >= len(part):
                continue
            if (self.x_parts[index] != 0).any():
                return None
            moved, at = self.y_parts[index], lane.rows
            if not (moved != 0).any():
                continue
            if not np.isnan(part[at]).all():
                return None
            of_lane = lane.components - self.pushes.starts[lane.block]
            part[at], count[at], u[at] = moved[at], block.counts[of_lane], block.u[of_lane]
            up, down = (self.bound.y[1 + index + k] - self.bound.y[0] for k in (0, len(self.pushes.lanes)))
            if (np.abs(up + down)[at] > _PROPORTIONAL * np.abs(up - down)[at]).any():
                return None
        part, count, u = part[self.use], count[self.use], u[self.use]
        if not (np.abs(part) > 0).all():
            return None
        return _Counts(count, part, u, np.maximum(own_variance - part**2, 0.0))

    def by_counts(self, curve: Curve, theta: Array, counts: _Counts) -> _Solved:
        """The likeliest curve for counts: least squares whose weights are those that the curve foretells, taken until both settle, which is
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
                solver.response(curve.jacobian(theta[None, :])[0], weights)
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
                solver.response(curve.jacobian(theta[None, :])[0], weights)
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

    def solved(self, curve: Curve, theta: Array, weights: Array, known: bool) -> _Solved:
        if self.shape is not None:
            theta = self.shape.tidy(theta)
        return _Solved(theta, weights, known, curve.jacobian(theta[None, :])[0])

    def york(self, theta: Array, own: NDArray[np.bool_]) -> _Solved:
        x_parts, y_parts = self.x_parts[own][:, self.use], self.y_parts[own][:, self.use]
        errors = york.Errors((x_parts**2).sum(axis=0), (y_parts**2).sum(axis=0), (x_parts * y_parts).sum(axis=0))
        through = self.count == 1
        assert self.shape is not None
        x = self.shape.local(self.x)
        slope, intercept, adjusted = york.solve(x, self.y, errors, float(theta[0]), through)
        if not math.isfinite(slope):
            raise NoFit(
                "no straight line with error bars on both axes settles; set the house rule for abscissae to ignore"
            )
        columns = [adjusted] if through else [adjusted, np.ones(len(self.use))]
        best = np.array([slope] if through else [slope, intercept])
        return _Solved(best, 1 / errors.of_residual(slope), True, np.stack(columns, axis=1), errors)

    def residual_parts(self, theta: Array) -> Array:
        """Contributions to every point's residual about the curve ``theta``, ``(L, n)`` or ``(K, n)``."""
        return self.pushes.contributions(self.left_over(theta))

    def left_over(self, theta: Array) -> Array:
        """Residuals over the batch, ``(batch, n)``."""
        curve = curve_of(self.step, self.shape, self.bound, self.use)
        return np.asarray(self.bound.y[:, self.use] - self.fitting_in(curve.predict(theta[None, :])))

    def fitting_in(self, values: Array) -> Array:
        """Values of a curve as a batch that fits the points'."""
        return self.pushes.widen(values) if self.wide else values

    def own_of(self, parts: Array) -> tuple[NDArray[np.bool_], Array]:
        """Which contributions are a row's own: of components that move that row and no other; and the variance of each residual by them."""
        own = self.pushes.own(parts)
        return own, (parts[own] ** 2).sum(axis=0)

    def summable(self) -> bool:
        """Whether sums of squares over the points stay numbers."""
        largest = max(float(np.abs(self.x).max(initial=0.0)), float(np.abs(self.y).max(initial=0.0)))
        return largest < 1e140

    def x_matters(self, own_variance: Array, y_variance: Array) -> bool:
        if self.rules.abscissae == "ignore":
            return not (y_variance > 0).all()
        if self.rules.abscissae == "york":
            return True
        return bool((np.abs(own_variance - y_variance) > X_MATTERS * y_variance).any())

    # --- from the solution to parameters and their contributions -----------------------------------------------------

    def made(self, solved: _Solved, told: tuple[str, Diagnostics] | None = None) -> tuple[FitAnalysis, Array, Array]:
        """Parameters with all their contributions. ``told``: who speaks for the rows' uncertainty, with the diagnostics that said so."""
        theta, count = solved.theta, self.pushes.count
        gain, basis = solver.response(solved.jacobian, solved.weights)
        left = self.left_over(theta)
        over_batch = self.followed(solved, gain, left)
        parts = self.pushes.contributions(left)
        own, variance = self.own_of(parts)
        whole = np.zeros((len(parts), self.bound.y.shape[1]))
        whole[:, self.use] = np.where(own[:, None], parts, 0.0)
        behind = uncertainty.freedom_behind(whole, self.use, self.pushes, self.wide)
        if solved.counted:
            self.foretold(over_batch, theta, parts, 1 / solved.weights)
            variance = 1 / solved.weights
        diagnostics = self.diagnose(solved, basis, behind)
        source = self.source(variance, behind, diagnostics, theta)
        if told is not None:
            source, diagnostics = told[0], replace(diagnostics, chi2=told[1].chi2, p=told[1].p)
        elif source == "scatter" and self.step.model == "mean" and np.ptp(solved.weights) > 0:
            # Weights that their own chi-squared refutes say nothing: all rows count alike, as anyone can check by hand.
            alike = replace(solved, weights=np.ones(len(self.use)), known=False)
            curve = curve_of(self.step, self.shape, self.bound.nominal(), self.use)
            return self.made(replace(alike, theta=self.again(curve, theta, alike.weights)), (source, diagnostics))
        sizes = np.zeros(len(self.use))
        if diagnostics.dof > 0:
            squares = float((solved.weights * diagnostics.residuals**2).sum())
            sizes = np.sqrt(squares / diagnostics.dof / solved.weights)
        places = 1 + self.span.start + self.use
        over_batch[places] = theta + (gain * sizes).T
        over_batch[places + count] = theta - (gain * sizes).T
        own_components = own if self.wide else self.pushes.of_components(own)
        silent = np.zeros(count, bool)
        silent[own_components if source != "propagated" else self.span] = True
        silent[self.span] |= source != "scatter"
        entries = np.concatenate([[False], silent, silent])
        over_batch[entries] = theta  # components that are not believed have no say
        if source == "extreme lines":
            half = self.extremes(theta)
            assert half is not None
            over_batch[places[0]], over_batch[places[0] + count] = theta + half, theta - half
        return self.described(solved, over_batch, diagnostics, source, sizes, gain)

    def followed(self, solved: _Solved, gain: Array, left: Array) -> Array:
        """The parameters over the wide batch, ``(2K+1, p)``, as they follow the residuals ``left`` ``(batch, n)``."""
        theta, pushes = solved.theta, self.pushes
        designs = None
        if solved.errors is not None:
            moved = left @ gain.T
        else:
            curve = curve_of(self.step, self.shape, self.bound, self.use)
            start = np.repeat(theta[None, :], len(left), axis=0)
            designs = np.broadcast_to(curve.jacobian(start), (*left.shape, len(theta)))
            moved = solver.step_of(designs, left, solved.weights)
        moved = moved - moved[:1]
        if self.wide:
            return theta + moved
        over_batch = np.repeat(theta[None, :], pushes.batch, axis=0)
        lanes, place = len(pushes.lanes), np.full(self.bound.y.shape[1], -1)
        place[self.use] = np.arange(len(self.use))
        covariance = (gain / solved.weights) @ gain.T
        for index, lane in enumerate(pushes.lanes):
            for start_at, entry in ((1, 1 + index), (1 + pushes.count, 1 + index + lanes)):
                if not pushes.together[index]:
                    over_batch[start_at + lane.components] += moved[entry]
                    continue
                assert lane.rows is not None
                here = lane.rows < len(place)
                at, components = place[lane.rows[here]], lane.components[here]
                at, components = at[at >= 0], components[at >= 0]
                follows = gain[:, at] * (left[entry] - left[0])[at]
                if designs is not None:
                    # A row whose abscissa moves also changes what its residual stands for: the other half of the estimator's derivative.
                    turned = (designs[entry, at] - designs[0, at]) * (solved.weights * left[0])[at, None]
                    follows = follows + covariance @ turned.T
                over_batch[start_at + components] += follows.T
        return over_batch

    def foretold(self, over_batch: Array, theta: Array, parts: Array, variance: Array) -> None:
        """Counting's own components take the size that the curve foretells instead of the root of what was counted."""
        pushes = self.pushes
        total = (parts[pushes.own(parts)] ** 2).sum(axis=0)
        place = np.full(self.bound.y.shape[1], -1)
        place[self.use] = np.arange(len(self.use))
        for index, lane in enumerate(pushes.lanes):
            if pushes.blocks[lane.block].counts is None or lane.rows is None or not (parts[index] != 0).any():
                continue
            if len(lane.rows) == 1 and not pushes.own(parts)[index]:
                continue  # a count that all rows share, such as a background
            at = np.where(lane.rows < len(place), place[np.minimum(lane.rows, len(place) - 1)], -1)
            components, at = lane.components[at >= 0], at[at >= 0]
            counted = parts[index, at] ** 2
            rest = total[at] - counted
            size = np.sqrt(np.maximum(variance[at] - rest, 0.0) / np.where(counted > 0, counted, 1.0))
            for start in (1, 1 + pushes.count):
                over_batch[start + components] = theta + (over_batch[start + components] - theta) * size[:, None]

    def diagnose(self, solved: _Solved, basis: Array, behind: float) -> Diagnostics:
        curve = curve_of(self.step, self.shape, self.bound.nominal(), self.use)
        power = 2 if self.shape is None else self.shape.polynomial + 1
        fitted = curve.predict(solved.theta[None, :])[0]
        return diagnose(
            self.x,
            self.y,
            fitted,
            basis,
            solved.weights,
            solved.known,
            power,
            self.count > 1 or self.step.model == "mean",
            behind,
        )

    def source(self, variance: Array, behind: float, diagnostics: Diagnostics, theta: Array) -> str:
        """Who speaks for the rows' own uncertainty: by the house rule, and by what is known of the residuals' ``variance`` ``(n,)``, which
        rests on ``behind`` degrees of freedom."""
        rule = self.rules.fit_uncertainty
        if rule == "extreme_lines" and isinstance(self.shape, Line) and self.extremes(theta) is not None:
            return "extreme lines"
        if diagnostics.dof <= 0:
            return "propagated"
        if not (variance > 0).all() or rule == "scatter":
            return "scatter"
        if self.rules.fit_uncertainty == "propagated":
            return "propagated"
        chance = chance_of(float((diagnostics.residuals**2 / variance).sum()), diagnostics.dof, behind)
        return "scatter" if chance < BEYOND_CHANCE else "propagated"

    def extremes(self, theta: Array) -> Array | None:
        """Half the difference between the steepest and the shallowest line through all error boxes, as (slope, intercept).

        Each box reaches one standard uncertainty of the row's own components to every side. None where no line passes through all.
        """
        own, _ = self.own_of(self.residual_parts(theta))
        u_x = np.sqrt((self.x_parts[own][:, self.use] ** 2).sum(axis=0))
        u_y = np.sqrt((self.y_parts[own][:, self.use] ** 2).sum(axis=0))
        if not (u_y + u_x > 0).all():
            return None
        side = u_x if theta[0] >= 0 else -u_x
        assert self.shape is not None
        x = self.shape.local(self.x)
        # Scaled, so that the solver's tolerances mean the same for metres and for nanometres.
        x_size, y_size = float(np.abs(x).max() or 1.0), float(np.abs(self.y).max() or 1.0)
        above = np.stack([-(x + side), -np.ones_like(x)], axis=1), -(self.y - u_y)
        below = np.stack([x - side, np.ones_like(x)], axis=1), self.y + u_y
        scale = np.array([1 / x_size, 1.0])
        rows, limits = np.concatenate([above[0], below[0]]) * scale, np.concatenate([above[1], below[1]]) / y_size
        found = []
        for sign in (1.0, -1.0):
            best = optimize.linprog([sign, 0.0], A_ub=rows, b_ub=limits, bounds=[(None, None), (None, None)])
            if not best.success:
                return None
            found.append(best.x * y_size * scale)
        return np.asarray((found[1] - found[0]) / 2)

    def described(
        self, solved: _Solved, over_batch: Array, diagnostics: Diagnostics, source: str, sizes: Array, gain: Array
    ) -> tuple[FitAnalysis, Array, Array]:
        theta = solved.theta
        shape: Model | None = self.shape
        if self.forced:  # formulas may still name the intercept, which is nought by house rule
            theta, shape = np.array([theta[0], 0.0]), Line()
            over_batch = np.concatenate([over_batch, np.zeros_like(over_batch)], axis=1)
        parts = self.pushes.contributions(over_batch)
        named = shape.named(theta[None, :])[0] if shape is not None else theta
        naming = shape.naming(theta) if shape is not None else np.eye(len(theta))
        named_parts = parts @ naming.T
        size = len(self.step.parameters)
        u = uncertainty.combined(named_parts)
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
            gain=gain,
            unbounded=unbounded,
        )
        return analysis, over_batch, named + (over_batch - theta) @ naming.T
