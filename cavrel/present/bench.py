"""The simulated apparatus, ready for the page: which face shows a reading, what moves it, and what is said."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from cavrel.core.bench import Bench, Found, NotYet, Shown
from cavrel.core.errors import CavrelError
from cavrel.core.logbook.slots import Slot
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of
from cavrel.core.simulate.shown import written
from cavrel.graph import indicators, instrument_faces
from cavrel.graph.instrument_faces import Face
from cavrel.present import notes, visible
from cavrel.present.traces import sample_unit
from cavrel.service.run_view import RunView

DO = {
    "needle": "Move the contact until the pointer stays at zero.",
    "tilt": "Move the load until the rule lies level.",
    "pivot": "Move the pivot until the rule lies level.",
    "tone": "Move it until the tone is loudest: find the places where it fades alike on both sides, and take the middle.",
    "string": "Turn the knob until the string swings widest: find where it fades alike on both sides, and take the middle.",
    "light": "Raise it until the lamp just begins to glow.",
    "current": "Raise it until the current just ends; use the most sensitive range before you believe it.",
    "spectrum": "Turn the telescope (drag what you see, or the slider) until the cross hairs stand on your line, then read circle and vernier.",
    "laps": "Time it with the stopwatch of the deck: Space starts it and marks.",
    "creep": "It creeps: wait until it stays, then read.",
    "course": "It begins with the calls of the deck: start them, and read at each.",
    "count": "Press Count: it counts for the whole interval.",
    "slope": "Release: the samples arrive. Keep them, then choose the stretch that counts.",
    "film": "A film of it: step through it with the counter below, mark the last frame at rest and the one in which it has made its turns.",
    "still": "",
}
"""What is done with each scene."""


@dataclass(frozen=True, slots=True, kw_only=True)
class View:
    """One reading's apparatus.

    ``slot``: that it is for.
    ``where``: in words.
    ``scene``: ``still``, ``laps``, ``seek``, ``creep``, ``course``, ``count``, ``slope``, ``film``, ``afloat``, ``not-yet``.
    ``do``: what is done.
    ``face``: the instrument, None where nothing is read off.
    ``sign``: drawing of what says so, or of what moves; empty where there is none.
    ``data``: numbers that the page's script moves things by, in the unit that is read.
    ``zero``: the instrument whose zero can be looked at, empty for none.
    ``watch_for``: of the instrument.
    ``sensitive``: a pointer whose range can be changed says how it is found.
    """

    slot: str
    where: str
    scene: str
    do: str
    face: Face | None
    sign: str
    data: dict[str, Any]
    zero: str = ""
    watch_for: str = ""
    sensitive: bool = False


def view(opened: RunView, bench: Bench, text: str, take: int) -> View:
    """What is shown at the place ``text``, a slot or ``zero:`` with an instrument. Raises CavrelError for no such place."""
    if text.startswith("zero:"):
        name = text.removeprefix("zero:")
        shown = bench.zero(name, take)
        gauge = opened.program.gauges[name]
        label = f"zero of the {gauge.label}"
        check = opened.program.definition.instruments[name].zero_check
        return View(
            slot=text, where=label, scene="still", do=check, face=_face(opened, shown, label), sign="", data={},
        )  # fmt: skip
    if text == "afloat":
        share = bench.afloat()
        said = indicators.afloat_says(share)
        return View(
            slot=text,
            where="In the bowl",
            scene="afloat",
            do=said,
            face=None,
            sign=indicators.afloat(share, said),
            data={},
        )
    slot = Slot.read(text)
    if slot is None or not slot.reads:
        raise CavrelError("slot", f"'{text[:60]}' is no place to read")
    where = _where(opened, slot)
    try:
        shown = bench.shown(slot, take)
    except NotYet as fault:
        return View(
            slot=text, where=where, scene="not-yet", do=f"{fault.what[0].upper()}{fault.what[1:]}.", face=None, sign="", data={},
        )  # fmt: skip
    scene = _scene(shown)
    spec = shown.spec
    title = spec.gauge.label if spec.gauge else spec.label
    face = None if scene in ("laps", "slope", "film") else _face(opened, shown, title)
    own = opened.program.definition.instruments[spec.gauge.name] if spec.gauge else None
    zeroed = spec.gauge is not None and spec.gauge.least_count and not spec.gauge.dial and own is not None and own.kind
    return View(
        slot=text,
        where=where,
        scene=scene,
        do=DO[_moved(shown.found)] if shown.found else DO[scene],
        face=face,
        sign=_sign(shown, where),
        data=_data(shown),
        zero=spec.gauge.name if zeroed and spec.gauge and scene not in ("laps", "slope", "count", "film") else "",
        watch_for=own.watch_for if own else "",
        sensitive=shown.found is not None and shown.found.sign in ("needle", "current"),
    )


def _where(opened: RunView, slot: Slot) -> str:
    """What is read and where: its label, row and trial."""
    spec = opened.program.input_of.get(slot.key)
    if spec is None or not slot.series:
        return notes.where(opened, str(slot))
    series = opened.definition.series[slot.series]
    parts = [series.short] if len(opened.definition.series) > 1 else []
    parts.append(f"row {slot.row}")
    parts += [f"trial {slot.trial}"] if opened.state.trials[spec.key] > 1 else []
    return f"{spec.label}: {', '.join(parts)}"


def _moved(found: Found) -> str:
    """What says how it is found, or what is moved for it."""
    return "pivot" if found.width is not None and found.width < 0 else found.sign


def _scene(shown: Shown) -> str:
    if shown.course is not None:
        return "course"
    if shown.turns is not None:
        return "film"
    if shown.laps is not None:
        return "laps"
    if shown.found is not None:
        return "seek"
    if shown.counts is not None:
        return "count"
    if shown.slope is not None or shown.recording is not None:
        return "slope"
    return "creep" if shown.creep is not None else "still"


def _sign(shown: Shown, where: str) -> str:
    if shown.found is not None:
        return indicators.sign(shown.found.sign, where)
    if shown.turns is not None:
        return indicators.motion("turn", where)
    return indicators.motion(shown.motion, where) if shown.laps is not None else ""


def _data(shown: Shown) -> dict[str, Any]:
    """Numbers by which a script moves the drawing, in the unit that is read."""
    unit = shown.spec.unit
    if shown.course is not None:
        return {"times": shown.course.times, "values": [_digits(unit.from_si(v)) for v in shown.course.values]}
    if shown.turns is not None:
        rest = 8 + abs(round(shown.value * 1e6)) % 30  # the film begins some frames before the release
        return {"frames": shown.value, "turns": shown.turns, "rest": rest}
    if shown.laps is not None:
        return {"period": shown.value / shown.laps}
    if shown.found is not None:
        return _seek(shown, shown.found)
    if shown.counts is not None:
        return {"seconds": shown.counts, "count": int(shown.value)}
    if shown.recording is not None:
        recording = shown.recording
        return {"times": recording.times, "values": recording.values, "unit": recording.unit}
    if shown.slope is not None:
        return _samples(shown)
    data: dict[str, Any] = {"last": _digits(unit.from_si(shown.value))}
    if shown.creep is not None:
        data |= {"off": shown.creep.off / unit.factor, "tau": shown.creep.tau}
    return data


def _seek(shown: Shown, found: Found) -> dict[str, Any]:
    unit, gauge = shown.spec.unit, shown.spec.gauge
    least = (
        gauge.least_count / unit.factor
        if gauge and gauge.least_count
        else (found.high - found.low) / unit.factor / 1000
    )
    low, high = unit.from_si(found.low), unit.from_si(found.high)
    begin = round((low + (0.5 if found.lines else 0.18) * (high - low)) / least) * least
    if found.lines:
        return {
            "lines": _lines(shown, found),
            "slit": math.radians(SLIT / 60) / unit.factor,
            "field": math.radians(indicators.FIELD) / unit.factor,
            "minute": math.radians(1 / 60) / unit.factor,
            "stays": gauge.name if gauge else "telescope",
            "low": low,
            "high": high,
            "step": least / 5,
            "begin": begin,
        }
    # What has a response everywhere does not say where it is found.
    sign: dict[str, Any] = (
        {"response": found.response, "loops": found.loops}
        if found.width is None
        else {"at": _digits(unit.from_si(shown.value)), "width": found.width / unit.factor}
    )
    return {
        **sign,
        "low": low,
        "high": high,
        "step": least / 5,
        "begin": begin,
    }


SLIT = 2.0
"""Width of the slit's image, minutes of arc."""


