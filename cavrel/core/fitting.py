"""One fit of a program: its curve bound to the batch, weighted, solved, and its parameters' response to every component.

The nominal solution comes from a solver; every other entry of the batch follows by one Gauss-Newton step from there: the law of
propagation through a least-squares fit, exact where the curve is linear in its parameters.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import optimize

from cavrel.core import uncertainty
from cavrel.core.fit import solver, york
from cavrel.core.fit.diagnostics import Diagnostics, chance_of, diagnose
from cavrel.core.fit.models import Line, Model, Proportional, Straight, Tangent
from cavrel.core.fit.solver import Curve, NoFit
from cavrel.core.formula.evaluate import Environment
from cavrel.core.program import FitStep
from cavrel.core.rules import HouseRules
from cavrel.core.uncertainty import Pushes
from cavrel.core.units import Unit

Array = NDArray[np.float64]

X_MATTERS = 0.01
"""Error bars along x count when they add more than this share to the variance of any residual."""
_REWEIGHTINGS = 15
BEYOND_CHANCE = 0.05
"""The scatter is believed over the error bars where chance alone would make it this large less often than this. The larger of the two taken
always would call every uncertainty too large on average, for the scatter of a few points is itself mostly noise."""


@dataclass(frozen=True, slots=True)
class Parameter:
    """One parameter: ``value``, ``u``, SI; ``parts`` ``(K,)`` signed contributions."""

    value: float
    u: float
    unit: Unit
    parts: Array


@dataclass(frozen=True, slots=True)
class FitAnalysis:
    """A curve fitted, or the ``reason`` why not.

    ``x``, ``y``, ``u_x``, ``u_y``: ``(rows,)``, SI, all rows, NaN where missing; ``rows``: indices of those fitted. ``covariance`` of the
    named parameters in their order. ``known``: the points' own uncertainties are known and weight them. ``source``: whether the rows'
    own uncertainty was ``propagated``, taken from the ``scatter``, or from ``extreme lines``. ``shape``: the curve over x, None for a
    formula; ``theta`` ``(p,)`` and ``parts`` ``(K, p)`` of all its parameters; ``weights`` ``(n,)``; ``errors`` where both axes count (a
    straight line); ``scatter`` ``(n,)``: the standard deviation of each ordinate by the residuals; ``gain`` ``(p, n)``: the parameters'
    response to the residuals.
    """

    name: str
    x: Array
    y: Array
    u_x: Array
    u_y: Array
    rows: NDArray[np.intp]
    reason: str
    parameters: Mapping[str, Parameter]
    covariance: Array
    diagnostics: Diagnostics | None
    known: bool
    source: str
    shape: Model | None
    theta: Array
    parts: Array
    weights: Array
    errors: york.Errors | None
    scatter: Array
    gain: Array

    @property
    def made(self) -> bool:
        return not self.reason

    @property
    def drawable(self) -> bool:
        """Whether the curve can be drawn over x alone."""
        return self.made and self.shape is not None

    def at(self, x: Array) -> tuple[Array, Array]:
        """The curve at ``x`` ``(n,)`` and its standard uncertainty, shared components included. Needs ``drawable``."""
        assert self.shape is not None
        theta, grid = self.theta[None, :], x[None, :]
        parts = self.parts @ self.shape.jacobian(theta, grid)[0].T
        return self.shape.predict(theta, grid)[0], uncertainty.combined(parts)

    def single_u(self) -> float:
        """Standard deviation of one more y about the curve: by the scatter, or the typical known one."""
        if self.diagnostics is None or (self.diagnostics.dof <= 0 and not self.known):
            return math.nan
        if self.source == "scatter":
            return float(np.median(self.scatter))
        return float(np.median(1 / np.sqrt(self.weights))) if self.known else self.diagnostics.s


@dataclass(frozen=True, slots=True)
class Bound:
    """What a fit runs over: ``x`` and ``y`` ``(batch, rows)``, the environment that a formula reads, rows kept ``(rows,)``."""

    x: Array
    y: Array
    environment: Environment
    keep: NDArray[np.bool_]


def curve_of(step: FitStep, shape: Model | None, bound: Bound, use: NDArray[np.intp]) -> Curve:
    """A fit's curve over the rows ``use`` of every entry of ``bound``."""
    if shape is not None:
        x = bound.x[:, use]
        return Curve(lambda theta: shape.predict(theta, x), lambda theta: shape.jacobian(theta, x), shape.linear)
    assert step.curve is not None
    compiled, names = step.curve, [f"{step.name}.{p}" for p in step.free]
    rows = bound.y.shape[1]

    def predict(theta: Array) -> Array:
        values = dict(bound.environment.values)
        values.update({name: theta[:, i : i + 1] for i, name in enumerate(names)})
        found = compiled(Environment(values, bound.environment.keep))
        return np.broadcast_to(found, (found.shape[0], rows))[:, use]

    def jacobian(theta: Array) -> Array:
        # Central differences, with the step that balances rounding against curvature.
        columns = []
        for i in range(theta.shape[1]):
            up, down = theta.copy(), theta.copy()
            h = 6e-6 * np.maximum(np.abs(theta[:, i]), 1e-12)
            up[:, i] += h
            down[:, i] -= h
            columns.append((predict(up) - predict(down)) / (up[:, i] - down[:, i])[:, None])
        return np.stack(columns, axis=2)

    return Curve(predict, jacobian, False)


