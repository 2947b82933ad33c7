"""What is made of the readings: fits, results, predictions and pictures."""

from typing import Annotated, Literal

from pydantic import AfterValidator, Field, WithJsonSchema, model_validator

from cavrel.core.definition.parts import Amount, Formula, Key, Model, UnitText
from cavrel.core.fit.models import MODELS

OF_FORMULAS = ("tangent", "formula")
"""Models that are made of a definition's own formulas."""


def _known_model(name: str) -> str:
    if name not in MODELS and name not in OF_FORMULAS:
        raise ValueError(f"is no model; it is one of {', '.join(sorted([*MODELS, *OF_FORMULAS]))}")
    return name


ModelName = Annotated[
    str, AfterValidator(_known_model), WithJsonSchema({"enum": sorted([*MODELS, *OF_FORMULAS]), "type": "string"})
]

Shape = Literal["no relation", "proportional", "linear", "inverse", "square", "square root"]
"""What a bench may predict of a graph before it measures."""


class Fit(Model):
    """A curve through the rows of a series. ``x`` and ``y`` are formulas of its columns.

    ``origin``: theory sends the line through the origin. ``offset``: a ``rise`` has its constant ``c``. ``formula`` and ``free``: any curve,
    a formula of columns, quantities and the free parameters, which have starting values. ``at`` and ``points``: where a ``tangent``
    touches, and over how many rows. ``sketch``: drawn for its shape only, so that how well it fits is not
    remarked on. ``expect``: the shape of y against x, for a bench that predicts it. ``marked``: it runs over the rows of these words of the
    series' ``outcome`` alone, all rows where nothing is said.
    """

    label: Annotated[str, Field(max_length=80)] = ""
    series: Key
    x: Formula | None = None
    y: Formula
    x_label: Annotated[str, Field(max_length=80)] = ""
    y_label: Annotated[str, Field(max_length=80)] = ""
    model: ModelName
    origin: bool = False
    offset: bool = True
    formula: Formula | None = None
    free: Annotated[dict[Key, Amount], Field(max_length=10)] = {}
    at: Formula | None = None
    points: Annotated[int, Field(ge=3, le=2000)] | None = None
    sketch: bool = False
    expect: Shape | None = None
    marked: Annotated[tuple[Annotated[str, Field(min_length=1, max_length=40)], ...], Field(max_length=12)] = ()

    @model_validator(mode="after")
    def _what_its_model_needs(self) -> "Fit":
        if self.x is None and (self.model not in MODELS or MODELS[self.model].needs_x):
            raise ValueError("every fit but a mean has an x")
        if (self.model == "formula") != (self.formula is not None) or (self.model == "formula") != bool(self.free):
            raise ValueError("a fit of model 'formula', and no other, has a formula and free parameters")
        if (self.model == "tangent") != (self.at is not None):
            raise ValueError("a tangent, and no other fit, says at which x it touches")
        return self


class Result(Model):
    """A quantity derived from fits, quantities and columns, or ``combine``, the weighted mean of other results.

    ``below`` and ``above``: what it means to lie below or above the accepted value ("It floats"), said with its probability.
    ``difference``: of two readings of a scale, so that °C is K. ``range``: within which it is plausible at all.
    """

    label: Annotated[str, Field(min_length=1, max_length=80)]
    formula: Formula | None = None
    combine: Annotated[tuple[Key, ...], Field(max_length=12)] = ()
    unit: UnitText | None = None
    difference: bool = False
    range: Formula | None = None
    accepted: Formula | None = None
    below: Annotated[str, Field(max_length=80)] = ""
    above: Annotated[str, Field(max_length=80)] = ""
    method: Annotated[str, Field(max_length=80)] = ""

    @model_validator(mode="after")
    def _one_way(self) -> "Result":
        if (self.formula is None) == (not self.combine) or len(self.combine) == 1:
            raise ValueError("a result has a formula, or combines at least two others")
        if (self.below or self.above) and self.accepted is None:
            raise ValueError("'below' and 'above' speak of an accepted value, which is missing")
        return self


class Prediction(Model):
    """A value read from a fit at an x that was not measured."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    fit: Key
    at: Formula
    unit: UnitText | None = None


class Force(Model):
    """A force on a rule: ``at`` its mark, ``force`` its size downwards."""

    label: Annotated[str, Field(min_length=1, max_length=40)]
    at: Formula
    force: Formula


class Picture(Model):
    """A rule on its pivot with an arrow for each force, to scale; of the single readings, or of the last full row of ``series``."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    series: Key | None = None
    pivot: Formula
    forces: Annotated[tuple[Force, ...], Field(min_length=1, max_length=8)]