def _lines(shown: Shown, found: Found) -> list[dict[str, Any]]:
    """The lines of a spectrum, from left to right: place, colour, its name, brightness. The straight light is one line of them all."""
    unit = shown.spec.unit

    def line(at: float, of: list[tuple[float, float]], name: str, bright: float) -> dict[str, Any]:
        return {"at": _digits(unit.from_si(at)), "colour": visible.colour(of), "name": name, "bright": round(bright, 3)}

    made = [
        line(each.at, [(each.wave, 1.0)], f"{visible.name(each.wave)} line", each.bright)
        for each in found.lines
        if each.order
    ]
    straight = [each for each in found.lines if not each.order]
    if straight:
        made.append(line(straight[0].at, [(each.wave, each.bright) for each in straight], "slit, seen straight,", 1.0))
    return sorted(made, key=lambda each: each["at"])


def _digits(value: float) -> float:
    return float(f"{value:.8g}")


RATE = 50.0
"""Samples a second of a simulation's sensor."""


def _samples(shown: Shown) -> dict[str, Any]:
    """What a motion sensor gives: rest, the run, and the stop at its end, with the unrest of its samples."""
    rest, stop = 0.5, 0.4
    slope = shown.slope or 0.0
    lasting = min(max(math.sqrt(2 * 0.8 / max(abs(slope), 1e-3)), 0.6), 3.0)
    t = np.arange(0.0, rest + lasting + stop, 1 / RATE)
    v = slope * np.clip(t - rest, 0.0, lasting)
    v[t > rest + lasting] = 0.0
    draw = np.random.default_rng(shown.unrest)
    v = v + draw.normal(0.0, max(0.008 * abs(slope) * lasting, 1e-4), len(t))
    unit = units.unit(sample_unit(shown.spec))
    return {
        "times": [round(float(x), 4) for x in t],
        "values": [_digits(unit.from_si(float(x))) for x in v],
        "unit": sample_unit(shown.spec),
    }


