"""Which axes make readings straight: two columns under every pair of simple axes, each tried by one straight line, all at once.

A pair is judged in the units of the readings' own uncertainties, carried to its axes, so that all pairs are held to one measure.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[np.float64]

CURVED = 0.05
"""A line whose missing square is this improbable, or more so, is called curved."""
SCATTERED = 0.01
FEWEST = 4
POWERS = (2.0, 1.0, 0.5, -0.5, -1.0, -2.0)
LOG = 0.0
"""Stands for the logarithm among powers, as the limit that it is (Box and Cox 1964)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Pair:
    """One pair of axes, tried.

    ``x_power``, ``y_power``: of the columns; 0 for the logarithm.
    ``x``, ``y``: ``(n,)`` on these axes; logarithms are of numbers in the columns' own units.
    ``slope``, ``intercept``: of the line, on these axes.
    ``squares``: residuals in the readings' own uncertainties, squared and summed: chi-squared where they are known.
    ``dof``: points less two.
    ``curved_p``: chance of a square term as large, by the larger of the known and the seen scatter; None with too few points.
    ``bends``: its sign on these axes.
    ``chi2_p``: chance of as large a chi-squared, None where no uncertainty is known.
    """

    x_power: float
    y_power: float
    x: Array
    y: Array
    slope: float
    intercept: float
    squares: float
    dof: int
    curved_p: float | None
    bends: int
    chi2_p: float | None

    @property
    def straight(self) -> bool:
        """Whether nothing speaks against a straight line."""
        return (
            self.curved_p is not None and self.curved_p >= CURVED and (self.chi2_p is None or self.chi2_p >= SCATTERED)
        )

    @property
    def turns(self) -> int:
        """How far the axes are from the columns as read; of axes that are straight alike the plainer ones come first."""
        return sum(2 if power == LOG else power != 1.0 for power in (self.x_power, self.y_power))

    @property
    def words(self) -> str:
        """The test in words."""
        if self.curved_p is None:
            return "too few points to tell"
        if self.curved_p < CURVED:
            return f"bends {'up' if self.bends > 0 else 'down'}, p\u00a0{_p(self.curved_p)}"
        if self.chi2_p is None:
            return "straight, as far as these points tell"
        if self.chi2_p < SCATTERED:
            return f"no bend, but scattered beyond its errors, p\u00a0{_p(self.chi2_p)}"
        return "straight within errors"


def _p(p: float) -> str:
    return "<\u00a00.001" if p < 0.001 else f"=\u00a0{p:.1g}"


def pairs() -> list[tuple[float, float]]:
    """Powers of (x, y) worth trying: one axis changed, both turned over, or logarithms of one or both."""
    found = [(power, 1.0) for power in POWERS]
    found += [(1.0, power) for power in POWERS if power != 1.0]
    return [*found, (-1.0, -1.0), (LOG, 1.0), (1.0, LOG), (LOG, LOG)]


def tried(
    x: Array, y: Array, u_x: Array, u_y: Array, wanted: Sequence[tuple[float, float]] | None = None
) -> list[Pair]:
    """Every pair of ``wanted`` that the readings allow, straightest first.

    ``x``, ``y``, ``u_x``, ``u_y``: ``(n,)`` of the rows that count, in the columns' own units; where no u is known all y are taken to scatter
    alike. Roots, reciprocals and logarithms need values above zero (a reciprocal, other than zero); pairs that have none are left out.
    """
    if len(x) < 3:
        return []
    known = bool((u_x > 0).any() or (u_y > 0).any())
    own_y = u_y if (u_y > 0).all() else np.where(u_y > 0, u_y, 0.0)
    if not known:
        own_y = np.full_like(y, max(float(np.ptp(y)), 1e-300))
    named, along, up, d_along, d_up = [], [], [], [], []
    for x_power, y_power in wanted if wanted is not None else pairs():
        with np.errstate(all="ignore"):
            first, second = _on_axis(x, x_power), _on_axis(y, y_power)
        if first is None or second is None or not all(np.isfinite(v).all() for v in (*first, *second)):
            continue
        named.append((x_power, y_power))
        along.append(first[0])
        up.append(second[0])
        with np.errstate(all="ignore"):
            d_along.append(np.abs(first[1]) * u_x)
            d_up.append(np.abs(second[1]) * own_y)
    if not named:
        return []
    with np.errstate(all="ignore"):
        found = _lines(named, np.stack(along), np.stack(up), np.stack(d_along), np.stack(d_up), known)
    return sorted(found, key=lambda pair: (not pair.straight, pair.turns if pair.straight else 0, pair.squares))


def _on_axis(values: Array, power: float) -> tuple[Array, Array] | None:
    """Values on an axis and their derivative; None where the axis has none for some of them."""
    if power == 1.0:
        return values, np.ones_like(values)
    if power == LOG:
        return (np.log(values), 1 / values) if (values > 0).all() else None
    if power in (0.5, -0.5) and not (values > 0).all():
        return None
    if power < 0 and not (values != 0).all():
        return None
    return values**power, power * values ** (power - 1)


