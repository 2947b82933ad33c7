"""Curves that bend in their parameters, and how their starting values are found."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from cavrel.core.fit.models.base import Model, offered, stack
from cavrel.core.quantity.dimension import PLAIN, Dimension

Array = NDArray[np.float64]


class Curved(Model):
    """Starting values by variable projection (Golub and Pereyra 1973): a grid over the parameters that enter in a curved way,
    the others solved for at each grid point; the grid scales with the data, so no guess is asked for."""


def project(basis: Array, y: Array, w: Array) -> tuple[Array, Array]:
    """For each grid point's ``basis`` ``(g, n, q)`` the best linear parameters ``(g, q)`` and the weighted square sum ``(g,)``."""
    weighted = basis * np.sqrt(w)[None, :, None]
    target = y * np.sqrt(w)
    normal = np.einsum("gnq,gnr->gqr", weighted, weighted)
    scale = np.sqrt(np.maximum(np.einsum("gqq->gq", normal), 1e-300))
    normal = normal / scale[:, :, None] / scale[:, None, :] + 1e-10 * np.eye(basis.shape[2])
    right = np.einsum("gnq,n->gq", weighted, target) / scale
    best = np.linalg.solve(normal, right[:, :, None])[:, :, 0] / scale
    left = ((target[None, :] - np.einsum("gnq,gq->gn", weighted, best)) ** 2).sum(axis=1)
    return best, np.where(np.isfinite(left), left, np.inf)


def best_of(squares: Array, many: int) -> NDArray[np.intp]:
    return np.argsort(squares, kind="stable")[:many]


