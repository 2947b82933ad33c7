"""What a fit gives: its parameters with their contributions, its diagnostics, or the reason why there is none."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis import uncertainty
from cavrel.core.fit import york
from cavrel.core.fit.diagnostics import Diagnostics
from cavrel.core.fit.models import Model
from cavrel.core.formula.evaluate import Environment
from cavrel.core.quantity.units import Unit

Array = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Parameter:
    """One parameter: ``value``, ``u``, SI; ``parts`` ``(K,)`` signed contributions."""

    value: float
    u: float
    unit: Unit
    parts: Array


@dataclass(frozen=True, slots=True)
class Bound:
    """What a fit runs over: ``x`` and ``y`` ``(batch, rows)``, the environment that a formula reads, rows kept ``(rows,)``."""

    x: Array
    y: Array
    environment: Environment
    keep: NDArray[np.bool_]

    def nominal(self) -> "Bound":
        """The first entry alone."""
        values = {key: value[:1] for key, value in self.environment.values.items()}
        return Bound(self.x[:1], self.y[:1], Environment(values, self.environment.keep), self.keep)


@dataclass(frozen=True, slots=True, kw_only=True)
class FitAnalysis:
    """A curve fitted, or the ``reason`` why not.

    ``name``: of the fit.
    ``x``, ``y``, ``u_x``, ``u_y``: ``(rows,)``, SI, all rows, NaN where missing.
    ``keep``: ``(rows,)`` whether a row may count: not left out, and with a word that the fit runs over.
    ``rows``: indices of those fitted.
    ``reason``: why there is no curve; empty where there is one.
    ``parameters``: by the names that a definition gives them.
    ``covariance``: of those, in their order.
    ``diagnostics``: None without a curve.
    ``known``: the points' own uncertainties are known and weight them.
    ``counted``: they are those of counts that the curve itself predicts (Poisson's likelihood).
    ``weighted``: some rows of a mean count more than others.
    ``source``: whether the rows' own uncertainty was ``propagated``, taken from the ``scatter``, or from ``extreme lines``.
    ``shape``: the curve over x, None for a formula.
    ``theta``: ``(p,)`` all parameters as the curve takes them, about its origin.
    ``parts``: ``(K, p)`` their contributions.
    ``weights``: ``(n,)`` of the rows fitted.
    ``errors``: where both axes count (a straight line).
    ``scatter``: ``(n,)`` standard deviation of each ordinate by the residuals.
    ``parameter_sensitivity``: ``(p, n)`` response of ``theta`` to the residuals.
    ``unbounded``: parameters that the readings leave without an upper end.
    """

    name: str
    x: Array
    y: Array
    u_x: Array
    u_y: Array
    keep: NDArray[np.bool_]
    rows: NDArray[np.intp]
    parameters: Mapping[str, Parameter]
    covariance: Array
    theta: Array
    parts: Array
    weights: Array
    scatter: Array
    parameter_sensitivity: Array
    reason: str = ""
    diagnostics: Diagnostics | None = None
    known: bool = False
    counted: bool = False
    weighted: bool = False
    source: str = ""
    shape: Model | None = None
    errors: york.Errors | None = None
    unbounded: tuple[str, ...] = ()

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
