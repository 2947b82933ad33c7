"""Results of earlier runs that a quantity of this one can be taken from, such as a galvanometer's resistance for its conversion."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from cavrel.core.definition.steps import Input
from cavrel.core.quantity.value import MeasuredValue
from cavrel.service.run_view import RunView
from cavrel.store.summaries import Listed

MOST = 6
"""Runs offered for one quantity, the newest ones."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """``label``: the quantity. ``slot``: its cell. ``text``: what would be typed, with its ±. ``unit``: of the column. ``run``, ``title``, ``bench``:
    where it was found."""

    label: str
    slot: str
    text: str
    unit: str
    run: int
    title: str
    bench: str


def wanted(opened: RunView) -> dict[str, list[Input]]:
    """By experiment: the quantities of this run that its results can be taken for."""
    found: dict[str, list[Input]] = {}
    for spec in opened.analysis.program.inputs:
        if spec.from_result is not None:
            found.setdefault(spec.from_result.partition(".")[0], []).append(spec)
    return found


def offers(opened: RunView, runs: Mapping[str, Sequence[Listed]]) -> tuple[Offer, ...]:
    """What can be taken: the result in the quantity's own unit, with its standard uncertainty. ``runs``: by experiment, the newest first."""
    found = []
    for experiment, specs in wanted(opened).items():
        for spec in specs:
            name = (spec.from_result or "").partition(".")[2]
            for one in runs.get(experiment, ()):
                kept = one.body.get("results", {}).get(name)
                if kept is None or one.run == opened.run.id or kept["dimension"] != spec.unit.dimension.si():
                    continue
                value = MeasuredValue(value=kept["value"], u=kept["u"], unit=spec.unit, rule="two")
                offer = Offer(
                    label=spec.label,
                    slot=f"quantities.{spec.name}.1",
                    text=value.bare(),
                    unit=spec.unit.pretty,
                    run=one.run,
                    title=one.title,
                    bench=one.bench,
                )
                found.append(offer)
                if sum(other.slot == offer.slot for other in found) == MOST:
                    break
    return tuple(found)
