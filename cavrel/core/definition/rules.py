"""House rules: where schools differ, with a default and a reason for each (the reasons are shown to the user)."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from cavrel.core.definition.reference import normal_gravity


class Site(BaseModel):
    """A place on Earth: latitude in degrees, height in metres above the ellipsoid (near enough: above the sea)."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    latitude: Annotated[float, Field(ge=-90, le=90)] = 45.0
    height: Annotated[float, Field(ge=-500, le=9000)] = 0.0


class HouseRules(BaseModel):
    """The rules of one course; a run document may override any of them."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    repeats: Literal["sem", "sd", "half_range"] = Field(
        "sem", description="The uncertainty of the mean of k trials is √k times smaller than that of one trial."
    )
    pool: Literal["auto", "always", "never"] = Field(
        "auto",
        description="The scatter of three to five trials is poorly known; rows with similar scatter are pooled.",
    )
    student: bool = Field(True, description="A few trials need a wider interval than many for the same confidence.")
    resolution: Literal["half_rectangular", "full_rectangular", "half_standard"] = Field(
        "half_rectangular", description="A rounded reading lies anywhere within half a step of the value recorded."
    )
    stated: Literal["standard", "limit"] = Field("standard", description="A typed ± is a standard uncertainty.")
    weights: Literal["known", "equal"] = Field(
        "known", description="A point with half the uncertainty counts four times as much."
    )
    fit_uncertainty: Literal["larger", "propagated", "scatter", "extreme_lines"] = Field(
        "larger", description="If the points scatter more than their error bars allow, the scatter is used."
    )
    abscissae: Literal["auto", "york", "ignore"] = Field(
        "auto", description="Error bars along x count when they matter."
    )
    origin: Literal["free", "forced"] = Field(
        "free", description="Fit the intercept and test it: it may reveal something forgotten."
    )
    percent_error: Literal["unsigned", "signed"] = Field("unsigned", description="Size of the error, without a sign.")
    combine: Literal["weighted", "plain"] = Field(
        "weighted", description="Of two values of one quantity the more precise counts more."
    )
    difference: Literal["mean", "second"] = Field(
        "mean", description="Two measured values are both uncertain; neither is the reference."
    )
    acceptable: Annotated[float, Field(gt=0, le=100)] = Field(
        10.0, description="Percent error that a first course usually accepts; it does not decide agreement."
    )
    rounding: Literal["one_or_two", "one", "two", "pdg"] = Field(
        "one_or_two", description="One significant figure of uncertainty, two if it starts with 1."
    )
    decimal: Literal["point", "comma"] = Field(
        "point", description="The mark of most scientific writing in English; either mark is understood when typed."
    )
    g: Site | Annotated[float, Field(gt=9, lt=10.5)] = Field(
        Site(), description="Free-fall acceleration from latitude and height, or a number in m/s²."
    )

    def gravity(self) -> float:
        """g in m/s² by these rules."""
        return self.g if isinstance(self.g, float) else normal_gravity(self.g.latitude, self.g.height)


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """A house rule in words.

    ``title``: what it is about.
    ``subject``: under which the laboratory lists it.
    ``choices``: value -> words; empty where it is a number or a place.
    ``example``: what of the worked example it is shown on, in words; empty where it is shown on none.
    ``shows``: the result of the worked example that it moves.
    """

    title: str
    subject: str
    choices: Mapping[Any, str] = field(default_factory=dict)
    example: str = ""
    shows: str = ""

    @property
    def free(self) -> bool:
        """It has a value, not one of a few choices."""
        return not self.choices

    def choice(self, value: Any) -> str:
        """A value of it in words."""
        if isinstance(value, Mapping):
            return f"latitude {value.get('latitude', 45):g}°, height {value.get('height', 0):g} m"
        return self.choices.get(value, f"{value:g}" if isinstance(value, float | int) else str(value))


RULES: Mapping[str, Rule] = {
    "repeats": Rule(
        subject="Repeated readings",
        title="Uncertainty of repeated readings",
        choices={
            "sem": "the standard error of their mean",
            "sd": "their standard deviation",
            "half_range": "half their range",
        },
        example="Ten swings timed five times: 14.82, 14.91, 14.78, 14.95, 14.84 s. One period:",
        shows="T",
    ),
    "pool": Rule(
        subject="Repeated readings",
        title="Rows with similar scatter",
        choices={"auto": "pooled if a test allows it", "always": "always pooled", "never": "each row its own"},
        example="A ball dropped three times from each of three heights. Its time from the first:",
        shows="first",
    ),
    "student": Rule(
        subject="Repeated readings",
        title="95 % intervals from few trials",
        choices={True: "Student's factor", False: "the factor of many trials, 1.96"},
        example="The same five timings. One period, with 95 %:",
        shows="T",
    ),
    "resolution": Rule(
        subject="A single reading",
        title="Uncertainty of one reading of a scale",
        choices={
            "half_rectangular": "anywhere within half a step, so a step / √12",
            "full_rectangular": "anywhere within a whole step, so a step / √3",
            "half_standard": "half a step",
        },
        example="A width read once, 6.3 cm, on a rule with millimetres:",
        shows="width",
    ),
    "stated": Rule(
        subject="A single reading",
        title="A typed ±",
        choices={"standard": "is a standard uncertainty", "limit": "is a limit, so it is divided by √3"},
        example="“50.00 ± 0.25 g”, as the maker of a mass prints it:",
        shows="mass",
    ),
    "weights": Rule(
        subject="Graphs and lines",
        title="Points of a graph",
        choices={"known": "count by how well they are known", "equal": "all count alike"},
        example="A spring under five loads, the third known four times worse than the others. Its slope:",
        shows="s",
    ),
    "fit_uncertainty": Rule(
        subject="Graphs and lines",
        title="± of a slope",
        choices={
            "larger": "from error bars or from the scatter, whichever is larger",
            "propagated": "from the error bars",
            "scatter": "from the scatter about the line",
            "extreme_lines": "from the steepest and the shallowest line",
        },
        example="The same five loads. Slope:",
        shows="s",
    ),
    "abscissae": Rule(
        subject="Graphs and lines",
        title="Error bars along x",
        choices={"auto": "count when they matter", "york": "always count", "ignore": "are left out"},
        example="The same five loads, each force known to 0.1 N. Slope:",
        shows="s",
    ),
    "origin": Rule(
        subject="Graphs and lines",
        title="A line that should pass through the origin",
        choices={"free": "has its intercept fitted and judged", "forced": "is forced through it"},
        example="The same five loads; no load should mean no stretch. Slope:",
        shows="s",
    ),
    "percent_error": Rule(
        subject="Comparison",
        title="Percent error",
        choices={"unsigned": "without a sign", "signed": "with its sign"},
        example="g = 9.62 m/s² from a pendulum:",
    ),
    "combine": Rule(
        subject="Comparison",
        title="Two values of one thing",
        choices={"weighted": "are averaged by how well they are known", "plain": "are averaged alike"},
        example="47.2 ± 0.3 Ω by the bridge, 48.6 ± 0.9 Ω by the meter. Both together:",
        shows="R",
    ),
    "difference": Rule(
        subject="Comparison",
        title="Percent difference of two measured values",
        choices={"mean": "is taken of their mean", "second": "is taken of the better method's"},
        example="The same two resistances differ by:",
    ),
    "acceptable": Rule(
        subject="Comparison", title="Percent error that passes as acceptable", example="g = 9.62 m/s² from a pendulum:"
    ),
    "g": Rule(
        subject="Comparison",
        title="g that results are compared with",
        example="g = 9.62 m/s² from a pendulum, compared with",
    ),
    "rounding": Rule(
        subject="Numbers",
        title="Figures of an uncertainty",
        choices={
            "one_or_two": "one, and two where the first is a 1",
            "one": "one",
            "two": "two",
            "pdg": "by the rule of 354 and 949",
        },
        example="One period of the five timings, and the ball's time:",
        shows="T",
    ),
    "decimal": Rule(
        subject="Numbers",
        title="Decimal mark",
        choices={"point": "a point", "comma": "a comma"},
        example="One period of the five timings:",
        shows="T",
    ),
}
"""Every house rule in words; why its default is what it is stands in the model."""
