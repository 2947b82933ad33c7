"""The curves that can be fitted: value, derivatives, and starting values found from the data alone.

All arrays have a leading batch axis: parameters ``(batch, p)``, abscissae ``(batch, n)``, values ``(batch, n)``, derivatives
``(batch, n, p)``. Units are SI numbers throughout; `units` says which.
"""

from abc import ABC, abstractmethod
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from cavrel.core.units import PLAIN, Dimension

Array = NDArray[np.float64]


class Model(ABC):
    """A curve. ``linear``: linear in its parameters. ``polynomial``: the highest power of x it can take up, for the curvature test."""

    names: tuple[str, ...]
    linear: bool = False
    polynomial: int = 1

    @abstractmethod
    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        """The dimension of each parameter."""

    @abstractmethod
    def predict(self, theta: Array, x: Array) -> Array:
        """The curve at ``x``."""

    @abstractmethod
    def jacobian(self, theta: Array, x: Array) -> Array:
        """Derivatives of the curve by each parameter."""

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        """Starting values ``(k, p)``, the most promising first, from points ``(n,)`` with weights ``w``; none where the data allow none."""
        return np.zeros((0, len(self.names)))

    def tidy(self, theta: Array) -> Array:
        """The same curve with its parameters in their usual ranges, ``(p,)``."""
        return theta


class _Linear(Model):
    """A curve linear in its parameters needs no starting value."""

    linear = True


class Straight(_Linear):
    """A straight line, free or through the origin: its best parameters have a closed form."""

    @abstractmethod
    def closed(self, x: Array, y: Array, w: Array) -> Array:
        """The weighted least-squares parameters ``(p,)`` of points ``(n,)``."""


class Line(Straight):
    """y = slope·x + intercept."""

    def closed(self, x: Array, y: Array, w: Array) -> Array:
        total = w.sum()
        x_mean, y_mean = (w @ x) / total, (w @ y) / total
        dx = x - x_mean
        weighted = w * dx
        slope = (weighted @ (y - y_mean)) / (weighted @ dx)
        return np.array([slope, y_mean - slope * x_mean])

    names = ("slope", "intercept")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"slope": y / x, "intercept": y}

    def predict(self, theta: Array, x: Array) -> Array:
        return theta[:, :1] * x + theta[:, 1:2]

    def jacobian(self, theta: Array, x: Array) -> Array:
        return np.stack([x, np.ones_like(x)], axis=2)


class Proportional(Straight):
    """y = slope·x."""

    def closed(self, x: Array, y: Array, w: Array) -> Array:
        return np.array([(w * x) @ y / ((w * x) @ x)])

    names = ("slope",)

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"slope": y / x}

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] * x)

    def jacobian(self, theta: Array, x: Array) -> Array:
        return x[:, :, None]


class Mean(_Linear):
    """y = mean, whatever x is."""

    names = ("mean",)
    polynomial = 0

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"mean": y}

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] + np.zeros_like(x))

    def jacobian(self, theta: Array, x: Array) -> Array:
        return np.ones((*x.shape, 1))


class Parabola(_Linear):
    """y = a·x² + b·x + c."""

    names = ("a", "b", "c")
    polynomial = 2

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"a": y / (x * x), "b": y / x, "c": y}

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray((theta[:, :1] * x + theta[:, 1:2]) * x + theta[:, 2:3])

    def jacobian(self, theta: Array, x: Array) -> Array:
        return np.stack([x * x, x, np.ones_like(x)], axis=2)


class Tangent(_Linear):
    """The tangent at ``x0`` of a parabola through the points near it: slope and value there, and how it bends."""

    names = ("slope", "value", "bend")
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
        return np.stack([u, np.ones_like(u), u * u], axis=2)


class _Curved(Model):
    """Starting values by variable projection (Golub and Pereyra 1973): a grid over the parameters that enter in a curved way,
    the others solved for at each grid point; the grid scales with the data, so no guess is asked for."""


def _project(basis: Array, y: Array, w: Array) -> tuple[Array, Array]:
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


def _best(squares: Array, many: int) -> NDArray[np.intp]:
    return np.argsort(squares, kind="stable")[:many]


class Power(_Curved):
    """y = A·x^p for x > 0. ``A`` is the value at x = 1 SI unit and has the unit of y."""

    names = ("A", "p")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "p": PLAIN}

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] * x ** theta[:, 1:2])

    def jacobian(self, theta: Array, x: Array) -> Array:
        power = x ** theta[:, 1:2]
        return np.stack([power, theta[:, :1] * power * np.log(x)], axis=2)

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        if not (x > 0).all():
            return np.zeros((0, 2))
        middle = np.exp(np.log(x).mean())
        grid = np.linspace(-8, 8, 321)
        best, squares = _project(((x / middle)[None, :] ** grid[:, None])[:, :, None], y, w)
        chosen = _best(squares, 3)
        return np.stack([best[chosen, 0] * middle ** -grid[chosen], grid[chosen]], axis=1)


class Exponential(_Curved):
    """y = A·exp(k·x)."""

    names = ("A", "k")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "k": PLAIN / x}

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] * np.exp(theta[:, 1:2] * x))

    def jacobian(self, theta: Array, x: Array) -> Array:
        grown = np.exp(theta[:, 1:2] * x)
        return np.stack([grown, theta[:, :1] * x * grown], axis=2)

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        span = np.ptp(x) or 1.0
        rates = np.geomspace(0.005, 60, 160) / span
        grid = np.concatenate([-rates, rates])
        middle = x.mean()
        best, squares = _project(np.exp(grid[:, None] * (x - middle)[None, :])[:, :, None], y, w)
        chosen = _best(squares, 3)
        return np.stack([best[chosen, 0] * np.exp(-grid[chosen] * middle), grid[chosen]], axis=1)


