"""The simulation for the apparatus: true values, what is read of them, and what can go wrong."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from cavrel.core.definition.parts import Amount, Formula, Key, Model, UnitText


class Fault(Model):
    """Something wrong with the simulated apparatus or whoever reads it. ``read`` replaces true values for the whole run; ``row`` does
    so for all readings of one row, drawn at random, which repeating does not remove; ``once`` for a single reading, which it does."""

    label: Annotated[str, Field(min_length=1, max_length=80)]
    read: Annotated[dict[str, Formula], Field(max_length=40)] = {}
    row: Annotated[dict[str, Formula], Field(max_length=4)] = {}
    once: Annotated[dict[str, Formula], Field(max_length=4)] = {}

    @model_validator(mode="after")
    def _something(self) -> "Fault":
        if not self.read and not self.row and not self.once:
            raise ValueError(
                "a fault says what is read instead: 'read', 'row' for one row, or 'once' for a single reading"
            )
        return self


class SpectralLine(Model):
    """A line that a lamp emits. ``wave``: its wavelength, an amount or a formula of true values; ``bright``: of the brightest one's brightness."""

    wave: Formula
    bright: Annotated[float, Field(gt=0, le=1)] = 1.0


class Seek(Model):
    """A reading that is found by moving something until a sign says so. ``sign``: a ``needle`` at zero, a rule that lies level (``tilt``), a
    ``tone`` at its loudest, a ``string`` that swings widest, a ``light`` that just goes out, a ``current`` that just ends, a line of a
    ``spectrum`` on the cross hairs; ``width``: so far off, the sign has gone half its way; ``low`` and ``high``: between these it can be
    moved; ``pivot``: of a rule, what is moved is its pivot and not a load, so that the other end sinks.

    A tone, a string or a current may have a ``response`` instead of a width: how loud it is, how wide it swings (0 to 1) or how far the
    pointer goes (-1 to 1) when it is moved to ``at``; a formula of true values, of which ``found`` is what is to be read and ``unspoilt`` what
    would be without a fault. ``loops``: of a string there.

    A spectrum shows all lines of the ``lamp`` in ``orders`` to each side, each at ``place``: a formula of true values, of which ``wave`` is the
    line's wavelength and ``order`` counts from the straight light, negative to the left."""

    sign: Literal["needle", "tilt", "tone", "string", "light", "current", "spectrum"]
    width: Amount | None = None
    response: Formula | None = None
    loops: Formula | None = None
    pivot: bool = False
    orders: Annotated[int, Field(ge=1, le=12)] = 1
    place: Formula | None = None
    low: Amount
    high: Amount

    @model_validator(mode="after")
    def _one_way(self) -> "Seek":
        if self.sign == "spectrum":
            if self.width is not None or self.response is not None or self.place is None:
                raise ValueError("a spectrum says the place of its lines, and no width or response")
            return self
        if self.place is not None:
            raise ValueError("only a spectrum has lines, and a place for each")
        if (self.width is None) == (self.response is None):
            raise ValueError("says its width, or a response, and not both")
        if self.response is not None and self.sign not in ("tone", "string", "current"):
            raise ValueError("only a tone, a string or a current has a response; any other sign has a width")
        if self.pivot and self.sign != "tilt":
            raise ValueError("only a rule has a pivot")
        if self.loops is not None and (self.sign != "string" or self.response is None):
            raise ValueError("loops are those of a string with a response")
        return self


class Settle(Model):
    """A reading that creeps to its last value. ``off``: how far from it, signed, it begins; ``tau``: the time in which it comes nearer by a
    factor e."""

    off: Amount
    tau: Amount


class Record(Model):
    """Samples that a recorder or sensor takes while something is swept or runs by itself. ``value``: the true value at ``time``, a formula, in
    ``unit``; ``noise``: of each sample; ``lasting``: how long it goes on; ``rate``: of the samples."""

    value: Formula
    unit: UnitText
    noise: Formula
    lasting: Formula
    rate: Formula = "50[Hz]"


class Afloat(Model):
    """A piece that is put into a liquid to see whether it floats. ``density``: of the piece, ``liquid``: of what it is put into, formulas of
    true values; ``label``: of the button."""

    density: Formula
    liquid: Formula
    label: Annotated[str, Field(min_length=1, max_length=40)] = "Put it into the water"


class Simulate(Model):
    """The simulation for the real apparatus. ``truth``: true values of constants and quantities, as amounts or formulas of those above them;
    ``set``: settings by column, where they differ from the suggestions; ``read``: the true value of each measured column and quantity,
    by formula of true values, where ``row`` counts the rows of a series from 1; ``vary``: standard deviation by which that true value
    itself varies from row to row; ``noise``: standard deviation of single readings beyond what the instruments declare; ``faults``: what
    can be made to go wrong.

    For the bench on the screen: ``hidden``: the share by which a truth may be larger or smaller in one run, so that nobody knows it;
    ``seek``: readings that are found by moving something; ``lamp``: lines that a spectrum shows; ``settle``: readings that creep;
    ``record``: samples of which a reading is taken; ``motion``: what laps are counted of, and of a film ``turn``, whose frames are counted
    until it has made ``turns``; ``afloat``: what is put into a liquid."""

    truth: Annotated[dict[Key, Formula], Field(max_length=40)] = {}
    set: Annotated[dict[str, Formula], Field(max_length=24)] = {}
    read: Annotated[dict[str, Formula], Field(max_length=40)] = {}
    vary: Annotated[dict[str, Amount], Field(max_length=24)] = {}
    noise: Annotated[dict[str, Amount], Field(max_length=24)] = {}
    faults: Annotated[dict[Key, Fault], Field(max_length=12)] = {}
    hidden: Annotated[dict[Key, Amount], Field(max_length=24)] = {}
    seek: Annotated[dict[str, Seek], Field(max_length=24)] = {}
    lamp: Annotated[list[SpectralLine], Field(max_length=40)] = []
    settle: Annotated[dict[str, Settle], Field(max_length=24)] = {}
    record: Annotated[dict[str, Record], Field(max_length=8)] = {}
    motion: Annotated[dict[str, Literal["swing", "bounce", "circle", "turn"]], Field(max_length=8)] = {}
    turns: Formula = "1"
    afloat: Afloat | None = None

    @model_validator(mode="after")
    def _lit(self) -> "Simulate":
        if not self.lamp and any(seek.sign == "spectrum" for seek in self.seek.values()):
            raise ValueError("a spectrum is sought, and 'lamp' has no line")
        return self
