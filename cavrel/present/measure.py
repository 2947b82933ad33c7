"""What Measure shows: tables, the deck, what is suggested, and the run as data."""

from dataclasses import dataclass
from typing import Any

from cavrel import catalogue
from cavrel.core.definition.readings import ROLES
from cavrel.core.document import result_document
from cavrel.core.logbook.run import trials
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of
from cavrel.present import (
    circuits,
    graphs,
    pictures,
    result_lines,
    steadiness,
    tables,
    target_settings,
    test_rows,
    timings,
)
from cavrel.service.run_view import RunView


def _deck(opened: RunView) -> dict[str, Any] | None:
    """What the deck times: the stopwatch of the first step that counts laps, and the calls and waits of the others; None where nothing is
    timed."""
    watch, calls = None, []
    for index, step in enumerate(opened.definition.steps):
        timer = step.timer
        if timer is None:
            continue
        if timer.kind == "laps":
            watch = watch or {
                "timer": timer,
                "laps": _laps(opened, index),
                "fills": step.fills,
                "decimals": _decimals(opened, step.fills),
                "thumb": _thumb(opened, step.fills),
            }
        elif timer.kind != "steady":
            calls.append(
                {
                    "kind": timer.kind,
                    "every": _seconds(timer.every),
                    "lasting": _seconds(timer.lasting),
                    "words": f"every {timer.every} for {timer.lasting}" if timer.every else f"wait {timer.lasting}",
                    **_beat(opened, step.fills),
                    "do": step.do,
                }
            )
    return {"watch": watch, "calls": calls} if watch or calls else None


@dataclass(frozen=True, slots=True, kw_only=True)
class Frames:
    """A video to count frames of. ``fills``: columns that take them. ``rate``: frames a second, as typed or usual. ``timed``: those columns that are
    times, which take frames over rate."""

    fills: tuple[str, ...]
    rate: str
    timed: tuple[str, ...]


USUAL_RATE = "30"


def frames(opened: RunView) -> Frames | None:
    """What is read off a video, None where nothing is."""
    kinds = opened.program.definition.instruments
    read = [s for s in opened.program.inputs if s.gauge is not None and kinds[s.gauge.name].kind == "video frames"]
    if not read:
        return None
    second = units.unit("s").dimension
    hertz = [s for s in opened.program.inputs if s.series is None and s.unit.dimension.si() == "1/s" and s.default]
    rate = USUAL_RATE
    if hertz:
        typed = trials(opened.state.run.quantities.get(hertz[0].name))[0].strip()
        rate = typed or hertz[0].default or USUAL_RATE
    timed = tuple(s.key for s in read if s.unit.dimension == second)
    return Frames(fills=tuple(s.key for s in read), rate=rate, timed=timed)


def _beat(opened: RunView, fills: tuple[str, ...]) -> dict[str, Any]:
    """Where a call's time and its reading go: the set column in a unit of time, and the first one measured."""
    found: dict[str, Any] = {"time": None, "reads": None}
    second = units.unit("s").dimension
    for key in fills:
        spec = opened.program.input_of.get(key)
        if spec is None or spec.series is None:
            continue
        if spec.chosen and spec.unit.dimension == second:
            decimals = decimals_of(spec.gauge.least_count, spec.unit) if spec.gauge and spec.gauge.least_count else 0
            found["time"] = {"key": key, "factor": spec.unit.factor, "decimals": decimals}
        elif ROLES[spec.role].wanted and found["reads"] is None:
            found["reads"] = key
    return found


def _seconds(amount: str | None) -> float:
    return units.quantity(amount)[0] if amount else 0.0


def laps_to_count(opened: RunView) -> int | None:
    """How many laps the deck counts now, or None where nothing is timed."""
    deck = _deck(opened)
    return deck["watch"]["laps"] if deck and deck["watch"] else None


def _laps(opened: RunView, step: int) -> int:
    number = opened.analysis.laps(step)
    return int(number) if 1 <= number <= MOST_LAPS else 1


MOST_LAPS = 10_000


