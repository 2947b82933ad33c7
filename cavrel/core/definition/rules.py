"""House rules: where schools differ, with a default and a reason for each (the reasons are shown to the user)."""

from typing import Annotated, Literal

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
        "sem", description="The mean of k trials is known sqrt(k) times better than one trial."
    )
    pool: Literal["auto", "always", "never"] = Field(
        "auto",
        description="A scatter from three or five trials is itself mostly noise; rows that scatter alike lend each other theirs.",
    )
    student: bool = Field(True, description="A few trials need a wider interval than many for the same confidence.")
    resolution: Literal["half_rectangular", "full_rectangular", "half_standard"] = Field(
        "half_rectangular", description="A rounded reading lies anywhere within half a step of what was written."
    )
    stated: Literal["standard", "limit"] = Field("standard", description="A typed ± is a standard uncertainty.")
    weights: Literal["known", "equal"] = Field(
        "known", description="A point known twice as well counts four times as much."
    )
    fit_uncertainty: Literal["larger", "propagated", "scatter", "extreme_lines"] = Field(
        "larger", description="If the points scatter more than their error bars allow, the scatter is believed."
    )
    abscissae: Literal["auto", "york", "ignore"] = Field(
        "auto", description="Error bars along x count when they matter."
    )
    origin: Literal["free", "forced"] = Field(
        "free", description="Fit the intercept and judge it: it may show what was forgotten."
    )
    percent_error: Literal["unsigned", "signed"] = Field("unsigned", description="How far off, without a sign.")
    combine: Literal["weighted", "plain"] = Field(
        "weighted", description="Of two values of one thing the better known one counts more."
    )
    difference: Literal["mean", "second"] = Field(
        "mean", description="Two measured values are both uncertain; neither is the reference."
    )
    acceptable: Annotated[float, Field(gt=0, le=100)] = Field(
        10.0, description="Percent error a first course usually accepts; it says nothing about agreement."
    )
    rounding: Literal["one_or_two", "one", "two", "pdg"] = Field(
        "one_or_two", description="One figure of uncertainty, two when it starts with 1."
    )
    g: Site | Annotated[float, Field(gt=9, lt=10.5)] = Field(
        Site(), description="Free-fall acceleration from latitude and height, or a number in m/s²."
    )

    def gravity(self) -> float:
        """g in m/s² by these rules."""
        return self.g if isinstance(self.g, float) else normal_gravity(self.g.latitude, self.g.height)