def _face(opened: RunView, shown: Shown, title: str) -> Face:
    """The instrument that shows a reading."""
    spec = shown.spec
    gauge = spec.gauge
    own = opened.program.definition.instruments[gauge.name] if gauge else None
    kind = own.kind if own and own.kind else ""
    value = shown.value if shown.course is None else _first(shown)
    if gauge is None or not gauge.least_count:
        return instrument_faces.display(written(spec, value), spec.unit.pretty, title)
    if not kind and spec.series is None:
        return instrument_faces.card(written(spec, value), spec.unit.pretty, title)
    least, unit = gauge.least_count, spec.unit
    step, decimals = least / unit.factor, decimals_of(least, unit)
    at = unit.from_si(value)
    if kind.startswith("vernier caliper") and 2 <= round(1e-3 / least) <= 50:
        return instrument_faces.vernier(value * 1e3, 1.0, round(1e-3 / least), ("the scale", "vernier"), title)
    if kind == "micrometer":
        return instrument_faces.micrometer(value * 1e3, title)
    if kind == "spectrometer vernier" and 2 <= round(math.radians(0.5) / least) <= 60:
        lines = round(math.radians(0.5) / least)
        return instrument_faces.vernier(
            math.degrees(value), 0.5, lines, ("the circle", "vernier"), title, every=2, unit="°"
        )
    if kind == "protractor" and abs(math.degrees(value)) <= 60:
        return instrument_faces.protractor(math.degrees(value), math.degrees(least), title)
    if kind == "thermometer":
        return instrument_faces.thermometer(at, step, unit.pretty, decimals, title)
    if kind in ("analogue meter", "galvanometer", "spring balance"):
        full = _full(own.full_scale if own else None, unit, at, step)
        return instrument_faces.dial(at, step, full, unit.pretty, decimals, title, both=at < 0)
    if kind == "triple-beam balance":
        return instrument_faces.beams(max(at, 0.0), step, unit.pretty, decimals, title)
    if kind in ("metre rule", "tape", "optical scale", "spot galvanometer"):
        reach = _reach(shown)
        look = "spot" if kind in ("optical scale", "spot galvanometer") else "rule"
        return instrument_faces.scale(
            at, step, unit.pretty, decimals, title, reach, look, starts=look == "rule" and not (reach and reach[0] < 0)
        )
    return instrument_faces.display(written(spec, value), unit.pretty, title, decimals, step)


def _first(shown: Shown) -> float:
    """The first value of a course, SI: where the instrument stands before it begins."""
    assert shown.course is not None
    return shown.course.values[0]


def _reach(shown: Shown) -> tuple[float, float] | None:
    """Between which values an instrument's moving part goes, in the unit read."""
    unit = shown.spec.unit
    if shown.found is not None:
        return unit.from_si(shown.found.low), unit.from_si(shown.found.high)
    if shown.course is not None:
        values = [unit.from_si(v) for v in shown.course.values]
        return min(values), max(values)
    if shown.creep is not None:
        ends = [unit.from_si(v) for v in (shown.value, shown.value + shown.creep.off)]
        return min(ends), max(ends)
    return None


def _full(text: str | None, unit: units.Unit, value: float, step: float) -> float:
    """The end of a dial's scale: as its maker says, else a round number above the reading."""
    if text:
        try:
            return units.quantity(text)[0] / unit.factor
        except CavrelError:
            pass
    wanted = max(abs(value) * 1.2, 10 * step)
    size = 10 ** math.floor(math.log10(wanted))
    return float(next(size * m for m in (1, 2, 3, 5, 10) if size * m >= wanted))
