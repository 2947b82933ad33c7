"""What the laboratory's page shows: what the laboratory owns, what it holds true, how it counts, and who changed what when."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from cavrel import catalogue
from cavrel.core.definition import Definition
from cavrel.core.laboratory import Laboratory, OwnInstrument, OwnValue
from cavrel.core.laboratory.changes import changes
from cavrel.core.laboratory.edits import known_by
from cavrel.core.words import counted
from cavrel.present.house import Shown, shown
from cavrel.present.texts import amount

FIELDS = (
    ("least_count", "least count", "1 mm"),
    ("zero", "zero ±", "0.3 mm"),
    ("accuracy", "accuracy (% of reading)", "0.5 % + 2 digits"),
    ("class", "class", "1.5"),
    ("full_scale", "full scale", "3 V"),
    ("calibration", "calibration ±", "0.02 %"),
    ("placement", "positioning ±", "0.5 mm"),
    ("reaction", "reaction time ±", "0.1 s"),
)
"""Fields of an instrument that are typed: name, words, an example."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Item:
    """An instrument or a value as its line shows it.

    ``name``: in the document.
    ``own``: itself.
    ``says``: what is known of it, in words.
    ``where``: experiments that take it, in words.
    ``typed``: field -> text, as its form shows it.
    ``was``: itself as JSON, so that a form knows whether somebody changed it meanwhile.
    """

    name: str
    own: OwnInstrument | OwnValue
    says: str
    where: str
    typed: Mapping[str, Any]
    was: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """One version of the history.

    ``version``: its number.
    ``author``: who made it.
    ``made_at``: when.
    ``what``: what it changed, in sentences.
    """

    version: int
    author: str
    made_at: datetime
    what: tuple[str, ...]


def content(laboratory: Laboratory, experiments: Mapping[str, Definition]) -> dict[str, Any]:
    """What the page shows within its frame and history."""
    return {
        "instruments": [_instrument(name, own, experiments) for name, own in laboratory.instruments.items()],
        "values": [_value(name, own, experiments) for name, own in laboratory.accepted.items()],
        "kinds": list(catalogue.instruments()),
        "fields": FIELDS,
        "results": [
            (d.title, [(f"{d.id}.{name}", r.label) for name, r in d.results.items()])
            for d in experiments.values()
            if d.results
        ],
        **rules(laboratory),
    }


def rules(laboratory: Laboratory) -> dict[str, Any]:
    """The house rules with their examples."""
    return {"rules": house(laboratory.rules)}


def house(chosen: Mapping[str, Any]) -> list[Shown]:
    """House rules as ``chosen``, each with its worked example. Raises ValidationError for what is no rule."""
    return shown(Laboratory(rules=dict(chosen)).house_rules())


def _instrument(name: str, own: OwnInstrument, experiments: Mapping[str, Definition]) -> Item:
    says = [f"{words} {amount(own.fields()[field])}" for field, words, _ in FIELDS if field in own.fields()]
    if own.calibrated:
        says.append(f"calibrated {own.calibrated}{_how_old(own.calibrated)}")
    families = catalogue.families()
    alike = {own.kind} | {k for k, f in families.items() if own.kind in families and f.name == families[own.kind].name}
    taking = any(i.kind in alike for d in experiments.values() for i in d.instruments.values())
    where = f"used for every {own.kind}" if own.usual else "can be chosen in Plan"
    if not taking:
        where = "no experiment uses this kind"
    body = own.model_dump(mode="json", by_alias=True)
    return Item(
        name=name,
        own=own,
        says=", ".join(says),
        where=where,
        typed={key: "" if value is None else value for key, value in body.items()},
        was=known_by(own),
    )


def _how_old(day: str) -> str:
    """That a calibration is old, in words; nothing where it is not, or where the day is none."""
    try:
        gone = (date.today() - date.fromisoformat(day)).days
    except ValueError:
        return ", which is not a date"
    if gone < 0:
        return ", which is in the future"
    return f", {counted(gone // 365, 'year')} ago" if gone >= 365 else ""


def _value(name: str, own: OwnValue, experiments: Mapping[str, Definition]) -> Item:
    named = [
        f"{d.results[r].label} of “{d.title}”"
        for place in own.results
        for e, _, r in [place.partition(".")]
        if (d := experiments.get(e)) is not None and r in d.results
    ]
    shipped = catalogue.accepted().get(name)
    where = f"compared with {'; '.join(named)}" if named else ""
    if shipped is not None:
        where = f"instead of {shipped.label}{'; ' if where else ''}{where}"
    return Item(
        name=name,
        own=own,
        says=f"{amount(own.value)}{f' ± {amount(own.u)}' if own.u else ''}",
        where=where or f"formulas can use it as {name}",
        typed=own.model_dump(mode="json"),
        was=known_by(own),
    )


def history(versions: Sequence[tuple[int, str, datetime, Laboratory]]) -> list[Change]:
    """What each version changed; ``versions``: number, author, moment and content, newest first."""
    found = []
    for i, (number, author, moment, laboratory) in enumerate(versions):
        before = versions[i + 1][3] if i + 1 < len(versions) else None
        what = changes(before, laboratory) if before is not None else []
        first = "first version" if number == 1 else "" if before is not None else "…"
        found.append(
            Change(version=number, author=author, made_at=moment, what=tuple(what) or ((first,) if first else ()))
        )
    return found