def nominal_of(bound: Bound) -> Bound:
    """The first entry alone."""
    values = {key: value[:1] for key, value in bound.environment.values.items()}
    return Bound(bound.x[:1], bound.y[:1], Environment(values, bound.environment.keep), bound.keep)


@dataclass(frozen=True, slots=True)
class _Solved:
    """The nominal solution: derivatives ``jacobian`` ``(n, p)`` where the parameters' response is taken."""

    theta: Array
    weights: Array
    known: bool
    jacobian: Array
    errors: york.Errors | None


def fit(
    step: FitStep, bound: Bound, pushes: Pushes, rules: HouseRules, span: slice, x0: float
) -> tuple[FitAnalysis, Array]:
    """Fit ``step`` to ``bound``; returns the analysis and the parameters over the batch ``(2K+1, p)``, the
    named ones first.

    ``span``: the components kept for this fit's scatter; ``x0``: where a tangent touches. A fit that cannot be made has a reason.
    """
    return _Fitting(step, bound, pushes, rules, span, x0).run()


class _Fitting:
    """Carries one fit from its batch to its parameters."""

    def __init__(self, step: FitStep, bound: Bound, pushes: Pushes, rules: HouseRules, span: slice, x0: float) -> None:
        self.step, self.bound, self.pushes, self.rules, self.span = step, bound, pushes, rules, span
        self.x_parts = uncertainty.contributions(bound.x, pushes.count)
        self.y_parts = uncertainty.contributions(bound.y, pushes.count)
        self.use = np.flatnonzero(np.isfinite(bound.x[0]) & np.isfinite(bound.y[0]) & bound.keep)
        self.forced = isinstance(step.shape, Line) and step.origin and rules.origin == "forced"
        self.shape: Model | None = Proportional() if self.forced else step.shape
        if step.model == "tangent":
            self.shape = Tangent(x0)
            near = np.argsort(np.abs(bound.x[0, self.use] - x0), kind="stable")
            self.use = np.sort(self.use[near[: step.points or max(5, -(-len(self.use) // 3))]])
        self.x, self.y = bound.x[0, self.use], bound.y[0, self.use]
        self.count = len(self.shape.names) if self.shape is not None else len(step.free)

    def run(self) -> tuple[FitAnalysis, Array]:
        reason = self.impossible()
        if not reason:
            try:
                with np.errstate(all="ignore"):
                    solved = self.solve()
                    gain, basis = solver.response(solved.jacobian, solved.weights)
                    return self.made(solved, gain, basis)
            except NoFit as fault:
                reason = str(fault)
        return self.unmade(reason), np.full((1, len(self.step.parameters)), np.nan)

    def impossible(self) -> str:
        """Why no curve can be drawn; empty if it can."""
        n, model = len(self.use), self.step.model
        words = {"proportional": "line", "power": "power law", "damped": "damped oscillation", "formula": "curve"}
        kind = words.get(model, model)
        if n < self.count:
            article = "an" if kind[0] in "aeiou" else "a"
            return f"{article} {kind} needs {self.count} complete rows; there are {n}"
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
            self.step.name,
            self.bound.x[0],
            self.bound.y[0],
            uncertainty.combined(self.x_parts),
            uncertainty.combined(self.y_parts),
            self.use,
            reason,
            parameters,
            np.full((size, size), np.nan),
            None,
            False,
            "",
            None,
            np.full(size, np.nan),
            np.zeros((self.pushes.count, size)),
            np.zeros(len(self.use)),
            None,
            np.zeros(len(self.use)),
            np.zeros((size, len(self.use))),
        )

    # --- the nominal solution ----------------------------------------------------------------------------------------

    def solve(self) -> _Solved:
        curve = curve_of(self.step, self.shape, nominal_of(self.bound), self.use)
        alike = np.ones(len(self.use))
        theta = self.first(curve, alike)
        if self.rules.weights == "equal":
            return self.solved(curve, theta, alike, False)
        own, own_variance = self.own_of(self.residual_parts(theta))
        y_variance = (self.y_parts[own][:, self.use] ** 2).sum(axis=0)
        if not (own_variance > 0).all():
            return self.solved(curve, theta, alike, False)
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
            if np.allclose(new, weights, rtol=1e-10, atol=0):
                break
            weights = new
            theta = self.again(curve, theta, weights)
        return self.solved(curve, theta, weights, True)

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
        return solver.nominal(curve, self.y, weights, theta[None, :])

    def solved(self, curve: Curve, theta: Array, weights: Array, known: bool) -> _Solved:
        if self.shape is not None:
            theta = self.shape.tidy(theta)
        return _Solved(theta, weights, known, curve.jacobian(theta[None, :])[0], None)

    def york(self, theta: Array, own: NDArray[np.bool_]) -> _Solved:
        x_parts, y_parts = self.x_parts[own][:, self.use], self.y_parts[own][:, self.use]
        errors = york.Errors((x_parts**2).sum(axis=0), (y_parts**2).sum(axis=0), (x_parts * y_parts).sum(axis=0))
        through = self.count == 1
        slope, intercept, adjusted = york.solve(self.x, self.y, errors, float(theta[0]), through)
        if not math.isfinite(slope):
            raise NoFit(
                "no straight line with error bars on both axes settles; set the house rule for abscissae to ignore"
            )
        columns = [adjusted] if through else [adjusted, np.ones(len(self.use))]
        best = np.array([slope] if through else [slope, intercept])
        return _Solved(best, 1 / errors.of_residual(slope), True, np.stack(columns, axis=1), errors)

    def residual_parts(self, theta: Array) -> Array:
        """Contribution of every component to every point's residual about the curve ``theta``, ``(K, n)``."""
        return uncertainty.contributions(self.left_over(theta), self.pushes.count)

    def left_over(self, theta: Array) -> Array:
        """Residuals over the batch, ``(2K+1, n)``."""
        curve = curve_of(self.step, self.shape, self.bound, self.use)
        return np.asarray(self.bound.y[:, self.use] - curve.predict(theta[None, :]))

    def own_of(self, parts: Array) -> tuple[NDArray[np.bool_], Array]:
        """Which components are a row's own: they move that row and no other; and the variance of each residual by them."""
        own = self.pushes.independent & ((parts != 0).sum(axis=1) <= 1)
        return own, (parts[own] ** 2).sum(axis=0)

    def x_matters(self, own_variance: Array, y_variance: Array) -> bool:
        if self.rules.abscissae == "ignore":
            return not (y_variance > 0).all()
        if self.rules.abscissae == "york":
            return True
        return bool((np.abs(own_variance - y_variance) > X_MATTERS * y_variance).any())

    # --- from the solution to parameters and their contributions -----------------------------------------------------

    def made(self, solved: _Solved, gain: Array, basis: Array) -> tuple[FitAnalysis, Array]:
        theta, count = solved.theta, self.pushes.count
        left = self.left_over(theta)
        if solved.errors is not None:
            moved = left @ gain.T
        else:
            curve = curve_of(self.step, self.shape, self.bound, self.use)
            moved = solver.step(curve, self.bound.y[:, self.use], solved.weights, theta)
        over_batch = theta + (moved - moved[:1])
        parts = uncertainty.contributions(left, count)
        own, variance = self.own_of(parts)
        behind = uncertainty.freedom_behind(np.where(own[:, None], parts, 0.0), self.pushes)
        diagnostics = self.diagnose(solved, basis, behind)
        sizes = np.zeros(len(self.use))
        if diagnostics.dof > 0:
            squares = float((solved.weights * diagnostics.residuals**2).sum())
            sizes = np.sqrt(squares / diagnostics.dof / solved.weights)
        places = 1 + self.span.start + self.use
        over_batch[places] = theta + (gain * sizes).T
        over_batch[places + count] = theta - (gain * sizes).T
        own[self.span] = False
        source = self.source(variance, behind, diagnostics, theta)
        silent = np.zeros(count, bool)
        silent[own if source != "propagated" else self.span] = True
        if source == "extreme lines":
            silent[self.span] = True
        entries = np.concatenate([[False], silent, silent])
        over_batch[entries] = theta  # components that are not believed have no say
        if source == "extreme lines":
            half = self.extremes(theta)
            assert half is not None
            over_batch[places[0]], over_batch[places[0] + count] = theta + half, theta - half
        return self.described(solved, over_batch, diagnostics, source, sizes, gain)

    def diagnose(self, solved: _Solved, basis: Array, behind: float) -> Diagnostics:
        curve = curve_of(self.step, self.shape, nominal_of(self.bound), self.use)
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
        # Scaled, so that the solver's tolerances mean the same for metres and for nanometres.
        x_size, y_size = float(np.abs(self.x).max() or 1.0), float(np.abs(self.y).max() or 1.0)
        above = np.stack([-(self.x + side), -np.ones_like(self.x)], axis=1), -(self.y - u_y)
        below = np.stack([self.x - side, np.ones_like(self.x)], axis=1), self.y + u_y
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
    ) -> tuple[FitAnalysis, Array]:
        theta = solved.theta
        shape: Model | None = self.shape
        if self.forced:  # formulas may still name the intercept, which is nought by house rule
            theta, shape = np.array([theta[0], 0.0]), Line()
            over_batch = np.concatenate([over_batch, np.zeros_like(over_batch)], axis=1)
        parts = uncertainty.contributions(over_batch, self.pushes.count)
        named = len(self.step.parameters)
        u = uncertainty.combined(parts)
        parameters = {
            name: Parameter(float(theta[i]), float(u[i]), unit, parts[:, i])
            for i, (name, unit) in enumerate(self.step.parameters.items())
        }
        analysis = FitAnalysis(
            self.step.name,
            self.bound.x[0],
            self.bound.y[0],
            uncertainty.combined(self.x_parts),
            uncertainty.combined(self.y_parts),
            self.use,
            "",
            parameters,
            parts[:, :named].T @ parts[:, :named],
            diagnostics,
            solved.known,
            source,
            shape,
            theta,
            parts,
            solved.weights,
            solved.errors,
            sizes,
            gain,
        )
        return analysis, over_batch
