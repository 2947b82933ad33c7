"""What the apparatus shows at one place: the instrument's value, and how a hand comes to it."""

from dataclasses import dataclass

from cavrel.core.definition.steps import Input
from cavrel.core.errors import CavrelError


class NotYet(CavrelError):
    """Something has to be set or written before this can be shown; ``place`` is where."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """A line in the field of a telescope.

    ``at``: on its scale, SI.
    ``wave``: wavelength, m.
    ``bright``: from 0 to 1.
    ``order``: from the straight light, negative to the left.
    """

    at: float
    wave: float
    bright: float
    order: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """How a reading is found.

    ``sign``: what says so.
    ``low``, ``high``: between these it moves, SI.
    ``width``: so far off the sign has gone half its way, SI, negative where it goes the other way; None where ``response`` says it everywhere.
    ``response``: ``(n,)`` from 0 to 1, of a current from -1, at places of the scale from ``low`` to ``high``, evenly.
    ``loops``: ``(n,)`` of a string there; empty where none are told.
    ``lines``: of a spectrum, all that an eye can see.
    """

    sign: str
    low: float
    high: float
    width: float | None = None
    response: tuple[float, ...] = ()
    loops: tuple[int, ...] = ()
    lines: tuple[Line, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Creep:
    """How a reading begins: ``off`` SI from its last value, nearer by a factor e in ``tau`` s."""

    off: float
    tau: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Course:
    """A reading over time, while an interval is called.

    ``times``: ``(n,)`` s from the first call.
    ``values``: ``(n,)`` SI, what the instrument shows, its unrest included.
    """

    times: tuple[float, ...]
    values: tuple[float, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Recording:
    """What a recorder takes down.

    ``times``: ``(n,)`` s.
    ``values``: ``(n,)`` in ``unit``, noise included.
    ``unit``: of the samples.
    """

    times: tuple[float, ...]
    values: tuple[float, ...]
    unit: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Shown:
    """What the apparatus shows at one place.

    ``spec``: what is read there.
    ``value``: SI, as the instrument points before anybody reads it.
    ``laps``: a time for so many of them, None where nothing is counted.
    ``motion``: what swings while they are counted.
    ``found``: how it is looked for, None where it stands there.
    ``creep``: how it begins, None where it stands at once.
    ``course``: how it goes while intervals are called, None where none are.
    ``counts``: seconds in which random events are counted, None where none are.
    ``turns``: that a film shows until the frames read, None where there is no film.
    ``slope``: of samples in coherent SI units a second, None where none are taken.
    ``recording``: samples that the reading is taken from, None where the definition says nothing of them.
    ``unrest``: that the noise of those samples follows from, another one each time.
    """

    spec: Input
    value: float
    laps: int | None = None
    motion: str = ""
    found: Found | None = None
    creep: Creep | None = None
    course: Course | None = None
    counts: float | None = None
    slope: float | None = None
    recording: Recording | None = None
    unrest: int = 0
    turns: float | None = None
