"""The timings of a run with their laps, ready for Measure."""

from dataclasses import dataclass, replace
from functools import lru_cache

from cavrel.core.analysis.laps import lap_line
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity import units
from cavrel.core.quantity.rounding import fixed
from cavrel.core.quantity.value import MeasuredValue
from cavrel.core.words import counted
from cavrel.present import notes
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView

MOST = 12
"""Timings shown, the latest."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TimingShown:
    """``where``: the cell it filled. ``slot``. ``laps``: how many, in words. ``whole``: the last moment over their number. ``line``: the lap by the
    line, with its uncertainty. ``odd``: what is odd about it, in words. ``reading``: what the line would write into the cell, empty where it is
    odd."""

    where: str
    slot: str
    laps: str
    whole: str
    line: str
    odd: str
    reading: str


@optional("timings", list)
def timings(opened: RunView) -> list[TimingShown]:
    """The latest timings that marked every lap, newest first."""
    timer = next((s.timer for s in opened.definition.steps if s.timer and s.timer.kind == "laps"), None)
    if timer is None:
        return []
    found: dict[str, TimingShown] = {}
    for entry in reversed(opened.entries):
        if entry.kind != "timer" or entry.body.get("spoilt") or not entry.body.get("counted"):
            continue
        slot, laps = entry.body.get("slot"), entry.body.get("laps")
        if not isinstance(laps, list):
            continue
        if not isinstance(slot, str) or slot in found or Slot.read(slot) is None:
            continue
        shown = _shown(tuple(laps), timer.lap, timer.plural, opened.analysis.rules.rounding)
        if shown is not None:
            found[slot] = replace(shown, where=notes.where(opened, slot), slot=slot)
        if len(found) == MOST:
            break
    return list(found.values())


@lru_cache(maxsize=512)
def _shown(laps: tuple[float, ...], lap: str, plural: str, rule: str) -> TimingShown | None:
    """A timing, not yet at its place: what was pressed stays as it is, and each save shows a dozen of them."""
    line = lap_line(laps)
    if line is None:
        return None
    second = units.unit("s")
    odd = []
    if line.missed:
        odd.append(f"{lap} {', '.join(map(str, line.missed[:3]))} took twice as long: a press is missing")
    if line.doubled:
        odd.append(f"{lap} {', '.join(map(str, line.doubled[:3]))} took no time: a press too many")
    places = max(2, min(6, 1 - int(f"{line.laps * line.u:e}".partition("e")[2]))) if line.u > 0 else 3
    reading = f"{fixed(line.lap * line.laps, places)} ± {fixed(line.laps * line.u, places)}".replace("−", "-")
    return TimingShown(
        where="",
        slot="",
        laps=counted(line.laps, lap, plural),
        whole=fixed(line.whole, 4),
        line=MeasuredValue(value=line.lap, u=line.u, unit=second, rule=rule).text(),
        odd="; ".join(odd),
        reading="" if odd or not line.u > 0 else reading,
    )
