"""What the cupboard's page shows: what the laboratory owns, what it holds true, how it counts, and who changed what when."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from cavrel import catalogue
from cavrel.core.cupboard import Cupboard, OwnInstrument, OwnValue
from cavrel.core.cupboard.changes import changes
from cavrel.core.cupboard.edits import known_by
from cavrel.core.definition import Definition
from cavrel.core.words import counted
from cavrel.present.house import Shown, shown
from cavrel.present.texts import amount

FIELDS = (
    ("least_count", "least count", "1 mm"),
    ("zero", "± of its zero", "0.3 mm"),
    ("accuracy", "accuracy as printed", "0.5 % + 2 digits"),
    ("class", "class", "1.5"),
    ("full_scale", "full scale", "3 V"),
    ("calibration", "± of its calibration", "0.02 %"),
    ("placement", "± of placing it", "0.5 mm"),
    ("reaction", "± of reaction", "0.1 s"),
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


def content(cupboard: Cupboard, shelf: Mapping[str, Definition]) -> dict[str, Any]:
    """What the page shows beside its frame and history."""
    return {
        "instruments": [_instrument(name, own, shelf) for name, own in cupboard.instruments.items()],
        "values": [_value(name, own, shelf) for name, own in cupboard.accepted.items()],
        "kinds": list(catalogue.instruments()),
        "fields": FIELDS,
        "results": [
            (d.title, [(f"{d.id}.{name}", r.label) for name, r in d.results.items()])
            for d in shelf.values()
            if d.results
        ],
        **rules(cupboard),
    }


def rules(cupboard: Cupboard) -> dict[str, Any]:
    """The house rules with their examples."""
    return {"rules": house(cupboard.rules)}


def house(chosen: Mapping[str, Any]) -> list[Shown]:
    """House rules as ``chosen``, each with its worked example. Raises ValidationError for what is no rule."""
    return shown(Cupboard(rules=dict(chosen)).house_rules())


def _instrument(name: str, own: OwnInstrument, shelf: Mapping[str, Definition]) -> Item:
    says = [f"{words} {amount(own.fields()[field])}" for field, words, _ in FIELDS if field in own.fields()]
    if own.calibrated:
        says.append(f"calibrated {own.calibrated}{_how_old(own.calibrated)}")
    families = catalogue.families()
    alike = {own.kind} | {k for k, f in families.items() if own.kind in families and f.name == families[own.kind].name}
    taking = any(i.kind in alike for d in shelf.values() for i in d.instruments.values())
    where = f"taken for every {own.kind}" if own.usual else "may be chosen in Plan"
    if not taking:
        where = "no experiment names its kind"
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
        return ", which is no day"
    if gone < 0:
        return ", which is still to come"
    return f", {counted(gone // 365, 'year')} ago" if gone >= 365 else ""


def _value(name: str, own: OwnValue, shelf: Mapping[str, Definition]) -> Item:
    named = [
        f"{d.results[r].label} of “{d.title}”"
        for place in own.results
        for e, _, r in [place.partition(".")]
        if (d := shelf.get(e)) is not None and r in d.results
    ]
    shipped = catalogue.accepted().get(name)
    where = f"compared with {'; '.join(named)}" if named else ""
    if shipped is not None:
        where = f"instead of {shipped.label}{'; ' if where else ''}{where}"
    return Item(
        name=name,
        own=own,
        says=f"{amount(own.value)}{f' ± {amount(own.u)}' if own.u else ''}",
        where=where or f"formulas may name it {name}",
        typed=own.model_dump(mode="json"),
        was=known_by(own),
    )


def history(versions: Sequence[tuple[int, str, datetime, Cupboard]]) -> list[Change]:
    """What each version changed; ``versions``: number, author, moment and content, newest first."""
    found = []
    for i, (number, author, moment, cupboard) in enumerate(versions):
        before = versions[i + 1][3] if i + 1 < len(versions) else None
        what = changes(before, cupboard) if before is not None else []
        first = "as it was laid out" if number == 1 else "" if before is not None else "…"
        found.append(
            Change(version=number, author=author, made_at=moment, what=tuple(what) or ((first,) if first else ()))
        )
    return found
