"""The points of one fit: its curve bound to the batch, the rows it uses, and whether a curve can be drawn through them."""

import math
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import uncertainty
from cavrel.core.analysis.fitted import Bound, FitAnalysis, Parameter
from cavrel.core.analysis.perturbations import Perturbations
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.steps import FitStep
from cavrel.core.fit.models import Line, Model, Proportional, Tangent
from cavrel.core.fit.solver import Curve
from cavrel.core.formula.evaluate import Compiled, Environment
from cavrel.core.words import counted

Array = NDArray[np.float64]

LARGEST = 1e140
"""Beyond this squares of a reading, summed, are no numbers."""


def _of_model(shape: Model, x: Array) -> Curve:
    return Curve(
        lambda theta: shape.predict(theta, x),
        lambda theta: shape.jacobian(theta, x),
        shape.linear,
        lambda entries: _of_model(shape, x[entries] if len(x) > 1 else x),
    )


def curve_of(step: FitStep, shape: Model | None, bound: Bound, use: NDArray[np.intp]) -> Curve:
    """A fit's curve over the rows ``use`` of every entry of ``bound``."""
    if shape is not None:
        return _of_model(shape, bound.x[:, use])
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


class Points:
    """A fit's points over the batch."""

    def __init__(
        self, step: FitStep, bound: Bound, perturbations: Perturbations, rules: HouseRules, span: slice, x0: float
    ) -> None:
        self.step, self.perturbations, self.rules, self.span = step, perturbations, rules, span
        self.use = np.flatnonzero(np.isfinite(bound.x[0]) & np.isfinite(bound.y[0]) & bound.keep)
        self.forced = isinstance(step.shape, Line) and step.origin and rules.origin == "forced"
        self.shape: Model | None = Proportional() if self.forced else step.shape
        if step.model == "tangent":
            self.shape = Tangent(x0)
            near = np.argsort(np.abs(bound.x[0, self.use] - x0), kind="stable")
            self.use = np.sort(self.use[near[: step.points or max(5, -(-len(self.use) // 3))]])
        self.count = len(self.shape.names) if self.shape is not None else len(step.free)
        self.wide = perturbations.is_wide(bound.x) or perturbations.is_wide(bound.y) or self.reads_wide(bound)
        whole = perturbations.batch if self.wide else perturbations.narrow
        x, y = (perturbations.widen(v) if self.wide else v for v in (bound.x, bound.y))
        rows = bound.y.shape[1]
        x, y = (v if len(v) == whole else np.broadcast_to(v, (whole, rows)) for v in (x, y))
        self.bound = Bound(x, y, bound.environment, bound.keep)
        self.x_parts, self.y_parts = (
            perturbations.contributions(self.bound.x),
            perturbations.contributions(self.bound.y),
        )
        self.x, self.y = bound.x[0, self.use], bound.y[0, self.use]
        if self.shape is not None:
            self.shape = self.shape.about(self.x)

    @cached_property
    def curve(self) -> Curve:
        """The curve over the fitted rows, nominal values alone."""
        if self.shape is not None:
            return _of_model(self.shape, self.x[None, :])
        return curve_of(self.step, None, self.bound.nominal(), self.use)

    @cached_property
    def curves(self) -> Curve:
        """The curve over the fitted rows of every entry of the batch."""
        return curve_of(self.step, self.shape, self.bound, self.use)

    @cached_property
    def ordinates(self) -> Array:
        """y of the fitted rows over the batch, ``(batch, n)``."""
        return self.bound.y[:, self.use]

    def reads_wide(self, bound: Bound) -> bool:
        """Whether the curve of a formula rests on values that have an entry for each component."""
        if self.step.curve is None or not len(self.use):
            return False
        with np.errstate(all="ignore"):
            start = np.array(list(self.step.free.values()))[None, :]
            return self.perturbations.is_wide(curve_of(self.step, None, bound, self.use).predict(start))

    def impossible(self) -> str:
        """Why no curve can be drawn; empty if it can."""
        n = len(self.use)
        if not self.summable():
            return "the readings are too large to be fitted"
        kind = self.shape.title if self.shape is not None else "curve"
        if n < self.count:
            article = "an" if kind[0] in "aeiou" else "a"
            there = f"there {'is' if n == 1 else 'are'} {n}" if n else "there is none"
            of = f" with the word {' or '.join(self.step.marked)}" if self.step.marked else ""
            return f"{article} {kind} needs {counted(self.count, 'complete row')}{of}; {there}"
        if self.shape is None or not self.shape.needs_x:
            return ""
        if self.count == 1:
            return "" if (self.x != 0).any() else "all points stand at x = 0"
        if np.ptp(self.x) <= 1e-12 * max(float(np.abs(self.x).max()), 1e-300):
            return f"all points stand at the same x; a {kind} needs at least two different settings"
        return ""

    def summable(self) -> bool:
        """Whether sums of squares over the points stay numbers."""
        largest = max(float(np.abs(self.x).max(initial=0.0)), float(np.abs(self.y).max(initial=0.0)))
        return largest < LARGEST

    def unmade(self, reason: str) -> FitAnalysis:
        nothing = np.full(self.perturbations.count, np.nan)
        parameters = {p: Parameter(math.nan, math.nan, unit, nothing) for p, unit in self.step.parameters.items()}
        size = len(parameters)
        return FitAnalysis(
            **self.read(),
            reason=reason,
            parameters=parameters,
            covariance=np.full((size, size), np.nan),
            theta=np.full(size, np.nan),
            parts=np.zeros((self.perturbations.count, size)),
            weights=np.zeros(len(self.use)),
            scatter=np.zeros(len(self.use)),
            parameter_sensitivity=np.zeros((size, len(self.use))),
        )

    def read(self) -> dict[str, Any]:
        """What was read, as a fit's record holds it."""
        return {
            "name": self.step.name,
            "x": self.bound.x[0],
            "y": self.bound.y[0],
            "u_x": uncertainty.combined(self.x_parts),
            "u_y": uncertainty.combined(self.y_parts),
            "keep": self.bound.keep,
            "rows": self.use,
        }
