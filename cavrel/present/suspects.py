"""What Judge shows of slips that may have happened: a card for each cause, with what it would change and what can be done about it."""

import json
from dataclasses import dataclass

from cavrel.core.slips import Suspect
from cavrel.present import notes
from cavrel.service.opened import Opened

_FAMILIES = {
    "swapped": "Two digits swapped",
    "misread": "A digit misread",
    "decimal": "A decimal point moved",
    "unit": "Another unit",
    "count": "A miscount",
    "angle": "An angle taken wrongly",
    "diameter": "Radius and diameter",
    "offset": "The same amount throughout",
    "exchanged": "In each other’s place",
    "neighbour": "A reading of the row beside it",
    "derived": "Computed, not read",
    "sign": "A sign the wrong way round",
    "index": "Numbered wrongly",
    "temperature": "Another scale of temperature",
    "side": "One side read twice",
    "frequency": "Frequency for wavelength",
    "stretch": "Samples that should not count",
    "law": "Another law or convention",
}
MOST = 4
"""So many are shown; the rest are less likely than all of these."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Act:
    """What a card offers. ``act``: set-right, choose or stands; ``slot`` goes with it, ``writes`` is JSON: what to write, leave out or choose."""

    label: str
    act: str
    slot: str
    writes: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Card:
    """One cause.

    ``title``: of its kind.
    ``where``: the place in words.
    ``at``: the place as the logbook names it.
    ``say``: what happened and what speaks for it.
    ``also``: other readings of the same place, as clauses.
    ``percent``: how likely, as text.
    ``before``, ``after``: the first result.
    ``acts``: what it offers.
    """

    title: str
    where: str
    at: str
    say: str
    also: str
    percent: str
    before: str
    after: str
    acts: tuple[Act, ...]


def cards(opened: Opened) -> list[Card]:
    """The likeliest causes, likeliest first."""
    return [_card(opened, suspect) for suspect in opened.suspected.suspects[:MOST]]


def _card(opened: Opened, suspect: Suspect) -> Card:
    reason = f"{suspect.hypothesis.say} (Cavrel’s suspicion, {percent(suspect.probability)})"
    acts = []
    written = [_write(opened, key, row, trial, text) for key, row, trial, text in suspect.writes]
    out = [_slot(opened, key, row, trial) for key, row, trial in suspect.leaves_out]
    stretches = [
        {"slot": f"stretch:{key}.{row}" + (f".{trial}" if trial > 1 else ""), "begin": begin, "end": end}
        for key, row, trial, begin, end in suspect.stretches
    ]
    if suspect.chooses:
        option = suspect.at.removeprefix("options.")
        acts.append(Act(label="Choose it", act="choose", slot=f"option:{option}", writes=json.dumps(suspect.chooses)))
    elif written or out or stretches:
        label = "Set it right" if written or stretches else "Leave it out"
        right = {"writes": written, "out": out, "stretches": stretches, "reason": reason[:300]}
        whole = json.dumps(right, ensure_ascii=False)
        acts.append(Act(label=label, act="set-right", slot=suspect.at, writes=whole))
    acts.append(Act(label="Not this", act="stands", slot=f"{suspect.hypothesis.code}@{suspect.at}"))
    return Card(
        title=_FAMILIES[suspect.family],
        where=where(opened, suspect.at),
        at=suspect.at,
        say=suspect.say,
        also="; or ".join(suspect.also),
        percent=percent(suspect.probability),
        before=suspect.before,
        after=suspect.after,
        acts=tuple(acts),
    )


def percent(probability: float) -> str:
    """A probability for people."""
    return "more than 99 %" if probability > 0.99 else f"{100 * probability:.0f} %"


def where(opened: Opened, at: str) -> str:
    """A place of the sheet in words."""
    if at.startswith("options."):
        return opened.base.options[at.removeprefix("options.")].label
    spec = opened.program.input_of.get(at)
    if spec is not None and spec.series is not None:
        return f"{opened.definition.series[spec.series].short}, every “{spec.label}”"
    return notes.where(opened, at)


def _slot(opened: Opened, key: str, row: int, trial: int) -> str:
    spec = opened.program.input_of[key]
    return f"{key}.{row}.{trial}" if spec.series is not None else f"quantities.{key}.{trial}"


def _write(opened: Opened, key: str, row: int, trial: int, text: str) -> dict[str, object]:
    """One correction: where, what, instead of what, and over which entry."""
    slot = _slot(opened, key, row, trial)
    latest = opened.state.latest.get(slot)
    entry = next(e for e in opened.analysis.sheet.inputs if e.spec.key == key)
    return {"slot": slot, "text": text, "was": entry.text(row, trial), "over": latest.id if latest else None}