def _thumb(opened: RunView, fills: tuple[str, ...]) -> str:
    """What a hand at the watch errs by, as the instrument declares it; empty where it says nothing."""
    for key in fills:
        spec = opened.program.input_of.get(key)
        if spec is not None and spec.gauge is not None and spec.gauge.reaction:
            return f"{spec.gauge.reaction:.2g} s"
    return ""


def _decimals(opened: RunView, fills: tuple[str, ...]) -> int:
    for key in fills:
        spec = opened.program.input_of.get(key)
        if spec is not None and spec.gauge is not None and spec.gauge.least_count:
            return decimals_of(spec.gauge.least_count, spec.unit)
    return 2


def content(opened: RunView) -> dict[str, Any]:
    """What the page shows within its frame."""
    return {
        "tables": tables.tables(opened),
        "fields": tables.quantities(opened),
        "gate": gate(opened),
        "standin": standin(opened),
        **live(opened),
    }


def standin(opened: RunView) -> str:
    """Whether the simulated apparatus is ``on``, can be put ``off`` to now, or there is ``none``."""
    if opened.definition.simulate is None:
        return "none"
    return "on" if opened.state.run.on_screen else "off"


def gate(opened: RunView) -> list[tuple[str, str]]:
    """(place, words) of what has to be read before anyone measures; none once it is read, or once there are readings."""
    if any(slot.reads for text in opened.state.latest if (slot := Slot.read(text)) is not None):
        return []
    unread = [(f"caution.{i}", caution.say) for i, caution in enumerate(opened.definition.cautions)]
    return [(place, say) for place, say in unread if place not in opened.state.ticks]


def live(opened: RunView) -> dict[str, Any]:
    """What of it follows every reading, besides the tables."""
    if "live" not in opened.shown:
        opened.shown["live"] = _live(opened)
    found: dict[str, Any] = opened.shown["live"]
    return found


def _live(opened: RunView) -> dict[str, Any]:
    return {
        "small_graph": graphs.small(opened),
        "pictures": [*pictures.force_pictures(opened), *filter(None, [circuits.circuit(opened)])],
        "results": [] if opened.definition.fits else result_lines.overview(opened),
        "deck": _deck(opened),
        "steps": steps(opened),
        "timings": timings.timings(opened),
        "steady": steadiness.watches(opened),
        "frames": frames(opened),
        "tested": test_rows.tested(opened),
        "suggested": {key: target_settings.suggested(opened, key) for key in opened.program.suggestions if "." in key},
    }


@dataclass(frozen=True, slots=True, kw_only=True)
class StepShown:
    """A step of the procedure. ``place``: of its tick. ``do``: what is done. ``done``: somebody ticked it. ``now``: it is the first that is not."""

    place: str
    do: str
    done: bool
    now: bool


def steps(opened: RunView) -> list[StepShown]:
    """The procedure, with the step that is being done."""
    done = [f"step.{i}" in opened.state.ticks for i in range(len(opened.definition.steps))]
    first = done.index(False) if False in done else -1
    return [
        StepShown(place=f"step.{i}", do=step.do, done=done[i], now=i == first)
        for i, step in enumerate(opened.definition.steps)
    ]


def data(opened: RunView) -> dict[str, Any]:
    """The same as data: the run document and the result document."""
    return {
        "title": opened.run.title,
        "bench": opened.run.bench,
        "entries": len(opened.entries),
        "run": opened.state.run.model_dump(mode="json", exclude_defaults=True)
        | {"format": "cavrel-run/1", "experiment": _experiment(opened)},
        "result": result_document(opened.analysis, opened.findings, opened.suspected.suspects, opened.meanings),
    }


def _experiment(opened: RunView) -> str | dict[str, Any]:
    """How a run document names its experiment: by id where it ships as it is, else whole, so that the document stands alone."""
    shipped = catalogue.experiments().get(opened.run.experiment)
    if shipped is not None and shipped.content_hash() == opened.run.hash:
        return opened.run.experiment
    return opened.base.document()
