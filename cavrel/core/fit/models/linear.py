"""Curves linear in their parameters."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from cavrel.core.fit.models.base import Linear, Straight, offered, stack
from cavrel.core.quantity.dimension import Dimension

Array = NDArray[np.float64]


@offered
class Line(Straight):
    """y = slope·x + intercept."""

    key, title = "line", "line"
    recipe = ("p[0] * (x - o) + p[1]", "[p[0], p[1] - p[0] * o]")
    heights = ("intercept",)

    def origin_for(self, x: Array) -> float:
        return float(x.mean())

    def named(self, theta: Array) -> Array:
        return stack(theta[:, 0], theta[:, 1] - theta[:, 0] * self.origin)

    def naming(self, theta: Array) -> Array:
        return np.array([[1.0, 0.0], [-self.origin, 1.0]])

    def closed(self, x: Array, y: Array, w: Array) -> Array:
        total, x = w.sum(), self.local(x)
        x_mean, y_mean = (w @ x) / total, (w @ y) / total
        dx = x - x_mean
        weighted = w * dx
        slope = (weighted @ (y - y_mean)) / (weighted @ dx)
        return np.array([slope, y_mean - slope * x_mean])

    names = ("slope", "intercept")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"slope": y / x, "intercept": y}

    def predict(self, theta: Array, x: Array) -> Array:
        return theta[:, :1] * self.local(x) + theta[:, 1:2]

    def jacobian(self, theta: Array, x: Array) -> Array:
        return stack(self.local(x), 1.0)


@offered
class Proportional(Straight):
    """y = slope·x."""

    key, title = "proportional", "line"
    recipe = ("p[0] * x", "[p[0], 0 * p[0]]")

    def closed(self, x: Array, y: Array, w: Array) -> Array:
        return np.array([(w * x) @ y / ((w * x) @ x)])

    names = ("slope",)

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"slope": y / x}

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] * x)

    def jacobian(self, theta: Array, x: Array) -> Array:
        return x[:, :, None]


@offered
class Mean(Linear):
    """y = mean, whatever x is."""

    key, title = "mean", "mean"
    recipe = ("p[0] + 0 * x", "[p[0]]")
    heights = ("mean",)
    needs_x = False
    names = ("mean",)
    polynomial = 0

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"mean": y}

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] + np.zeros_like(x))

    def jacobian(self, theta: Array, x: Array) -> Array:
        return np.ones((*x.shape, 1))


@offered
class Parabola(Linear):
    """y = a·x² + b·x + c."""

    key, title = "parabola", "parabola"
    recipe = ("(p[0] * (x - o) + p[1]) * (x - o) + p[2]", "[p[0], p[1] - 2 * p[0] * o, p[2] - p[1] * o + p[0] * o * o]")
    heights = ("c",)
    names = ("a", "b", "c")
    polynomial = 2

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"a": y / (x * x), "b": y / x, "c": y}

    def origin_for(self, x: Array) -> float:
        return float(x.mean())

    def named(self, theta: Array) -> Array:
        a, b, c, o = theta[:, 0], theta[:, 1], theta[:, 2], self.origin
        return stack(a, b - 2 * a * o, c - b * o + a * o * o)

    def naming(self, theta: Array) -> Array:
        o = self.origin
        return np.array([[1.0, 0.0, 0.0], [-2 * o, 1.0, 0.0], [o * o, -o, 1.0]])

    def predict(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
        return np.asarray((theta[:, :1] * x + theta[:, 1:2]) * x + theta[:, 2:3])

    def jacobian(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
        return stack(x * x, x, 1.0)


class Tangent(Linear):
    """The tangent at ``x0`` of a parabola through the points near it: slope and value there, and how it bends."""

    key, title = "tangent", "tangent"
    recipe = ("(p[2] * (x - o) + p[0]) * (x - o) + p[1]", "list(p)")
    names = ("slope", "value", "bend")
    heights = ("value",)
    polynomial = 2

    def __init__(self, x0: float) -> None:
        self.x0 = x0

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"slope": y / x, "value": y, "bend": y / (x * x)}

    def predict(self, theta: Array, x: Array) -> Array:
        u = x - self.x0
        return np.asarray((theta[:, 2:3] * u + theta[:, :1]) * u + theta[:, 1:2])

    def jacobian(self, theta: Array, x: Array) -> Array:
        u = x - self.x0
        return stack(u, 1.0, u * u)
