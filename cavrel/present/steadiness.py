"""The steadiness watch of a run, ready for Measure: what was read so far, drawn, and whether it is steady."""

from dataclasses import dataclass

from cavrel.core.analysis.steadiness import steadiness
from cavrel.core.errors import CavrelError
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of, read
from cavrel.core.quantity.rounding import fixed
from cavrel.graph import steadiness as drawn
from cavrel.present import texts
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class Watched:
    """``key``: of the quantity. ``slot``: its cell. ``label``; ``unit``. ``mean``: over the steady stretch, as it would be written, empty while it is
    not steady."""

    key: str
    slot: str
    label: str
    unit: str
    mean: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SteadyWatch:
    """``number``: of the step. ``do``: what the step asks for. ``words``: what is waited for. ``said``: how it stands. ``steady``: it is.
    ``picture``: SVG, empty before the second reading. ``watched``: what is looked at."""

    number: int
    do: str
    words: str
    said: str
    steady: bool
    picture: str
    watched: tuple[Watched, ...]


@optional("the steadiness watch", list)
def watches(opened: RunView) -> list[SteadyWatch]:
    """Every steadiness watch of the experiment's steps."""
    found = []
    for number, step in enumerate(opened.definition.steps):
        if step.timer is not None and step.timer.kind == "steady":
            found.append(_watch(opened, number))
    return found


def _watch(opened: RunView, number: int) -> SteadyWatch:
    step = opened.definition.steps[number]
    timer = step.timer
    assert timer is not None
    size, unit_of_band = units.quantity(timer.band or "1")
    band = abs(size - unit_of_band.offset)
    lasting = units.quantity(timer.lasting or "1 min")[0]
    specs = [opened.program.input_of[key] for key in step.fills if key in opened.program.input_of]
    lines: dict[str, list[tuple[float, float]]] = {spec.key: [] for spec in specs}
    for entry in opened.entries:
        key = entry.body.get("watched")
        if entry.kind != "timer" or key not in lines:
            continue
        spec = opened.program.input_of[key]
        try:
            value = read(str(entry.body.get("text", "")), spec.unit.text, spec.difference).value
        except CavrelError:
            continue  # what cannot be read stays in the logbook
        lines[key].append((float(entry.body.get("at", 0.0)), value))
    state = steadiness(lines, band, lasting)
    words = f"within {timer.band} for {timer.lasting}"
    minutes = f"{int(state.held // 60)}:{int(state.held % 60):02d}"
    many = sum(map(len, lines.values()))
    if state.steady:
        said = f"steady: within {timer.band} for {minutes}"
    elif state.since is not None:
        said = f"within {timer.band} for {minutes} of {timer.lasting}"
    else:
        said = "not steady yet" if many else "record the reading repeatedly"
    unit = specs[0].unit
    return SteadyWatch(
        number=number,
        do=step.do,
        words=words,
        said=said,
        steady=state.steady,
        picture=_picture(opened, lines, state.since, said) if many > 1 else "",
        watched=tuple(
            Watched(
                key=spec.key,
                slot=f"quantities.{spec.name}.1",
                label=spec.label,
                unit=unit.pretty,
                mean=_written(opened, spec.key, state.means[spec.key]) if state.steady else "",
            )
            for spec in specs
        ),
    )


def _written(opened: RunView, key: str, value: float) -> str:
    spec = opened.program.input_of[key]
    places = decimals_of(spec.gauge.least_count, spec.unit) if spec.gauge and spec.gauge.least_count else 2
    return fixed(spec.unit.from_si(value), places).replace("−", "-")


def _picture(opened: RunView, lines: dict[str, list[tuple[float, float]]], since: float | None, said: str) -> str:
    first = min(t for line in lines.values() for t, _ in line)
    unit = opened.program.input_of[next(iter(lines))].unit
    shown = [
        (texts.one_line(opened.program.input_of[key].name), [((t - first) / 60, unit.from_si(v)) for t, v in line])
        for key, line in lines.items()
    ]
    band = None
    if since is not None:
        inside = [unit.from_si(v) for line in lines.values() for t, v in line if t >= since]
        band = ((since - first) / 60, min(inside), max(inside))
    return drawn.drawing(shown, band, unit.pretty, f"Readings over time: {said}")
