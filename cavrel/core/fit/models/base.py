"""The curves that can be fitted: value, derivatives, and starting values found from the data alone.

All arrays have a leading batch axis: parameters ``(batch, p)``, abscissae ``(batch, n)``, values ``(batch, n)``, derivatives
``(batch, n, p)``. Units are SI numbers throughout; `units` says which.

A curve is fitted about an origin among its own abscissae, for x far from zero (a clock's seconds, a wavelength in a narrow band) would
make its parameters as defined all but indistinguishable. ``theta`` are the parameters about that origin; `named` gives those that a
definition speaks of.
"""

import copy
from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import ClassVar, Self, TypeVar

import numpy as np
from numpy.typing import NDArray

from cavrel.core.quantity.dimension import Dimension

Array = NDArray[np.float64]


def stack(first: Array, *more: Array | float) -> Array:
    """Columns of one shape, or numbers after the first, side by side: ``(batch, n, p)`` from ``(batch, n)``, ``(batch, p)`` from ``(batch,)``."""
    made = np.empty((*first.shape, 1 + len(more)))
    made[..., 0] = first
    for i, column in enumerate(more, 1):
        made[..., i] = column
    return made


class Model(ABC):
    """A curve.

    ``key``: what a definition calls it.
    ``title``: what a sentence calls it.
    ``names``: of its parameters as a definition speaks of them.
    ``heights``: those of them that are a place on the scale of y.
    ``needs_x``: it runs along an abscissa.
    ``positive``: it has no value at x = 0 or below.
    ``linear``: linear in its parameters.
    ``polynomial``: the highest power of x it can take up, for the curvature test.
    ``origin``: the abscissa that ``theta`` is about.
    ``recipe``: for notebooks, as Python: y over ``x`` from the parameters ``p`` about an origin ``o``, and the parameters as they are named;
        None where a notebook takes the parameters over as they were found.
    """

    key: ClassVar[str]
    title: ClassVar[str]
    names: tuple[str, ...]
    heights: ClassVar[tuple[str, ...]] = ()
    needs_x: ClassVar[bool] = True
    positive: ClassVar[bool] = False
    linear: bool = False
    polynomial: int = 1
    origin: float = 0.0
    recipe: tuple[str, str] | None = None

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


class Linear(Model):
    """A curve linear in its parameters needs no starting value."""

    linear = True


class Straight(Linear):
    """A straight line, free or through the origin: its best parameters have a closed form."""

    @abstractmethod
    def closed(self, x: Array, y: Array, w: Array) -> Array:
        """The weighted least-squares parameters ``(p,)`` of points ``(n,)``."""


MODELS: dict[str, type[Model]] = {}
"""The curves by what a definition calls them."""

Curve = TypeVar("Curve", bound=type[Model])


def offered(model: Curve) -> Curve:
    """Let definitions fit this curve: nothing else need know of it."""
    MODELS[model.key] = model
    return model
