"""What all models of a definition share: the kinds of text in them, and that unknown keys are refused."""

from collections.abc import Container
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

FIELDS = ("mechanics", "matter", "waves", "electricity", "thermal", "modern")
LONGEST_KEY = 24
NAME = rf"^[A-Za-z][A-Za-z0-9_]{{0,{LONGEST_KEY - 1}}}$"
Identifier = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,39}$")]
Key = Annotated[str, Field(pattern=NAME)]
Line = Annotated[str, Field(min_length=1, max_length=400)]
Formula = Annotated[str, Field(min_length=1, max_length=400)]
UnitText = Annotated[str, Field(max_length=60)]
Amount = Annotated[str, Field(min_length=1, max_length=60)]


class Model(BaseModel):
    """A table of a definition."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


def ended(name: str, end: str, *taken: Container[str]) -> str:
    """``name`` with an ending, cut to the length of a key, and as nothing in ``taken`` is called yet."""
    while any(name[: LONGEST_KEY - len(end)] + end in names for names in taken):
        end += "x"
    return name[: LONGEST_KEY - len(end)] + end
