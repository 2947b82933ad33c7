"""How long a plan takes: what its timers say, and a usual time for everything else that a hand does."""

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.definition.steps import Input
from cavrel.core.quantity import units
from cavrel.core.simulate.apparatus import Planned

SETTING = 40.0
"""Seconds to change a setting and let it come to rest."""
READING = 15.0
"""Seconds to read a scale and write it down."""
STARTING = 10.0
"""Seconds that a timing takes besides itself: letting go, the count-down, writing."""
LEAST_SET_UP = 5.0
"""Minutes to set anything up."""
SET_UP_SHARE = 1 / 3
"""Of what an author states goes into setting up and rough readings."""
SLOWEST = 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Duration:
    """Minutes.

    ``set_up``: before the first reading.
    ``setting``: changing settings.
    ``reading``: reading and timing.
    ``waiting``: until the system is ready.
    """

    set_up: float
    setting: float
    reading: float
    waiting: float

    @property
    def total(self) -> float:
        return self.set_up + self.setting + self.reading + self.waiting


@dataclass(frozen=True, slots=True, kw_only=True)
class Pace:
    """How a bench works at an experiment.

    ``set_up``: minutes before the first reading.
    ``slower``: times that a hand takes for what usually takes `SETTING` and `READING`.
    """

    set_up: float = LEAST_SET_UP
    slower: float = 1.0


def work(analysis: Analysis, planned: Planned) -> tuple[float, float, float]:
    """Minutes of setting, reading and waiting by the readings to expect, ``analysis``."""
    setting = reading = 0.0
    timed = _timed(analysis)
    for spec in analysis.program.inputs:
        if spec.series in planned.without or (spec.series is None and spec.name in planned.quantities):
            continue
        if spec.series is not None and spec.chosen:
            setting += SETTING * _taken(analysis, spec)
        elif spec.series is not None or spec.default is None:
            reading += _reading(analysis, spec, timed)
    return setting / 60, reading / 60, _waiting(analysis, planned) / 60


def _timed(analysis: Analysis) -> Mapping[str, str]:
    """Input -> the kind of timer that fills it."""
    found: dict[str, str] = {}
    for step in analysis.program.definition.steps:
        if step.timer is not None:
            found |= dict.fromkeys(step.fills, step.timer.kind)
    return found


def _taken(analysis: Analysis, spec: Input) -> int:
    """How many readings of it a run holds."""
    readings = next((r for r in analysis.sheet.inputs if r.spec.key == spec.key), None)
    return len(readings.readings) if readings is not None else 0


def _reading(analysis: Analysis, spec: Input, timed: Mapping[str, str]) -> float:
    many, kind = _taken(analysis, spec), timed.get(spec.key, "")
    if kind == "interval":
        return 0.0  # the caller says when; that is waiting
    if kind == "laps" and spec.unit.dimension == units.unit("s").dimension:
        lasting = analysis.nominal[spec.key][0]
        mean = float(np.nanmean(lasting)) if np.isfinite(lasting).any() else 0.0
        return many * (STARTING + (mean if math.isfinite(mean) else 0.0))
    return many * READING


def _waiting(analysis: Analysis, planned: Planned) -> float:
    """Seconds that waits and callers last: once for each row of the table that their step fills, once where it fills none."""
    total = 0.0
    for step in analysis.program.definition.steps:
        timer = step.timer
        if timer is None or timer.kind == "laps":
            continue
        series = any("." in key for key in step.fills)
        rows = _rows(analysis, planned, step.fills)
        if timer.kind in ("wait", "steady"):
            total += rows * _seconds(timer.lasting)
        else:
            total += rows * _seconds(timer.every) if series else _seconds(timer.lasting)
    return total


