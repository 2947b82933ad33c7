"""Corrections that one part found and another may take over: the difference it makes, before and after it is chosen."""

import math
from dataclasses import dataclass

from cavrel import catalogue
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.errors import CavrelError
from cavrel.core.findings.part_corrections import Changed, carried
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class Card:
    """One correction.

    ``label``: of the result that is carried; ``text``: its value.
    ``on``: it is carried now.
    ``says``: whether it is worth carrying, a sentence.
    ``rows``: label, value without, value with, difference, and agreement without and with, of each result it changes.
    ``slot``, ``choice``, ``act``, ``means``: what one press writes, its words, and what the choice is.
    """

    label: str
    text: str
    on: bool
    says: str
    rows: list[tuple[str, str, str, str, str, str]]
    slot: str
    choice: str
    act: str
    means: str


@optional("corrections from other parts", list)
def cards(opened: RunView) -> list[Card]:
    """A card for every correction that has a value; one more analysis each."""
    found = []
    run = opened.state.run
    for name, option in opened.base.options.items():
        now = run.options.get(name, option.default)
        for key, choice in option.choices.items():
            over = choice.over or next(c for c in (option.default, *option.choices) if c != key)
            if choice.carries is None or now not in (key, over):
                continue
            on = key == now
            other = over if on else key
            swapped = _under(opened, name, other)
            if swapped is None:
                continue
            without, carrying = (swapped, opened.analysis) if on else (opened.analysis, swapped)
            if carrying.results[choice.carries].reason:
                continue
            seen = carried(choice.carries, without, carrying)
            if not seen.changed:
                continue
            correction = seen.correction
            body = opened.definition.results[choice.carries]
            says = "" if seen.tells is not False else _SMALL
            found.append(
                Card(
                    label=body.label,
                    text=correction.measured(opened.analysis.rules.rounding).text(),
                    on=on,
                    says=says,
                    rows=[_row(opened, carrying, one) for one in seen.changed],
                    slot=f"option:{name}",
                    choice=other,
                    act="Do not apply" if on else "Apply",
                    means=option.choices[other].label,
                )
            )
    return found


_SMALL = "It is less than two standard uncertainties from zero: it may be zero, and applying it adds its uncertainty."


def _under(opened: RunView, option: str, choice: str) -> Analysis | None:
    """The run's analysis under another choice; None where its conventions do not go together."""
    run = opened.state.run
    try:
        program = catalogue.program_of(
            opened.base, run.instruments, {**run.options, option: choice}, run.accepted, run.headings
        )
        return analyse(program, run, opened.analysis.rules)
    except CavrelError:
        return None


def _row(opened: RunView, carrying: Analysis, one: Changed) -> tuple[str, str, str, str, str, str]:
    rounding, unit = opened.analysis.rules.rounding, one.carried.unit.difference
    label = carrying.program.definition.results[one.name].label
    differs = opened.analysis.measured(one.by, one.u, unit).text()
    texts = (one.without.measured(rounding).text(), one.carried.measured(rounding).text())
    return label, *texts, differs, _apart(one.z_without), _apart(one.z_carried)


def _apart(z: float) -> str:
    return f"{z:+.1f} u".replace("-", "\u2212") if math.isfinite(z) else ""


def data(opened: RunView) -> list[dict[str, object]]:
    """The same as data."""
    keys = ("result", "without", "carried", "difference", "apart_without", "apart_carried")
    return [
        {
            "correction": card.label,
            "value": card.text,
            "carried": card.on,
            "changes": [dict(zip(keys, row, strict=True)) for row in card.rows],
        }
        for card in cards(opened)
    ]
