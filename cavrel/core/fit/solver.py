"""Fitting any curve: the nominal solution, and whole batches by Gauss-Newton steps."""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cavrel.core.fit.least_squares import NoFit, least, one_step, step_of, steps_and_lengths

Array = NDArray[np.float64]

_ROUNDS = 60
_SETTLED = 1e-10
_TOGETHER = 4
"""Rounds after which entries that have settled are left where they are."""
_UNFELT = 1e-12
"""A step that moves the curve by less than this share of the data is rounding, however small the parameter itself is."""

Predict = Callable[[Array], Array]
"""Parameters ``(batch, p)`` -> values ``(batch, n)`` at the points it is bound to."""
Jacobian = Callable[[Array], Array]
"""Parameters ``(batch, p)`` -> derivatives ``(batch, n, p)``."""


@dataclass(frozen=True, slots=True)
class Curve:
    """A model bound to its points (one set, or one for each batch entry). ``take``: the same bound to some entries' points alone, where it
    can be."""

    predict: Predict
    jacobian: Jacobian
    linear: bool
    take: Callable[[NDArray[np.intp]], "Curve"] | None = None


def nominal(curve: Curve, y: Array, w: Array, starts: Array, near: bool = False) -> Array:
    """The weighted least-squares parameters ``(p,)`` for points ``y`` ``(n,)`` with weights ``w`` ``(n,)``.

    A curved model is solved by Levenberg-Marquardt (SciPy, MINPACK) from each of ``starts`` ``(k, p)``, the best kept, and
    polished by Gauss-Newton steps. ``near``: the start is the solution for other weights, from where a few of those steps mostly do.
    Raises NoFit.
    """
    root = np.sqrt(w)
    if curve.linear:
        design = curve.jacobian(starts[:1])[0] * root[:, None]
        return least(design, y * root)
    if near:
        found = newton(curve, y, w, starts[0])
        if found is not None:
            return found
    if len(starts) > 1 or near:
        # Good starts settle together in a few steps; only when the best of them does not is each sent the long way.
        ends, settled = batch(curve, np.repeat(y[None, :], len(starts), axis=0), w, starts, rounds=25)
        with np.errstate(all="ignore"):
            squares = (w * (y - curve.predict(ends)) ** 2).sum(axis=1)
        chosen = int(np.argmin(np.where(np.isfinite(squares), squares, np.inf)))
        if settled[chosen]:
            return np.asarray(ends[chosen])
    from scipy import optimize  # a fifth of a second, which a start need not wait for

    best: tuple[float, Array] | None = None
    for start in starts:
        try:
            found = optimize.least_squares(
                lambda theta: (curve.predict(theta[None, :])[0] - y) * root,
                start,
                jac=lambda theta: curve.jacobian(theta[None, :])[0] * root[:, None],
                method="lm" if len(y) >= len(start) else "trf",
                x_scale="jac",
                ftol=1e-15,
                xtol=1e-15,
                gtol=1e-15,
                max_nfev=4000,
            )
        except (ValueError, np.linalg.LinAlgError):
            continue  # this start leads out of the model's domain; another may not
        if (
            np.isfinite(found.cost)
            and np.isfinite(found.x).all()
            and (best is None or found.cost < best[0] * (1 - 1e-9))
        ):
            best = (float(found.cost), np.asarray(found.x, float))
    if best is None:
        raise NoFit("no curve of this kind comes near the points")
    theta, settled = batch(curve, y[None, :], w, best[1][None, :])
    if not settled[0]:
        theta = best[1][None, :]
        if not _stationary(curve, theta, y, w):
            raise NoFit(
                "the search for the best curve does not settle; more points, or points over a wider range, may help"
            )
    return np.asarray(theta[0])