LONG_WAIT = 10.0
"""Minutes from which on a wait leaves time for something else at the same bench."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Stretch:
    """``kind``: ``set up``, ``work`` or ``wait``. ``minutes``: of it. ``say``: of a wait, what its step says."""

    kind: str
    minutes: float
    say: str = ""


def timeline(analysis: Analysis, planned: Planned, pace: Pace) -> tuple[Stretch, ...]:
    """How a plan goes, from setting up to the last reading: its `duration` in the order of the definition's steps, long waits apart.

    A step's readings stand where it does; what no step fills stands after the last one that fills something.
    """
    whole = duration(analysis, planned, pace)
    left = {spec.key: pace.slower * _hands(analysis, spec, planned) for spec in analysis.program.inputs}
    found = [Stretch(kind="set up", minutes=whole.set_up)]
    for step in analysis.program.definition.steps:
        lasting = 0.0
        if step.timer is not None and step.timer.kind in ("wait", "steady"):
            rows = _rows(analysis, planned, step.fills)
            lasting = rows * _seconds(step.timer.lasting) / 60
            if rows == 1 and lasting >= LONG_WAIT:
                found.append(Stretch(kind="wait", minutes=lasting, say=step.do))
                lasting = 0.0
        elif step.timer is not None and step.timer.kind == "interval":
            series = any("." in key for key in step.fills)
            rows = _rows(analysis, planned, step.fills)
            lasting = (rows * _seconds(step.timer.every) if series else _seconds(step.timer.lasting)) / 60
        lasting += sum(left.pop(key, 0.0) for key in step.fills)
        found.append(Stretch(kind="work", minutes=lasting))
    rest = whole.total - sum(stretch.minutes for stretch in found)
    found.append(Stretch(kind="work", minutes=max(rest, 0.0)))
    return _joined(found)


def _hands(analysis: Analysis, spec: Input, planned: Planned) -> float:
    """Minutes of setting or reading one input."""
    if spec.series in planned.without or (
        spec.series is None and (spec.name in planned.quantities or spec.default is not None)
    ):
        return 0.0
    if spec.series is not None and spec.chosen:
        return SETTING * _taken(analysis, spec) / 60
    return _reading(analysis, spec, _timed(analysis)) / 60


def _rows(analysis: Analysis, planned: Planned, fills: Iterable[str]) -> int:
    """Rows of the largest table that a step fills, 1 where it fills none."""
    series = {key.partition(".")[0] for key in fills if "." in key} - planned.without
    return max((analysis.sheet.rows[name] for name in series if name in analysis.sheet.rows), default=1)


def _joined(stretches: Iterable[Stretch]) -> tuple[Stretch, ...]:
    """Neighbours of one kind as one; nothing of no length."""
    found: list[Stretch] = []
    for one in stretches:
        if one.minutes <= 0.01:
            continue
        if found and found[-1].kind == one.kind and one.kind != "wait":
            found[-1] = Stretch(kind=one.kind, minutes=found[-1].minutes + one.minutes)
        else:
            found.append(one)
    return tuple(found)


def _seconds(amount: str | None) -> float:
    return units.quantity(amount)[0] if amount else 0.0


def pace_of(analysis: Analysis) -> Pace:
    """The pace at which the definition's own plan, ``analysis`` of its readings to expect, takes as long as its author states: a third of it,
    waits aside, sets up, and hands are up to twice as slow as usual; what is left then is setting up too."""
    stated = analysis.program.definition.minutes
    if stated is None:
        return Pace()
    setting, reading, waiting = work(analysis, Planned())
    hands = setting + reading
    wanted = stated - waiting - max(LEAST_SET_UP, SET_UP_SHARE * (stated - waiting))
    slower = min(max(wanted / hands, 1.0), SLOWEST) if hands > 0 else 1.0
    return Pace(set_up=max(LEAST_SET_UP, stated - waiting - slower * hands), slower=slower)


def duration(analysis: Analysis, planned: Planned, pace: Pace) -> Duration:
    """Minutes that a plan takes at a bench's pace."""
    setting, reading, waiting = work(analysis, planned)
    return Duration(set_up=pace.set_up, setting=pace.slower * setting, reading=pace.slower * reading, waiting=waiting)
