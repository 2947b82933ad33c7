"""How the work goes: conventions to choose, rules that ought to hold, steps with their timers, suggestions and remarks."""

from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field, model_validator

from cavrel.core.definition.parts import Amount, Formula, Key, Line, Model, UnitText


class Choice(Model):
    """One way of an option: ``set`` overrides parts of the definition by path; ``carries``: the result, a correction found in one part, that this
    way takes over into another, so that Result shows what difference it makes; ``over``: the choice without that correction, with
    which it is compared; the default where it says nothing."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    carries: Key | None = None
    over: Key | None = None
    set: Annotated[dict[Annotated[str, Field(max_length=120)], Any], Field(max_length=24)] = {}


class Option(Model):
    """A convention to choose, such as which gap holds the unknown."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    default: Key
    choices: Annotated[dict[Key, Choice], Field(min_length=2, max_length=8)]

    @model_validator(mode="after")
    def _known_default(self) -> "Option":
        if self.default not in self.choices:
            raise ValueError(f"the default '{self.default}' is none of the choices")
        for key, choice in self.choices.items():
            if choice.over is not None and (
                choice.carries is None or choice.over == key or choice.over not in self.choices
            ):
                raise ValueError(f"'{key}' says with 'over' another choice, the one that leaves out what it carries")
        return self


class Check(Model):
    """A rule that ought to hold; where it does not, ``say`` stands next to ``at``."""

    rule: Formula
    level: Literal["note", "caution", "danger"] = "note"
    at: Annotated[str, Field(max_length=80)] = ""
    say: Line


class Identity(Model):
    """What holds between readings whatever the truth is: ``left`` equals ``right``, in every row of ``series`` or once for the run. Both are
    formulas of readings, instruments and accepted values, of no fit and no result; ``say``: why, a clause."""

    left: Formula
    right: Formula
    series: Key | None = None
    say: Line


class Verification(Model):
    """What is compared with a standard, row by row.

    ``label``: of its table.
    ``series``: whose rows.
    ``value``, ``standard``: formulas over them.
    ``within``: how far apart both may be, a formula of the run or of the row.
    ``limit``: what that is, in words that end a sentence after "more than".
    """

    label: Annotated[str, Field(min_length=1, max_length=80)]
    series: Key
    value: Formula
    standard: Formula
    within: Formula | None = None
    limit: Annotated[str, Field(min_length=1, max_length=80)] = "both least counts together"


class Timer(Model):
    """How the deck times a step.

    ``laps``: start, count ``laps`` of ``lap`` (a word, and its plural), stop. ``interval``: call out every ``every``, and move on to the next
    cell, until ``for`` is over. ``wait``: let ``for`` pass before reading. ``steady``: read again and again until what ``fills`` names has stayed
    within ``band`` for so long.
    """

    kind: Literal["laps", "interval", "wait", "steady"]
    laps: Formula = "1"
    lap: Annotated[str, Field(max_length=20)] = "lap"
    plural: Annotated[str, Field(max_length=20)] = "laps"
    every: Amount | None = None
    lasting: Annotated[Amount | None, Field(alias="for")] = None
    band: Amount | None = None

    @model_validator(mode="after")
    def _what_its_kind_needs(self) -> "Timer":
        wanted = {"laps": (), "interval": ("every", "lasting"), "wait": ("lasting",), "steady": ("lasting", "band")}
        missing = [name for name in wanted[self.kind] if getattr(self, name) is None]
        if missing:
            raise ValueError(f"a timer of kind '{self.kind}' says '{missing[0].replace('lasting', 'for')}'")
        return self


class Step(Model):
    do: Line
    fills: Annotated[tuple[Annotated[str, Field(max_length=60)], ...], Field(max_length=12)] = ()
    timer: Timer | None = None


class Suggest(Model):
    """Values to try next in a set column, ``for = "series.column"``, or what a quantity ought to be set to, ``for`` its name."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)
    target: Annotated[str, Field(alias="for", max_length=60)]
    formula: Formula


class Remark(Model):
    say: Line


class SetUp(Model):
    """A check before the first reading. ``unit``: of the value that is read in it and written down; none where there is nothing to read."""

    do: Line
    unit: UnitText | None = None


class Question(Model):
    """A question of theory, and its answer."""

    ask: Line
    answer: Annotated[str, Field(min_length=1, max_length=800)]