class Rise(_Curved):
    """y = A·(1 - exp(-x/tau)) + c, or without c."""

    def __init__(self, offset: bool) -> None:
        self.offset = offset
        self.names = ("A", "tau", "c") if offset else ("A", "tau")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "tau": x, **({"c": y} if self.offset else {})}

    def predict(self, theta: Array, x: Array) -> Array:
        risen = -np.expm1(-x / theta[:, 1:2])
        return np.asarray(theta[:, :1] * risen + (theta[:, 2:3] if self.offset else 0.0))

    def jacobian(self, theta: Array, x: Array) -> Array:
        tau = theta[:, 1:2]
        left = np.exp(-x / tau)
        columns = [1 - left, -theta[:, :1] * left * x / tau**2]
        if self.offset:
            columns.append(np.ones_like(left))
        return np.stack(columns, axis=2)

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        grid = np.geomspace(0.01, 30, 240) * (np.ptp(x) or 1.0)
        risen = -np.expm1(-x[None, :] / grid[:, None])
        basis = np.stack([risen, np.ones_like(risen)], axis=2) if self.offset else risen[:, :, None]
        best, squares = _project(basis, y, w)
        chosen = _best(squares, 3)
        columns = [best[chosen, 0], grid[chosen]] + ([best[chosen, 1]] if self.offset else [])
        return np.stack(columns, axis=1)


class Damped(_Curved):
    """y = A·exp(-x/tau)·cos(2π·x/T + phi) + c."""

    names = ("A", "tau", "T", "phi", "c")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "tau": x, "T": x, "phi": PLAIN, "c": y}

    def predict(self, theta: Array, x: Array) -> Array:
        amplitude, tau, period, phase, level = (theta[:, i : i + 1] for i in range(5))
        return np.asarray(amplitude * np.exp(-x / tau) * np.cos(2 * np.pi * x / period + phase) + level)

    def jacobian(self, theta: Array, x: Array) -> Array:
        amplitude, tau, period, phase, _ = (theta[:, i : i + 1] for i in range(5))
        fading = np.exp(-x / tau)
        angle = 2 * np.pi * x / period + phase
        swing, turn = fading * np.cos(angle), fading * np.sin(angle)
        return np.stack(
            [
                swing,
                amplitude * swing * x / tau**2,
                amplitude * turn * 2 * np.pi * x / period**2,
                -amplitude * turn,
                np.ones_like(swing),
            ],
            axis=2,
        )

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        span = np.ptp(x) or 1.0
        begin = x.min()
        if len(x) > MOST_FOR_GRID:  # a long trace is thinned for the search; the fit itself takes every point
            kept = np.linspace(0, len(x) - 1, MOST_FOR_GRID).astype(int)
            return self._search(x[kept], y[kept], w[kept], span, begin)
        return self._search(x, y, w, span, begin)

    def _search(self, x: Array, y: Array, w: Array, span: float, begin: float) -> Array:
        gaps = np.diff(np.unique(x))
        shortest = 2.2 * float(np.median(gaps)) if len(gaps) else span / 4
        most = min(3.0 * span / shortest, 6 * len(x))
        # Equal steps in frequency, a quarter of what the span can tell apart, from a third of a swing up.
        frequencies = np.arange(0.3, max(most / 3.0, 0.6), 0.1) / span
        fadings = np.array([0.15, 0.35, 0.8, 2.0, 8.0, 100.0]) * span
        u = x - begin
        found: list[tuple[Array, Array, Array, Array]] = []
        for tau in fadings:
            fading = np.exp(-u / tau)
            for block in np.array_split(frequencies, max(1, len(frequencies) * len(x) // 200_000)):
                angle = 2 * np.pi * block[:, None] * u[None, :]
                basis = np.stack([fading * np.cos(angle), fading * np.sin(angle), np.ones_like(angle)], axis=2)
                best, squares = _project(basis, y, w)
                found.append((best, squares, block, np.full(len(block), tau)))
        best, squares, frequency, tau = (np.concatenate([f[i] for f in found]) for i in range(4))
        # Very slow swings can mimic any smooth curve with huge amplitudes; among equals the smaller amplitude is meant.
        size = np.hypot(best[:, 0], best[:, 1])
        squares = squares * (1 + 1e-3 * size / (np.ptp(y) or 1.0))
        chosen = _best(squares, 5)
        cosine, sine = best[chosen, 0], best[chosen, 1]
        phase = np.arctan2(-sine, cosine) - 2 * np.pi * frequency[chosen] * begin
        amplitude = np.hypot(cosine, sine) * np.exp(begin / tau[chosen])
        return np.stack([amplitude, tau[chosen], 1 / frequency[chosen], phase, best[chosen, 2]], axis=1)

    def tidy(self, theta: Array) -> Array:
        amplitude, tau, period, phase, level = theta
        if period < 0:
            period, phase = -period, -phase
        if amplitude < 0:
            amplitude, phase = -amplitude, phase + np.pi
        return np.array([amplitude, tau, period, (phase + np.pi) % (2 * np.pi) - np.pi, level])


MOST_FOR_GRID = 400
"""Points that the search for a damped oscillation's start looks at."""


def built_in(name: str, offset: bool = True) -> Model:
    """The model of this name, other than ``formula`` and ``tangent``; ``offset`` is for ``rise``."""
    models: dict[str, Model] = {
        "line": Line(),
        "proportional": Proportional(),
        "mean": Mean(),
        "parabola": Parabola(),
        "power": Power(),
        "exponential": Exponential(),
        "rise": Rise(offset),
        "damped": Damped(),
    }
    return models[name]
