"""How long a plan takes: what its timers say, and a usual time for everything else that a hand does."""

import math
from collections.abc import Mapping
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
"""Seconds that a timing takes beside itself: letting go, the count-down, writing."""
LEAST_SET_UP = 5.0
"""Minutes to set anything up."""


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


def work(analysis: Analysis, planned: Planned) -> tuple[float, float, float]:
    """Minutes of setting, reading and waiting by the readings to expect, ``analysis``."""
    setting = reading = 0.0
    timed = _timed(analysis)
    for spec in analysis.program.inputs:
        if spec.series in planned.without or (spec.series is None and spec.name in planned.quantities):
            continue
        if spec.series is not None and spec.role == "set":
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
        series = {key.partition(".")[0] for key in step.fills if "." in key} - planned.without
        rows = max((analysis.sheet.rows[name] for name in series if name in analysis.sheet.rows), default=1)
        if timer.kind == "wait":
            total += rows * _seconds(timer.lasting)
        else:
            total += rows * _seconds(timer.every) if series else _seconds(timer.lasting)
    return total


def _seconds(amount: str | None) -> float:
    return units.quantity(amount)[0] if amount else 0.0


def duration(analysis: Analysis, planned: Planned, usual: float) -> Duration:
    """Minutes that a plan takes. ``usual``: minutes of work of the definition's own plan, so that what its author states beyond them is
    setting up."""
    setting, reading, waiting = work(analysis, planned)
    stated = analysis.program.definition.minutes
    set_up = max(LEAST_SET_UP, stated - usual) if stated is not None else LEAST_SET_UP
    return Duration(set_up=set_up, setting=setting, reading=reading, waiting=waiting)
