"""The curves that can be fitted: value, derivatives, and starting values found from the data alone.

All arrays have a leading batch axis: parameters ``(batch, p)``, abscissae ``(batch, n)``, values ``(batch, n)``, derivatives
``(batch, n, p)``. Units are SI numbers throughout; `units` says which.

A curve is fitted about an origin among its own abscissae, for x far from nought (a clock's seconds, a wavelength in a narrow band) would
make its parameters as defined all but indistinguishable. ``theta`` are the parameters about that origin; `named` gives those that a
definition speaks of.
"""

import copy
from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import Self

import numpy as np
from numpy.typing import NDArray

from cavrel.core.quantity.units import PLAIN, Dimension

Array = NDArray[np.float64]


class Model(ABC):
    """A curve.

    ``names``: of its parameters as a definition speaks of them.
    ``linear``: linear in its parameters.
    ``polynomial``: the highest power of x it can take up, for the curvature test.
    ``origin``: the abscissa that ``theta`` is about.
    """

    names: tuple[str, ...]
    linear: bool = False
    polynomial: int = 1
    origin: float = 0.0

    def about(self, x: Array) -> Self:
        """The same curve about an origin that suits the abscissae ``x`` ``(n,)``."""
        origin = self.origin_for(x) if len(x) else 0.0
        if not np.isfinite(origin) or origin == self.origin:
            return self
        moved = copy.copy(self)
        moved.origin = origin
        return moved

    def origin_for(self, x: Array) -> float:
        """Where the curve is best described for abscissae ``x`` ``(n,)``."""
        return 0.0

    def local(self, x: Array) -> Array:
        """Abscissae seen from the origin."""
        return x - self.origin if self.origin else x

    def named(self, theta: Array) -> Array:
        """The parameters as defined, ``(batch, p)``, from those about the origin."""
        return theta

    def naming(self, theta: Array) -> Array:
        """Derivatives ``(p, p)`` of the parameters as defined by those about the origin, at ``theta`` ``(p,)``."""
        return np.eye(len(theta))

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

    def near(self, x: Array, y: Array, w: Array) -> Array | None:
        """One start ``(p,)`` so good that a few steps from it mostly settle; None where the data, or the model, give none."""
        return None

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

    def origin_for(self, x: Array) -> float:
        return float(x.mean())

    def named(self, theta: Array) -> Array:
        return np.stack([theta[:, 0], theta[:, 1] - theta[:, 0] * self.origin], axis=1)

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
        return np.stack([self.local(x), np.ones_like(x)], axis=2)


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

    def origin_for(self, x: Array) -> float:
        return float(x.mean())

    def named(self, theta: Array) -> Array:
        a, b, c, o = theta[:, 0], theta[:, 1], theta[:, 2], self.origin
        return np.stack([a, b - 2 * a * o, c - b * o + a * o * o], axis=1)

    def naming(self, theta: Array) -> Array:
        o = self.origin
        return np.array([[1.0, 0.0, 0.0], [-2 * o, 1.0, 0.0], [o * o, -o, 1.0]])

    def predict(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
        return np.asarray((theta[:, :1] * x + theta[:, 1:2]) * x + theta[:, 2:3])

    def jacobian(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
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
    """y = A·x^p for x > 0. ``A`` is the value at x = 1 SI unit and has the unit of y. About an origin o: y = A'·(x/o)^p."""

    names = ("A", "p")
    origin = 1.0

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "p": PLAIN}

    def origin_for(self, x: Array) -> float:
        return float(np.exp(np.log(x).mean())) if (x > 0).all() else 1.0

    def local(self, x: Array) -> Array:
        return x / self.origin

    def named(self, theta: Array) -> Array:
        return np.stack([theta[:, 0] * self.origin ** -theta[:, 1], theta[:, 1]], axis=1)

    def naming(self, theta: Array) -> Array:
        share = self.origin ** -theta[1]
        return np.array([[share, -theta[0] * share * np.log(self.origin)], [0.0, 1.0]])

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] * self.local(x) ** theta[:, 1:2])

    def jacobian(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
        power = x ** theta[:, 1:2]
        return np.stack([power, theta[:, :1] * power * np.log(x)], axis=2)

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
        best, squares = _project(np.exp(grid[:, None] * logs[None, :])[:, :, None], y, w)
        chosen = _best(squares, 3)
        return np.stack([best[chosen, 0], grid[chosen]], axis=1)


def _nearest_zero(x: Array) -> float:
    """The abscissa nearest to nought, which is nought itself for most tables."""
    return float(x[np.argmin(np.abs(x))])


class Exponential(_Curved):
    """y = A·exp(k·x)."""

    names = ("A", "k")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "k": PLAIN / x}

    def origin_for(self, x: Array) -> float:
        return _nearest_zero(x)

    def named(self, theta: Array) -> Array:
        return np.stack([theta[:, 0] * np.exp(-theta[:, 1] * self.origin), theta[:, 1]], axis=1)

    def naming(self, theta: Array) -> Array:
        share = np.exp(-theta[1] * self.origin)
        return np.array([[share, -theta[0] * share * self.origin], [0.0, 1.0]])

    def predict(self, theta: Array, x: Array) -> Array:
        return np.asarray(theta[:, :1] * np.exp(theta[:, 1:2] * self.local(x)))

    def jacobian(self, theta: Array, x: Array) -> Array:
        x = self.local(x)
        grown = np.exp(theta[:, 1:2] * x)
        return np.stack([grown, theta[:, :1] * x * grown], axis=2)

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        x = self.local(x)
        span = np.ptp(x) or 1.0
        rates = np.geomspace(0.005, 60, 160) / span
        grid = np.concatenate([-rates, rates])
        middle = x.mean()
        best, squares = _project(np.exp(grid[:, None] * (x - middle)[None, :])[:, :, None], y, w)
        chosen = _best(squares, 3)
        return np.stack([best[chosen, 0] * np.exp(-grid[chosen] * middle), grid[chosen]], axis=1)


