"""Fitting any curve: the nominal solution, the linear response of its parameters, and whole batches by Gauss-Newton steps."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import optimize

Array = NDArray[np.float64]

_ROUNDS = 60
_SETTLED = 1e-10

Predict = Callable[[Array], Array]
"""Parameters ``(batch, p)`` -> values ``(batch, n)`` at the points it is bound to."""
Jacobian = Callable[[Array], Array]
"""Parameters ``(batch, p)`` -> derivatives ``(batch, n, p)``."""


@dataclass(frozen=True, slots=True)
class Curve:
    """A model bound to its points (one set, or one for each batch entry)."""

    predict: Predict
    jacobian: Jacobian
    linear: bool


class NoFit(Exception):
    """No curve can be drawn; the message says why."""


def nominal(curve: Curve, y: Array, w: Array, starts: Array) -> Array:
    """The weighted least-squares parameters ``(p,)`` for points ``y`` ``(n,)`` with weights ``w`` ``(n,)``.

    A curved model is solved by Levenberg-Marquardt (SciPy, MINPACK) from each of ``starts`` ``(k, p)``, the best kept, and
    polished by Gauss-Newton steps. Raises NoFit.
    """
    root = np.sqrt(w)
    if curve.linear:
        design = curve.jacobian(starts[:1])[0] * root[:, None]
        return _least(design, y * root)
    if len(starts) > 1:
        # Good starts settle together in a few steps; only when the best of them does not is each sent the long way.
        ends, settled = batch(curve, np.repeat(y[None, :], len(starts), axis=0), w, starts, rounds=25)
        with np.errstate(all="ignore"):
            squares = (w * (y - curve.predict(ends)) ** 2).sum(axis=1)
        chosen = int(np.argmin(np.where(np.isfinite(squares), squares, np.inf)))
        if settled[chosen]:
            return np.asarray(ends[chosen])
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


def _stationary(curve: Curve, theta: Array, y: Array, w: Array) -> bool:
    """Whether the residuals are, to rounding, at right angles to every derivative."""
    root = np.sqrt(w)
    design = curve.jacobian(theta)[0] * root[:, None]
    left = (y - curve.predict(theta)[0]) * root
    size = np.linalg.norm(design, axis=0) * max(float(np.linalg.norm(left)), 1e-300)
    return bool((np.abs(design.T @ left) <= 1e-5 * size + 1e-300).all())


def _least(design: Array, target: Array) -> Array:
    """Least squares by QR on columns scaled to unit length. Raises NoFit where the columns do not tell parameters apart."""
    size = np.linalg.norm(design, axis=0)
    if not (size > 0).all():
        raise NoFit("the points do not depend on every parameter")
    scaled = design / size
    best, _, rank, singular = np.linalg.lstsq(scaled, target, rcond=1e-13)
    if rank < design.shape[1]:
        raise NoFit("the points do not tell the parameters apart; spread the settings more")
    if singular[-1] < 1e-3 * singular[0]:
        # One step of refinement wins back the digits that an ill-conditioned design costs.
        best = best + np.linalg.lstsq(scaled, target - scaled @ best, rcond=1e-13)[0]
    return np.asarray(best / size)


def response(jacobian: Array, w: Array) -> tuple[Array, Array]:
    """How the parameters follow the residuals to first order: ``(p, n)``, (J'WJ)^-1 J'W, from ``jacobian`` ``(n, p)``; and an orthonormal
    basis ``(n, p)`` of what the curve can take up of weighted residuals.

    Its square, weighted by the points' variances, is the usual covariance (JCGM 100:2008, 5.1; Seber and Wild, Nonlinear
    Regression, 2.1). Raises NoFit where the points do not tell the parameters apart.
    """
    root = np.sqrt(w)
    design = jacobian * root[:, None]
    size = np.linalg.norm(design, axis=0)
    if not (size > 0).all() or not np.isfinite(size).all():
        raise NoFit("the points do not depend on every parameter")
    q, r = np.linalg.qr(design / size)
    diagonal = np.abs(np.diag(r))
    if diagonal.min() <= 1e-13 * diagonal.max():
        raise NoFit("the points do not tell the parameters apart; spread the settings more")
    return np.linalg.solve(r, q.T) / size[:, None] * root[None, :], np.asarray(q)


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
        settled = np.zeros(len(theta), bool)
        for _ in range(rounds):
            step = _steps(curve.jacobian(theta) * root[None, :, None], left)
            share = np.ones(len(theta))
            for _ in range(8):
                new = theta + share[:, None] * step
                new_left = (y - curve.predict(new)) * root
                new_squares = (new_left**2).sum(axis=1)
                worse = ~(new_squares <= squares * (1 + 1e-9) + 1e-300)
                if not worse.any():
                    break
                share = np.where(worse, share / 2, share)
            theta = np.where(worse[:, None], theta, new)
            left, squares = np.where(worse[:, None], left, new_left), np.where(worse, squares, new_squares)
            size = np.abs(step) <= settled_at * (np.abs(theta) + 1e-300)
            gain = (step * step).sum(axis=1) == 0
            settled |= size.all(axis=1) | gain
            if curve.linear or settled.all():
                break
    finite = np.isfinite(theta).all(axis=1)
    return theta, np.asarray(finite if curve.linear else finite & settled)


def step(curve: Curve, y: Array, w: Array, theta: Array) -> Array:
    """One Gauss-Newton step ``(batch, p)`` for every entry of ``y`` ``(batch, n)`` from the common ``theta`` ``(p,)``: to first order, where
    the parameters go when the points move; exactly so for a curve linear in them."""
    root = np.sqrt(w)
    start = np.repeat(theta[None, :], len(y), axis=0)
    return _steps(curve.jacobian(start) * root[None, :, None], (y - curve.predict(start)) * root)


def _steps(design: Array, left: Array) -> Array:
    """Gauss-Newton steps ``(batch, p)`` for weighted derivatives ``(batch, n, p)`` and residuals ``(batch, n)``."""
    size = np.sqrt(np.maximum(np.einsum("bnp,bnp->bp", design, design), 1e-300))
    scaled = design / size[:, None, :]
    normal = np.matmul(scaled.transpose(0, 2, 1), scaled)
    right = np.matmul(scaled.transpose(0, 2, 1), left[:, :, None])
    good = np.isfinite(normal).all(axis=(1, 2)) & np.isfinite(right).all(axis=(1, 2))
    normal = np.where(good[:, None, None], normal, np.eye(normal.shape[1]))
    right = np.where(good[:, None, None], right, 0.0)
    normal = normal + 1e-14 * np.eye(normal.shape[1])
    return np.asarray(np.linalg.solve(normal, right)[:, :, 0] / size)
