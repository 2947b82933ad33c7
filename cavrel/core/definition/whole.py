"""The experiment definition, ``cavrel-experiment/1``, whole.

Only what can be judged field by field is judged here; names, units and formulas are checked when it is compiled (`program`).
"""

import hashlib
import json
from typing import Annotated, Any, Literal

from pydantic import Field

from cavrel.core.definition.causes import Systematic
from cavrel.core.definition.evaluation import Fit, Picture, Prediction, Result
from cavrel.core.definition.parts import Formula, Identifier, Key, Line, Model
from cavrel.core.definition.readings import Instrument, Quantity, Series
from cavrel.core.definition.simulation import Simulate
from cavrel.core.definition.work import Check, Identity, Option, Question, Remark, SetUp, Step, Suggest, Verification

FORMAT = "cavrel-experiment/1"


class Definition(Model):
    """An experiment, whole. ``keywords``: other words that people look for it by. ``answers``: the results that answer its aim, the point of it
    first; pages, lists and the conclusion lead with them. The first result where nothing is said."""

    format: Literal["cavrel-experiment/1"]
    id: Identifier
    title: Annotated[str, Field(min_length=1, max_length=80)]
    field: Literal["mechanics", "matter", "waves", "electricity", "thermal", "modern"]
    aim: Line
    answers: Annotated[tuple[Key, ...], Field(max_length=6)] = ()
    law: Formula | None = None
    theory: Annotated[str, Field(max_length=2000)] = ""
    keywords: Annotated[tuple[Annotated[str, Field(min_length=1, max_length=40)], ...], Field(max_length=24)] = ()
    minutes: Annotated[int, Field(ge=1, le=600)] | None = None
    apparatus: Annotated[tuple[Line, ...], Field(max_length=24)] = ()
    instruments: Annotated[dict[Key, Instrument], Field(max_length=24)] = {}
    quantities: Annotated[dict[Key, Quantity], Field(max_length=40)] = {}
    series: Annotated[dict[Key, Series], Field(max_length=12)] = {}
    fits: Annotated[dict[Key, Fit], Field(max_length=12)] = {}
    results: Annotated[dict[Key, Result], Field(max_length=24)] = {}
    predict: Annotated[dict[Key, Prediction], Field(max_length=12)] = {}
    pictures: Annotated[dict[Key, Picture], Field(max_length=6)] = {}
    options: Annotated[dict[Key, Option], Field(max_length=8)] = {}
    identities: Annotated[tuple[Identity, ...], Field(max_length=12)] = ()
    verify: Annotated[tuple[Verification, ...], Field(max_length=6)] = ()
    checks: Annotated[tuple[Check, ...], Field(max_length=40)] = ()
    steps: Annotated[tuple[Step, ...], Field(max_length=40)] = ()
    suggest: Annotated[tuple[Suggest, ...], Field(max_length=12)] = ()
    cautions: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()
    precautions: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()
    error_sources: Annotated[tuple[Remark, ...], Field(max_length=24)] = ()
    systematic: Annotated[tuple[Systematic, ...], Field(max_length=12)] = ()
    set_up: Annotated[tuple[SetUp, ...], Field(max_length=24)] = ()
    questions: Annotated[tuple[Question, ...], Field(max_length=24)] = ()
    simulate: Simulate | None = None

    @property
    def led(self) -> tuple[str, ...]:
        """Names of its results, those that answer the aim first."""
        return (*self.answers, *(name for name in self.results if name not in self.answers))

    def content_hash(self) -> str:
        """SHA-256 of this definition as JSON, the order of its columns and results included; a run stays pinned to it."""
        return hashlib.sha256(json.dumps(self.document()).encode()).hexdigest()

    def document(self) -> dict[str, Any]:
        """As plain JSON, defaults left out; loads again to an equal definition."""
        return self.model_dump(mode="json", by_alias=True, exclude_defaults=True)
