"""Physical causes that a law leaves out, and what readings would be without each of them."""

from typing import Annotated

from pydantic import Field, model_validator

from cavrel.core.definition.parts import Amount, Formula, Line, Model


class Systematic(Model):
    """A physical cause of wrong results.

    ``label``: what happened, a clause such as "the bearing rubs".
    ``look``: how a person finds out, an imperative.
    ``without``: by column or quantity, the reading as it would be without this cause: a formula of readings, in which ``size`` is how large the
    cause is and ``row`` counts rows from 1.
    ``low``, ``high``: sizes that occur, positive amounts; small ones are likelier (log-uniform).
    ``either``: it may act in both directions, so that ``size`` may be negative.
    """

    label: Annotated[str, Field(min_length=1, max_length=120)]
    look: Line
    without: Annotated[dict[Annotated[str, Field(max_length=60)], Formula], Field(min_length=1, max_length=12)]
    low: Amount
    high: Amount
    either: bool = False

    @model_validator(mode="after")
    def _uses_its_size(self) -> "Systematic":
        if not any("size" in text for text in self.without.values()):
            raise ValueError("a cause has a size: use 'size' in 'without'")
        return self