class Rise(_Curved):
    """y = A·(1 - exp(-x/tau)) + c, or without c. About an origin o, with c: y = v - B·exp(-(x - o)/tau)."""

    def __init__(self, offset: bool) -> None:
        self.offset = offset
        self.names = ("A", "tau", "c") if offset else ("A", "tau")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "tau": x, **({"c": y} if self.offset else {})}

    def origin_for(self, x: Array) -> float:
        return float(x.min()) if self.offset else 0.0

    def named(self, theta: Array) -> Array:
        if not self.offset:
            return theta
        size = theta[:, 0] * np.exp(self.origin / theta[:, 1])
        return np.stack([size, theta[:, 1], theta[:, 2] - size], axis=1)

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
            return np.stack([-left, by_tau, np.ones_like(left)], axis=2)
        return np.stack([1 - left, by_tau], axis=2)

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        x = self.local(x)
        grid = np.geomspace(0.01, 30, 240) * (np.ptp(x) or 1.0)
        left = np.exp(-x[None, :] / grid[:, None])
        basis = np.stack([-left, np.ones_like(left)], axis=2) if self.offset else (1 - left)[:, :, None]
        best, squares = _project(basis, y, w)
        chosen = _best(squares, 3)
        columns = [best[chosen, 0], grid[chosen]] + ([best[chosen, 1]] if self.offset else [])
        return np.stack(columns, axis=1)


class Damped(_Curved):
    """y = A·exp(-x/tau)·cos(2π·x/T + phi) + c.

    Sought with the rate of fading 1/tau in the place of tau, which is nought where nothing fades; tau is then infinite.
    """

    names = ("A", "tau", "T", "phi", "c")

    def units(self, x: Dimension, y: Dimension) -> Mapping[str, Dimension]:
        return {"A": y, "tau": x, "T": x, "phi": PLAIN, "c": y}

    def origin_for(self, x: Array) -> float:
        return float(x.min())

    def named(self, theta: Array) -> Array:
        amplitude, rate, period, phase, level = theta.T
        tau = np.where(rate > 0, 1 / np.where(rate > 0, rate, 1.0), np.inf)
        phase = phase - 2 * np.pi * self.origin / period
        return np.stack([amplitude * np.exp(rate * self.origin), tau, period, _turned(phase), level], axis=1)

    def naming(self, theta: Array) -> Array:
        amplitude, rate, period, _, _ = theta.tolist()
        grown, o = np.exp(rate * self.origin), self.origin
        made = np.eye(5)
        made[0, :2] = grown, amplitude * grown * o
        made[1, 1] = -1 / rate**2 if rate > 0 else np.nan
        made[3, 2] = 2 * np.pi * o / period**2
        return made

    def predict(self, theta: Array, x: Array) -> Array:
        amplitude, rate, period, phase, level = (theta[:, i : i + 1] for i in range(5))
        x = self.local(x)
        return np.asarray(amplitude * np.exp(-x * rate) * np.cos(2 * np.pi * x / period + phase) + level)

    def jacobian(self, theta: Array, x: Array) -> Array:
        amplitude, rate, period, phase, _ = (theta[:, i : i + 1] for i in range(5))
        x = self.local(x)
        fading = np.exp(-x * rate)
        angle = 2 * np.pi * x / period + phase
        swing, turn = fading * np.cos(angle), fading * np.sin(angle)
        return np.stack(
            [
                swing,
                -amplitude * swing * x,
                amplitude * turn * 2 * np.pi * x / period**2,
                -amplitude * turn,
                np.ones_like(swing),
            ],
            axis=2,
        )

    def starts(self, x: Array, y: Array, w: Array) -> Array:
        x = self.local(x)
        span, begin = np.ptp(x) or 1.0, x.min()
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
        fadings = np.array([0.15, 0.35, 0.8, 2.0, 8.0, np.inf]) * span
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
        return np.stack([amplitude, 1 / tau[chosen], 1 / frequency[chosen], phase, best[chosen, 2]], axis=1)

    def tidy(self, theta: Array) -> Array:
        amplitude, rate, period, phase, level = theta
        if period < 0:
            period, phase = -period, -phase
        if amplitude < 0:
            amplitude, phase = -amplitude, phase + np.pi
        return np.array([amplitude, rate, period, _turned(phase), level])


def _turned(phase: Array) -> Array:
    """A phase between -π and π."""
    return np.asarray((phase + np.pi) % (2 * np.pi) - np.pi)


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
