"""The result document as a model, so that its JSON Schema is generated and what Cavrel prints is held against it."""

from functools import cache
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict

from cavrel.core.definition import Definition
from cavrel.core.definition.rules import HouseRules
from cavrel.core.laboratory import Laboratory
from cavrel.core.lesson import Lesson
from cavrel.core.logbook.run import RunDocument


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid")


class SingleValue(_Model):
    """A quantity: value and standard uncertainty in ``unit``, null where nothing is known."""

    unit: str
    value: float | None
    u: float | None


class ColumnValues(_Model):
    """A column: one value and standard uncertainty for each row."""

    unit: str
    values: list[float | None]
    u: list[float | None]


class ParameterValue(_Model):
    value: float | None
    u: float | None
    unit: str


class LawMeaning(_Model):
    """What slope and intercept stand for by the law, and its constants in terms of them, as formulas."""

    slope: str
    intercept: str
    constants: dict[str, str]


class FitDocument(_Model):
    """A fit. ``rows`` count from 1; ``covariance`` of the parameters in their order, SI; ``uncertainty`` says who spoke for the rows."""

    model: str
    reason: str | None
    rows: list[int]
    parameters: dict[str, ParameterValue]
    covariance: list[list[float | None]]
    uncertainty: Literal["propagated", "scatter", "extreme lines"] | None
    weights: Literal["counts", "known", "equal"] | None
    unbounded: list[str]
    law: LawMeaning | None
    chi2: float | None = None
    dof: int | None = None
    p: float | None = None
    r2: float | None = None
    s: float | None = None
    residuals: list[float | None] | None = None
    standardised: list[float | None] | None = None
    leverage: list[float | None] | None = None
    curvature_p: float | None = None
    runs_p: float | None = None


class AcceptedDocument(_Model):
    value: float | None
    u: float | None
    label: str
    source: str


class VerdictDocument(_Model):
    kind: Literal["agrees", "wide", "doubtful", "disagrees", "side", "none"]
    text: str
    probability: float | None


class BudgetLine(_Model):
    """One source: its contribution to u in the result's unit, its share of u², and u if it were halved."""

    source: str
    contribution: float | None
    share: float | None
    u_if_halved: float | None


class MonteCarloDocument(_Model):
    draws: int
    mean: float | None
    u: float | None
    low95: float | None
    high95: float | None
    tolerance: float | None
    stable: bool
    agrees: bool
    lost: int


class ResultValue(_Model):
    value: float | None
    u: float | None
    unit: str
    dof: float | None
    k95: float | None
    U95: float | None
    text: str
    reason: str | None
    accepted: AcceptedDocument | None
    percent_error: float | None
    percent_difference: float | None
    linear: bool
    interval95: list[float | None]
    plausible: bool | None
    combined: dict[str, float | None] | None
    z: float | None
    verdict: VerdictDocument
    budget: list[BudgetLine]
    budget_by: dict[Literal["instrument", "quantity"], list[BudgetLine]]
    birge: float | None
    monte_carlo: MonteCarloDocument | None


class PredictionDocument(_Model):
    """A value read from a fit at ``x`` (SI), with the 95 % interval of one more reading; ``outside`` the measured range or not."""

    value: float | None
    u: float | None
    low95: float | None
    high95: float | None
    unit: str
    x: float | None
    outside: bool
    reason: str | None


class CorrelationDocument(_Model):
    results: list[str]
    matrix: list[list[float | None]]


class FlagDocument(_Model):
    code: str
    level: Literal["note", "caution", "danger"]
    at: str
    title: str
    say: str


class CauseDocument(_Model):
    """A cause of a possible mistake. ``share``: of the place."""

    say: str
    share: float


class ChangeDocument(_Model):
    """A result that would change."""

    result: str
    before: str
    after: str


class SlipDocument(_Model):
    """A place where something may be wrong. ``score``: logarithm of how much likelier the readings are with its likeliest cause; ``probability``:
    that something is wrong there; ``causes``: with their shares of it; ``changes``: every result that would change."""

    say: str
    family: str
    at: str
    fix: str
    before: str
    after: str
    score: float | None
    probability: float
    causes: list[CauseDocument]
    changes: list[ChangeDocument]


class AxesDocument(_Model):
    """A pair of axes tried for the columns behind a fit, straightest first; ``law``: the law is straight there."""

    fit: str
    x: str
    y: str
    straight: bool
    words: str
    law: bool
    chi2: float | None
    dof: int
    p: float | None
    curvature_p: float | None


class ResultDocument(_Model):
    """``cavrel-result/1``. ``simulated``: the readings are those of simulated apparatus."""

    format: Literal["cavrel-result/1"]
    experiment: str
    simulated: bool = False
    rules: HouseRules
    quantities: dict[str, SingleValue]
    series: dict[str, dict[str, ColumnValues]]
    fits: dict[str, FitDocument]
    axes: list[AxesDocument]
    results: dict[str, ResultValue]
    predictions: dict[str, PredictionDocument]
    correlation: CorrelationDocument
    flags: list[FlagDocument]
    slips: list[SlipDocument]


class Share(_Model):
    """A source of uncertainty and its share of u²."""

    source: str
    share: float | None


class ImprovementDocument(_Model):
    """A change a bench can make: ``change`` holds the keys of a run document that make it, ``minutes`` what it takes more."""

    say: str
    change: dict[str, Any]
    u: float | None
    percent: float | None
    minutes: float | None


class NeededDocument(_Model):
    """What ``percent`` would take; ``change`` null where the plan gives it already, or nothing does."""

    percent: float
    say: str
    change: dict[str, Any] | None


class ExpectedDocument(_Model):
    """What a plan promises of one result, in its unit; ``idle``: what would be of no use."""

    unit: str
    value: float | None
    u: float | None
    percent: float | None
    k95: float | None
    reason: str | None
    dominated_by: list[Share]
    improvements: list[ImprovementDocument]
    idle: str | None
    needed: NeededDocument | None


class ForecastDocument(_Model):
    """What a plan promises before the first reading. ``drawn``: runs drawn where the readings to expect do not tell."""

    format: Literal["cavrel-forecast/1"]
    experiment: str
    minutes: float | None
    drawn: int
    results: dict[str, ExpectedDocument]


DOCUMENTS: dict[str, type[BaseModel]] = {
    "cavrel-experiment-1": Definition,
    "cavrel-run-1": RunDocument,
    "cavrel-result-1": ResultDocument,
    "cavrel-forecast-1": ForecastDocument,
    "cavrel-laboratory-1": Laboratory,
    "cavrel-lesson-1": Lesson,
}


@cache
def schemas() -> dict[str, dict[str, Any]]:
    """The JSON Schema of each document, by file name."""
    return {name: model.model_json_schema(by_alias=True) for name, model in DOCUMENTS.items()}