def newton(curve: Curve, y: Array, w: Array, start: Array, rounds: int = 12) -> Array | None:
    """Gauss-Newton steps from one good ``start`` ``(p,)``: the solution ``(p,)``, or None where they do not settle in a few, each better
    than the last."""
    root = np.sqrt(w)
    theta, target = start[None, :], y * root
    unfelt = _UNFELT * math.sqrt(float(target @ target))
    left = (y - curve.predict(theta)[0]) * root
    squares = float(left @ left)
    for _ in range(rounds):
        found = one_step(curve.jacobian(theta)[0] * root[:, None], left)
        if found is None:
            return None
        step, size = found
        moved = theta + np.array([by / long for by, long in zip(step, size, strict=True)])
        new = (y - curve.predict(moved)[0]) * root
        new_squares = float(new @ new)
        if not new_squares <= squares * (1 + 1e-9) + (1e-3 * unfelt) ** 2:
            return None
        far = zip(step, moved[0].tolist(), size, strict=True)
        settled = all(abs(by) <= max(_SETTLED * abs(at) * long, unfelt) for by, at, long in far)
        theta, left, squares = moved, new, new_squares
        if settled:
            return np.asarray(theta[0])
    return None


def _stationary(curve: Curve, theta: Array, y: Array, w: Array) -> bool:
    """Whether the residuals are, to rounding, at right angles to every derivative."""
    root = np.sqrt(w)
    design = curve.jacobian(theta)[0] * root[:, None]
    left = (y - curve.predict(theta)[0]) * root
    if np.linalg.norm(left) <= 1e-10 * np.linalg.norm(y * root):
        return True  # the curve goes through the points; which way they err is rounding
    size = np.linalg.norm(design, axis=0) * max(float(np.linalg.norm(left)), 1e-300)
    return bool((np.abs(design.T @ left) <= 1e-5 * size + 1e-300).all())


def batch(
    curve: Curve, y: Array, w: Array, start: Array, rounds: int = _ROUNDS, settled_at: float = _SETTLED
) -> tuple[Array, NDArray[np.bool_]]:
    """Parameters ``(batch, p)`` of every entry of ``y`` ``(batch, n)`` by Gauss-Newton steps from ``start`` ``(batch, p)``, all at
    once, and which entries settled ``(batch,)``. A step that makes an entry worse is halved."""
    theta = start.copy()
    root = np.sqrt(w)
    with np.errstate(all="ignore"):
        left = (y - curve.predict(theta)) * root
        squares = (left**2).sum(axis=1)
        whole = np.sqrt(((y * root) ** 2).sum(axis=1))
        unfelt = (1e-15 * whole) ** 2
        settled, stuck = np.zeros(len(theta), bool), np.zeros(len(theta), bool)
        for done in range(rounds):
            waiting = np.flatnonzero(~settled & ~stuck)
            if curve.take is not None and done >= _TOGETHER and len(waiting) < len(theta) / 2:
                # Most have arrived: the few that have far to go do not keep the others walking.
                ends = batch(curve.take(waiting), y[waiting], w, theta[waiting], rounds - done, settled_at)
                theta[waiting], settled[waiting] = ends
                break
            step, reach = steps_and_lengths(curve.jacobian(theta) * root[None, :, None], left)
            share = np.ones(len(theta))
            for _ in range(8):
                new = theta + share[:, None] * step
                new_left = (y - curve.predict(new)) * root
                new_squares = (new_left**2).sum(axis=1)
                worse = ~(new_squares <= squares * (1 + 1e-9) + unfelt)
                if not worse.any():
                    break
                share = np.where(worse, share / 2, share)
            theta = np.where(worse[:, None], theta, new)
            left, squares = np.where(worse[:, None], left, new_left), np.where(worse, squares, new_squares)
            small = (np.abs(step) <= settled_at * np.abs(theta)) | (np.abs(step) * reach <= _UNFELT * whole[:, None])
            settled |= small.all(axis=1)
            stuck |= worse  # no step of any length made it better, and none will: it stands where it stood
            if curve.linear or (settled | stuck).all():
                break
    finite = np.isfinite(theta).all(axis=1)
    return theta, np.asarray(finite if curve.linear else finite & settled)


def step(curve: Curve, y: Array, w: Array, theta: Array) -> Array:
    """One Gauss-Newton step ``(batch, p)`` for every entry of ``y`` ``(batch, n)`` from the common ``theta`` ``(p,)``: to first order, where
    the parameters go when the points move; exactly so for a curve linear in them."""
    start = np.repeat(theta[None, :], len(y), axis=0)
    return step_of(curve.jacobian(start), y - curve.predict(start), w)
