"""The curves that can be fitted. A new one is a class in this package, marked ``offered``, that owns its name, parameters and domain."""

from cavrel.core.fit.models.base import MODELS, Linear, Model, Straight, offered
from cavrel.core.fit.models.curved import Exponential, Power, Rise
from cavrel.core.fit.models.damped import Damped
from cavrel.core.fit.models.drifting import Drifting
from cavrel.core.fit.models.linear import Line, Mean, Parabola, Proportional, Tangent


def built_in(name: str, offset: bool = True) -> Model:
    """The model of this name, other than ``formula`` and ``tangent``; ``offset`` is for ``rise``."""
    model = MODELS[name]
    return model(offset) if model is Rise else model()


__all__ = [
    "MODELS",
    "Damped",
    "Drifting",
    "Exponential",
    "Line",
    "Linear",
    "Mean",
    "Model",
    "Parabola",
    "Power",
    "Proportional",
    "Rise",
    "Straight",
    "Tangent",
    "built_in",
    "offered",
]
