"""Changes that a bench can make to a plan: more laps in a timing, more trials, more rows, a wider range, other sizes of all of them."""

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from cavrel.core.analysis import Analysis
from cavrel.core.definition.steps import Input
from cavrel.core.errors import CavrelError
from cavrel.core.formula.evaluate import Environment
from cavrel.core.formula.nodes import Name, walk
from cavrel.core.formula.parse import parse
from cavrel.core.quantity.reading import read
from cavrel.core.simulate.apparatus import Planned
from cavrel.core.simulate.settable import resized, settable, step_of
from cavrel.core.words import counted, plural, within

MOST_TRIALS, MOST_ROWS = 10, 40
FARTHEST = 1.6
"""Settings reach at most this many times as far as those that the definition suggests."""

Overrides = Mapping[str, Mapping[str, str]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Setup:
    """What a run is planned with.

    ``planned``: settings and trials.
    ``instruments``: the run's own over the definition's.
    """

    planned: Planned = field(default_factory=Planned)
    instruments: Overrides = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """A change that a bench can make.

    ``say``: in its words.
    ``kind``: ``count``, ``trials``, ``rows``, ``range`` or ``instrument``.
    ``setup``: the plan with it.
    """

    say: str
    kind: str
    setup: Setup


def _allowed(analysis: Analysis, spec: Input, values: np.ndarray) -> bool:
    """Whether all of ``values`` ``(rows,)``, SI, lie in the plausible range of an input."""
    if spec.plausible is None:
        return True
    given = {**analysis.nominal, spec.key: values[None, :]}
    with np.errstate(all="ignore"):
        return bool(np.all(spec.plausible(Environment(given, {})) == 1.0))


def more_counted(setup: Setup, analysis: Analysis) -> Iterator[Change]:
    """More laps in one timing: whole numbers that a bench sets and that a stopwatch counts."""
    program = analysis.program
    for step in program.definition.steps:
        if step.timer is None or step.timer.kind != "laps":
            continue
        for spec in program.inputs:
            if (
                spec.series is not None
                or not spec.whole
                or spec.default is None
                or Name(spec.name) not in set(walk(parse(step.timer.laps)))
            ):
                continue
            text = setup.planned.quantities.get(spec.name, spec.default)
            try:
                now = round(read(text, spec.unit.text).value)
            except CavrelError:
                continue
            then = 2 * now
            if not _allowed(analysis, spec, np.array([float(then)])):
                continue
            quantities = {**setup.planned.quantities, spec.name: str(then)}
            yield Change(
                say=f"{counted(then, step.timer.lap, step.timer.plural)} instead of {now}",
                kind="count",
                setup=replace(setup, planned=replace(setup.planned, quantities=quantities)),
            )


def _trials(setup: Setup, spec: Input) -> int:
    return setup.planned.trials.get(spec.key, spec.repeats)


def _repeated(analysis: Analysis, setup: Setup) -> list[Input]:
    """Inputs that are read by an eye or a hand and could be read again."""
    found = []
    for spec in analysis.program.inputs:
        if spec.exact or spec.extract or spec.chosen or spec.series in setup.planned.without:
            continue
        if spec.series is None and (spec.default is not None or spec.name in setup.planned.quantities):
            continue
        if _trials(setup, spec) > 1 and (spec.gauge is not None or spec.count):
            found.append(spec)
    return found


def more_trials(setup: Setup, analysis: Analysis) -> Iterator[Change]:
    """Twice the trials of what is repeated; what is read with one instrument in one table, such as both sides of an angle, together."""
    together: dict[tuple[str | None, str, int], list[Input]] = {}
    for spec in _repeated(analysis, setup):
        gauge = spec.gauge.name if spec.gauge is not None else spec.key
        together.setdefault((spec.series, gauge, _trials(setup, spec)), []).append(spec)
    for (_, _, now), specs in together.items():
        then = min(2 * now, max(MOST_TRIALS, 2 * min(spec.repeats for spec in specs)))
        if then <= now:
            continue
        trials = {**setup.planned.trials, **{spec.key: then for spec in specs}}
        yield Change(
            say=f"{_named(specs)}: {then} trials instead of {now}",
            kind="trials",
            setup=replace(setup, planned=replace(setup.planned, trials=trials)),
        )


def _named(specs: list[Input]) -> str:
    """What is read, in words: the first as it stands, the others as they go on in a sentence."""
    labels = [specs[0].label, *(within(one.label) for one in specs[1:])]
    return labels[0] if len(labels) == 1 else f"{', '.join(labels[:-1])} and {labels[-1]}"


def settings_of(analysis: Analysis, series: str) -> dict[str, np.ndarray]:
    """Set columns of a table -> settings ``(rows,)`` among the readings to expect, SI."""
    return {
        spec.key: analysis.nominal[spec.key][0]
        for spec in analysis.program.inputs
        if spec.series == series and spec.chosen
    }


def more_rows(setup: Setup, analysis: Analysis) -> Iterator[Change]:
    """Half as many settings again: between those that there are, beyond them, or the first ones once more."""
    for name, series in analysis.program.definition.series.items():
        now = analysis.sheet.rows[name]
        then = min(now + max(now // 2, 2), MOST_ROWS, 3 * series.rows)
        if name in setup.planned.without or then <= now or now < 2:
            continue
        columns = settings_of(analysis, name)
        made = {key: _resized(analysis, key, values, then, len(columns) == 1) for key, values in columns.items()}
        if any(analysis.program.input_of[key].listed for key in columns) or not all(
            _new(analysis, key, values, columns[key], len(columns) == 1) for key, values in made.items()
        ):
            continue
        planned = setup.planned
        kept = {key: texts for key, texts in planned.settings.items() if key.partition(".")[0] != name}
        kept.update({key: texts_of(analysis, key, values) for key, values in made.items()})
        again = any(np.array_equal(values[now:], values[: then - now]) for values in made.values())
        yield Change(
            say=f"{counted(then, series.row)} instead of {now}{', repeating the first settings' if again else ''}",
            kind="rows",
            setup=replace(setup, planned=replace(planned, settings=kept, rows={**planned.rows, name: then})),
        )


def _resized(analysis: Analysis, key: str, values: np.ndarray, rows: int, alone: bool) -> np.ndarray:
    spec = analysis.program.input_of[key]
    return resized(spec, values, rows, step_of(spec, analysis.nominal), alone)


def _new(analysis: Analysis, key: str, values: np.ndarray, before: np.ndarray, alone: bool) -> bool:
    """Whether settings can stand: plausible, none of them twice unless some were so before, and not far beyond what was."""
    twice = len(np.unique(values)) < len(values) and alone and len(np.unique(before)) == len(before)
    far = np.abs(values).max() > FARTHEST * np.abs(before).max()
    return not twice and not far and _allowed(analysis, analysis.program.input_of[key], values)


def wider(setup: Setup, analysis: Analysis) -> Iterator[Change]:
    """As many settings over a range that reaches half as far again."""
    for name, series in analysis.program.definition.series.items():
        columns = settings_of(analysis, name)
        if name in setup.planned.without or len(columns) != 1:
            continue
        (key, values), spec = next(iter(columns.items())), analysis.program.input_of[next(iter(columns))]
        low, high = float(np.min(values)), float(np.max(values))
        fixed = spec.whole or spec.count or spec.listed or spec.exact  # what is exact is a time on the clock
        if fixed or spec.plausible is None or not 0 < low < high or len(values) < 3:
            continue
        usual = _stretches(analysis, key)
        for reach in (1.5, 1.25):
            if high * reach > FARTHEST * usual:
                continue
            stretched = low + (values - low) * (high * reach - low) / (high - low)
            stretched = settable(spec, stretched, step_of(spec, analysis.nominal), low)
            if len(np.unique(stretched)) == len(np.unique(values)) and _allowed(analysis, spec, stretched):
                texts = texts_of(analysis, key, stretched)
                top = f"{texts[int(np.argmax(stretched))]} {spec.unit.pretty}".strip()
                yield Change(
                    say=f"as many {plural(series.row)}, up to {top}",
                    kind="range",
                    setup=replace(
                        setup, planned=replace(setup.planned, settings={**setup.planned.settings, key: texts})
                    ),
                )
                break


def _stretches(analysis: Analysis, key: str) -> float:
    """How far the settings that the definition suggests reach, SI, where they are spread over a range; zero where they are a list of what
    there is, such as coils or lamps."""
    suggested = [one for one in analysis.program.definition.suggest if one.target == key]
    if not suggested or "linspace" not in suggested[0].formula:
        return 0.0
    return float(np.max(analysis.suggested(key)))


def texts_of(analysis: Analysis, key: str, values: np.ndarray) -> list[str]:
    """Settings ``(rows,)``, SI, as they would be written, to what the instrument can be set to."""
    spec = analysis.program.input_of[key]
    step = spec.gauge.least_count if spec.gauge is not None and spec.gauge.least_count else None
    texts = []
    for value in values.tolist():
        shown = spec.unit.from_si(value)
        if step is None:
            texts.append(f"{shown:.6g}")
            continue
        size = step / spec.unit.factor
        decimals = max(0, -math.floor(math.log10(size) + 1e-9))
        texts.append(f"{round(shown / size) * size:.{decimals}f}")
    return texts


def sizes(setup: Setup, analysis: Analysis) -> Iterator[Setup]:
    """Plans with fewer or more trials and rows."""
    repeated = _repeated(analysis, setup)
    for share in (0.5, 0.75, 1.0, 1.5, 2.0):
        rows = {
            name: max(4, min(MOST_ROWS, round(count * share)))
            for name, count in analysis.sheet.rows.items()
            if count > 4 and name not in setup.planned.without
        }
        if any(not _can_be(analysis, name, count) for name, count in rows.items()):
            continue
        for times in (0.4, 0.6, 1.0, 2.0):
            trials = {
                spec.key: max(2, min(max(MOST_TRIALS, spec.repeats), round(_trials(setup, spec) * times)))
                for spec in repeated
            }
            kept = dict(setup.planned.settings)
            for name, count in rows.items():
                columns = settings_of(analysis, name)
                for key, values in columns.items():
                    if count != len(values):
                        made = _resized(analysis, key, values, count, len(columns) == 1)
                        kept[key] = texts_of(analysis, key, made)
            yield replace(
                setup,
                planned=replace(
                    setup.planned,
                    settings=kept,
                    trials={**setup.planned.trials, **trials},
                    rows={**setup.planned.rows, **rows},
                ),
            )
            if not repeated:
                break


def _can_be(analysis: Analysis, series: str, rows: int) -> bool:
    """Whether a table can have so many rows."""
    columns = settings_of(analysis, series)
    return (
        rows <= analysis.sheet.rows[series]
        or not columns
        or all(
            not analysis.program.input_of[key].listed
            and _new(analysis, key, _resized(analysis, key, values, rows, len(columns) == 1), values, len(columns) == 1)
            for key, values in columns.items()
        )
    )