@offered
class Power(Curved):
    """y = A·x^p for x > 0. ``A`` is the value at x = 1 SI unit and has the unit of y. About an origin o: y = A'·(x/o)^p."""

    key, title = "power", "power law"
    recipe = ("p[0] * (x / o) ** p[1]", "[p[0] * o ** -p[1], p[1]]")
    positive = True
    names = ("A", "p")
    origin = 1.0

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "p": PLAIN}

    def origin_for(self, x: Array) -> float:
        return float(np.exp(np.log(x).mean())) if (x > 0).all() else 1.0

    def local(self, x: Array) -> Array:
        return x / self.origin

    def named(self, theta: Array) -> Array:
        return stack(theta[:, 0] * self.origin ** -theta[:, 1], theta[:, 1])

    def naming(self, theta: Array) -> Array:
        share = self.origin ** -theta[1]
        return np.array([[share, -theta[0] * share * np.log(self.origin)], [0.0, 1.0]])

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] * self.local(x) ** theta[:, 1:2])

    def jacobian(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
        power = x ** theta[:, 1:2]
        return stack(power, theta[:, :1] * power * np.log(x))

    def near(self, x: Array, y: Array, w: Array) -> Array | None:
        if not (x > 0).all() or not (y > 0).all():
            return None
        logs, heights = np.log(self.local(x)), np.log(y)
        share = w * y * y  # what a logarithm is known to
        share = share / share.sum()
        along, up = logs - share @ logs, heights - share @ heights
        slope = (share * along) @ up / ((share * along) @ along)
        return np.array([np.exp(share @ heights - slope * (share @ logs)), slope])

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        if not (x > 0).all():
            return np.zeros((0, 2))
        logs = np.log(self.local(x))
        # An exponent that changes y by much over a narrow band of x is large: the grid reaches as far as the band is narrow.
        reach = max(8.0, 8.0 / max(float(np.ptp(logs)), 1e-12))
        grid = np.linspace(-reach, reach, 641) if reach > 8 else np.linspace(-8, 8, 321)
        best, squares = project(np.exp(grid[:, None] * logs[None, :])[:, :, None], y, w)
        chosen = best_of(squares, 3)
        return stack(best[chosen, 0], grid[chosen])


def nearest_zero(x: Array) -> float:
    """The abscissa nearest to zero, which is zero itself for most tables."""
    return float(x[np.argmin(np.abs(x))])


@offered
class Exponential(Curved):
    """y = A·exp(k·x)."""

    key, title = "exponential", "exponential"
    recipe = ("p[0] * np.exp(p[1] * (x - o))", "[p[0] * um.exp(-p[1] * o), p[1]]")
    names = ("A", "k")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "k": PLAIN / x}

    def origin_for(self, x: Array) -> float:
        return nearest_zero(x)

    def named(self, theta: Array) -> Array:
        return stack(theta[:, 0] * np.exp(-theta[:, 1] * self.origin), theta[:, 1])

    def naming(self, theta: Array) -> Array:
        share = np.exp(-theta[1] * self.origin)
        return np.array([[share, -theta[0] * share * self.origin], [0.0, 1.0]])

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] * np.exp(theta[:, 1:2] * self.local(x)))

    def jacobian(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
        grown = np.exp(theta[:, 1:2] * x)
        return stack(grown, theta[:, :1] * x * grown)

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        x = self.local(x)
        span = np.ptp(x) or 1.0
        rates = np.geomspace(0.005, 60, 160) / span
        grid = np.concatenate([-rates, rates])
        middle = x.mean()
        best, squares = project(np.exp(grid[:, None] * (x - middle)[None, :])[:, :, None], y, w)
        chosen = best_of(squares, 3)
        return stack(best[chosen, 0] * np.exp(-grid[chosen] * middle), grid[chosen])


@offered
class Rise(Curved):
    """y = A·(1 - exp(-x/tau)) + c, or without c. About an origin o, with c: y = v - B·exp(-(x - o)/tau)."""

    key, title = "rise", "rise"
    heights = ("c",)

    def __init__(self, offset: bool) -> None:
        self.offset = offset
        self.names = ("A", "tau", "c") if offset else ("A", "tau")
        self.recipe = (
            (
                "p[2] - p[0] * np.exp(-(x - o) / p[1])",
                "[p[0] * um.exp(o / p[1]), p[1], p[2] - p[0] * um.exp(o / p[1])]",
            )
            if offset
            else ("-p[0] * np.expm1(-x / p[1])", "list(p)")
        )

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "tau": x, **({"c": y} if self.offset else {})}

    def origin_for(self, x: Array) -> float:
        return float(x.min()) if self.offset else 0.0

    def named(self, theta: Array) -> Array:
        if not self.offset:
            return theta
        size = theta[:, 0] * np.exp(self.origin / theta[:, 1])
        return stack(size, theta[:, 1], theta[:, 2] - size)

    def naming(self, theta: Array) -> Array:
        if not self.offset:
            return np.eye(2)
        grown = np.exp(self.origin / theta[1])
        by_tau = -theta[0] * grown * self.origin / theta[1] ** 2
        return np.array([[grown, by_tau, 0.0], [0.0, 1.0, 0.0], [-grown, -by_tau, 1.0]])

    def predict(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
        if self.offset:
            return np.asarray(theta[:, 2:3] - theta[:, :1] * np.exp(-x / theta[:, 1:2]))
        return np.asarray(-theta[:, :1] * np.expm1(-x / theta[:, 1:2]))

    def jacobian(self, theta: Array, x: Array) -> Array:
        tau, x = theta[:, 1:2], self.local(x)
        left = np.exp(-x / tau)
        by_tau = -theta[:, :1] * left * x / tau**2
        if self.offset:
            return stack(-left, by_tau, 1.0)
        return stack(1 - left, by_tau)

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        x = self.local(x)
        grid = np.geomspace(0.01, 30, 240) * (np.ptp(x) or 1.0)
        left = np.exp(-x[None, :] / grid[:, None])
        basis = stack(-left, 1.0) if self.offset else (1 - left)[:, :, None]
        best, squares = project(basis, y, w)
        chosen = best_of(squares, 3)
        return stack(best[chosen, 0], grid[chosen], *([best[chosen, 1]] if self.offset else []))
