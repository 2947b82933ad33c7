"""One step of least squares by orthogonal factors: for one set of points, and for a whole batch of them at once."""

import math

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

_DEPENDENT = 1e-13
"""What is left of a derivative of unit length, once the others' share is subtracted, where it tells nothing of its own."""


class NoFit(Exception):
    """No curve can be drawn; the message says why."""


def least(design: Array, target: Array) -> Array:
    """Least squares by QR on columns scaled to unit length. Raises NoFit where the columns do not tell parameters apart."""
    size = np.linalg.norm(design, axis=0)
    if not (size > 0).all():
        raise NoFit("the points do not depend on every parameter")
    scaled = design / size
    if design.shape[1] == 1:
        return np.asarray(scaled.T @ target / size)
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
    size = np.sqrt(np.einsum("np,np->p", design, design))
    if not 0 < size.min() <= size.max() < np.inf:
        raise NoFit("the points do not depend on every parameter")
    factored = _factored(design / size)
    if factored is None:
        raise NoFit("the points do not tell the parameters apart; spread the settings more")
    q, r = factored
    return _back(r, q.T) / size[:, None] * root, q


def one_step(design: Array, left: Array) -> tuple[list[float], list[float]] | None:
    """The Gauss-Newton step ``(p,)`` in units of each derivative's length ``(p,)``, for ``design`` ``(n, p)`` and residuals ``(n,)``, both
    weighted; None where the points do not tell the parameters apart.

    Two parameters, the usual case, are taken as `_factored` takes them, in plain numbers: for few points most of the work is calling NumPy.
    """
    if design.shape[1] != 2:
        size = np.sqrt(np.einsum("np,np->p", design, design))
        if not 0 < size.min() <= size.max() < np.inf:
            return None
        factored = _factored(design / size)
        if factored is None:
            return None
        return _back(factored[1], factored[0].T @ left).tolist(), size.tolist()
    first, second = design[:, 0], design[:, 1]
    size = [math.sqrt(float(first @ first)), math.sqrt(float(second @ second))]
    if not 0 < min(size) <= max(size) < math.inf:
        return None
    first, second = first / size[0], second / size[1]
    along = float(first @ second)
    rest = second - along * first
    again = float(first @ rest)
    rest -= again * first
    length = math.sqrt(float(rest @ rest))
    if not length > _DEPENDENT:
        return None
    by_second = float(rest @ left) / length / length
    return [float(first @ left) - (along + again) * by_second, by_second], size


def _factored(design: Array) -> tuple[Array, Array] | None:
    """Orthonormal ``q`` ``(n, p)`` and upper triangular ``r`` ``(p, p)`` of ``design`` ``(n, p)``, whose columns have unit length; None where
    one of them is made up of the others.

    One or two columns are taken by Gram-Schmidt, twice, which is as good as Householder's factors (Giraud, Langou, Rozloznik 2005) and for few
    points a tenth of the work.
    """
    many = design.shape[1]
    if many > 2:
        q, r = np.linalg.qr(design)
        diagonal = np.abs(np.diag(r))
        return (np.asarray(q), np.asarray(r)) if diagonal.min() > _DEPENDENT * diagonal.max() else None
    if many == 1:
        return design, np.ones((1, 1))
    first, second = design[:, 0], design[:, 1]
    along = float(first @ second)
    rest = second - along * first
    again = float(first @ rest)
    rest = rest - again * first
    length = float(rest @ rest) ** 0.5
    if not length > _DEPENDENT:
        return None
    return np.stack([first, rest / length], axis=1), np.array([[1.0, along + again], [0.0, length]])


def _back(r: Array, target: Array) -> Array:
    """The solution of ``r x = target``, ``r`` ``(p, p)`` upper triangular, ``target`` ``(p,)`` or ``(p, k)``."""
    solution = np.empty_like(target)
    for i in reversed(range(len(r))):
        solution[i] = (target[i] - r[i, i + 1 :] @ solution[i + 1 :]) / r[i, i]
    return solution


def step_of(design: Array, left: Array, w: Array) -> Array:
    """The same from derivatives ``(batch, n, p)`` and residuals ``(batch, n)``."""
    root = np.sqrt(w)
    return steps_and_lengths(design * root[None, :, None], left * root)[0]


def steps_and_lengths(design: Array, left: Array) -> tuple[Array, Array]:
    """Gauss-Newton steps ``(batch, p)`` for weighted derivatives ``(batch, n, p)``, or ``(1, n, p)`` where they are alike for all, and residuals
    ``(batch, n)``; and each derivative's length ``(batch, p)``.

    Modified Gram-Schmidt with the residuals as one more column, which is as stable as Householder's factors (Björck 1996, Numerical
    Methods for Least Squares Problems, 2.4.4) and runs over the batch. Normal equations would square the condition: with x a million times
    its own spread they lose every figure.
    """
    many = design.shape[2]
    if len(design) != len(left):  # a curve linear in its parameters over exact abscissae has one design for all entries
        design = np.broadcast_to(design, (max(len(design), len(left)), *design.shape[1:]))
    size = np.sqrt(np.einsum("bnp,bnp->bp", design, design))
    usable = np.isfinite(size) & (size > 0)
    scale = np.where(usable, size, 1.0)
    columns = [np.where(usable[:, j, None], design[:, :, j] / scale[:, j, None], 0.0) for j in range(many)]
    rest = np.where(np.isfinite(left), left, 0.0)
    factors = np.zeros((len(design), many, many))
    along = np.zeros((len(design), many))
    for j, column in enumerate(columns):
        length = np.sqrt(np.einsum("bn,bn->b", column, column))
        own = np.where(length > _DEPENDENT, length, np.inf)  # a derivative that others make up already takes no step
        direction = column / own[:, None]
        factors[:, j, j] = own
        along[:, j] = np.einsum("bn,bn->b", direction, rest)
        rest = rest - along[:, j, None] * direction
        for k in range(j + 1, many):
            factors[:, j, k] = np.einsum("bn,bn->b", direction, columns[k])
            columns[k] = columns[k] - factors[:, j, k, None] * direction
    steps = np.zeros_like(along)
    for j in reversed(range(many)):
        known = np.einsum("bk,bk->b", factors[:, j, j + 1 :], steps[:, j + 1 :])
        steps[:, j] = (along[:, j] - known) / factors[:, j, j]
    return np.where(usable.all(axis=1)[:, None], steps / scale, 0.0), size