def _lines(named: list[tuple[float, float]], x: Array, y: Array, u_x: Array, u_y: Array, known: bool) -> list[Pair]:
    """Weighted straight lines and their missing squares, ``(P, n)`` each."""
    count = x.shape[1]
    # Squares and fourth powers of the largest must stay numbers.
    wide, tall = (np.maximum(np.abs(v).max(axis=1), 1e-300) for v in (x, y))
    on_x, on_y = x, y
    x, u_x = x / wide[:, None], u_x / wide[:, None]
    y, u_y = y / tall[:, None], u_y / tall[:, None]
    # Error bars along x reach y through the slope, which a line with y's alone tells well enough.
    weights = np.where(u_y > 0, 1 / u_y**2, np.nan)
    weights = np.where(np.isfinite(weights).all(axis=1, keepdims=True), weights, 1.0)
    slope = _line(x, y, weights)[0]
    variance = u_y**2 + (slope[:, None] * u_x) ** 2
    usable: NDArray[np.bool_] = np.asarray((variance > 0).all(axis=1, keepdims=True))
    weights = np.where(usable, 1 / np.where(usable, variance, 1.0), 1 / np.ptp(y, axis=1, keepdims=True) ** 2)
    slope, intercept, middle = _line(x, y, weights)
    left = y - intercept[:, None] - slope[:, None] * x
    squares = (weights * left**2).sum(axis=1)
    square = (x - middle[:, None]) ** 2
    s2, i2, _ = _line(x, square, weights)
    rest = square - i2[:, None] - s2[:, None] * x
    length = (weights * rest**2).sum(axis=1)
    term = (weights * rest * left).sum(axis=1) / length
    after = (weights * (left - term[:, None] * rest) ** 2).sum(axis=1)
    found = []
    for i, (x_power, y_power) in enumerate(named):
        spread = float(np.ptp(x[i]))
        if not (math.isfinite(squares[i]) and spread > 1e-12 * float(np.abs(x[i]).max())):
            continue
        curved, bends = None, 0
        if count >= FEWEST and length[i] > 0 and float(length[i]) > 1e-18 * float((weights[i] * square[i] ** 2).sum()):
            scatter = float(after[i]) / (count - 3)
            size = max(scatter, 1.0) if known and usable[i, 0] else scatter
            t = (
                float(term[i]) * math.sqrt(float(length[i]) / size)
                if size > 0
                else math.copysign(math.inf, float(term[i]))
            )
            curved, bends = float(2 * special.stdtr(count - 3, -abs(t))), int(np.sign(term[i]))
        chi2_p = float(special.chdtrc(count - 2, squares[i])) if known and usable[i, 0] and count > 2 else None
        found.append(
            Pair(
                x_power=x_power,
                y_power=y_power,
                x=on_x[i],
                y=on_y[i],
                slope=float(slope[i] * (tall[i] / wide[i])),
                intercept=float(intercept[i] * tall[i]),
                squares=float(squares[i]),
                dof=count - 2,
                curved_p=curved,
                bends=bends,
                chi2_p=chi2_p,
            )
        )
    return found


def _line(x: Array, y: Array, w: Array) -> tuple[Array, Array, Array]:
    """Slopes, intercepts and weighted means of x, ``(P,)``."""
    total = w.sum(axis=1)
    x_mean, y_mean = (w * x).sum(axis=1) / total, (w * y).sum(axis=1) / total
    away = x - x_mean[:, None]
    slope = (w * away * (y - y_mean[:, None])).sum(axis=1) / (w * away**2).sum(axis=1)
    return slope, y_mean - slope * x_mean, x_mean


def bend_of(x: Array, y: Array) -> float:
    """By how much a curve ``(n,)`` departs from the straight line nearest to it, as a share of its height."""
    slope, intercept, _ = (float(v[0]) for v in _line(x[None, :], y[None, :], np.ones((1, len(x)))))
    height = float(np.ptp(y))
    return float(np.abs(y - intercept - slope * x).max()) / height if height > 0 else math.nan


def on_axes(x: Array, y: Array, pair: tuple[float, float]) -> tuple[Array, Array] | None:
    """A curve on a pair of axes; None where they have no value for some of it."""
    first, second = _on_axis(x, pair[0]), _on_axis(y, pair[1])
    return (first[0], second[0]) if first is not None and second is not None else None


def axis_formula(name: str, unit: str, power: float) -> str:
    """A column under a power as a formula of a definition: ``T^2``, ``1/sqrt(L)``, ``ln(L/1[cm])``."""
    if power == LOG:
        return f"ln({name}/1[{unit}])" if unit else f"ln({name})"
    return {
        1.0: name,
        2.0: f"{name}^2",
        0.5: f"sqrt({name})",
        -0.5: f"1/sqrt({name})",
        -1.0: f"1/{name}",
        -2.0: f"1/{name}^2",
    }[power]


def power_of(formula: str, name: str) -> float | None:
    """The power under which a formula holds one column alone; None for any other formula."""
    plain = formula.replace(" ", "")
    known = {axis_formula(name, "", power): power for power in (*POWERS, LOG)}
    known |= {f"{name}^0.5": 0.5, f"{name}^-1": -1.0, f"{name}^(-1)": -1.0}
    if plain.startswith(f"ln({name}/1["):
        return LOG
    return known.get(plain)
