"""Changes of a laboratory, one thing at a time, so that two people who change different things both keep what they did."""

import json
import re
from collections.abc import Mapping
from typing import Any

from cavrel.core.laboratory.document import Laboratory, LaboratoryError, OwnInstrument, OwnValue, load


class ChangedMeanwhile(LaboratoryError):
    """Somebody else changed the same thing since it was read."""


def known_by(own: OwnInstrument | OwnValue) -> str:
    """An item as text, the same for the same item: what a form remembers that it was when it was read."""
    return json.dumps(own.model_dump(mode="json", by_alias=True, exclude_defaults=True), sort_keys=True)


def put(laboratory: Laboratory, part: str, name: str, body: Mapping[str, Any], was: str) -> Laboratory:
    """With an item of ``part`` (``instruments`` or ``accepted``) as ``body`` says; ``name`` empty for a new one, ``was`` what it was when it
    was read. Raises LaboratoryError, ChangedMeanwhile."""
    items = dict(getattr(laboratory, part))
    if name:
        _unchanged(items, name, was)
    else:
        name = _name(str(body.get("label", "")), items)
    return _with(laboratory, part, {**items, name: dict(body)})


def drop(laboratory: Laboratory, part: str, name: str, was: str) -> Laboratory:
    """Without an item. Raises ChangedMeanwhile."""
    items = dict(getattr(laboratory, part))
    if name not in items:
        return laboratory
    _unchanged(items, name, was)
    return _with(laboratory, part, {key: own for key, own in items.items() if key != name})


def with_rules(laboratory: Laboratory, rules: Mapping[str, Any]) -> Laboratory:
    """With house rules; those that say what Cavrel says anyway are left out. Raises LaboratoryError."""
    made = load({**_document(laboratory), "rules": dict(rules)})
    usual = Laboratory().house_rules().model_dump()
    own = made.house_rules().model_dump()
    return load(
        {**_document(laboratory), "rules": {name: value for name, value in own.items() if value != usual[name]}}
    )


_LINE = re.compile(r"(\d+(?:[.,]\d+)?)\s+(\S.*)")


def rubric_text(laboratory: Laboratory) -> str:
    """The rubric as lines to edit: the most points, then what is judged."""
    return "\n".join(f"{c.points:g} {c.label}" for c in laboratory.rubric.values())


def with_rubric(laboratory: Laboratory, text: str) -> Laboratory:
    """With the rubric that lines such as ``4 Graph: axes and points`` say; a line that stays keeps its name, and so its points. Raises
    LaboratoryError naming the line."""
    known = {c.label: name for name, c in laboratory.rubric.items()}
    found: dict[str, Any] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        read = _LINE.fullmatch(line.strip())
        if read is None:
            raise LaboratoryError(f"line {number}", "begin with the maximum points, such as '4 Graph: axes and points'")
        label = read[2].strip()
        name = known.get(label) or _name(label, {**laboratory.rubric, **found})
        if name in found:
            raise LaboratoryError(f"line {number}", f"'{label}' stands here twice")
        found[name] = {"label": label, "points": float(read[1].replace(",", "."))}
    if not found:
        raise LaboratoryError("", "a rubric has at least one line")
    return load({**_document(laboratory), "rubric": found})


def with_form(laboratory: Laboratory, name: str, title: str, body: str) -> Laboratory:
    """With a form of report, ``name`` empty for a new one. Raises LaboratoryError."""
    forms = dict(_document(laboratory).get("forms", {}))
    chosen = name or _name(title, forms).replace("_", "-")
    return load({**_document(laboratory), "forms": {**forms, chosen: {"title": title, "body": body}}})


def without_form(laboratory: Laboratory, name: str) -> Laboratory:
    """Without a form of report."""
    forms = {n: f for n, f in _document(laboratory).get("forms", {}).items() if n != name}
    return load({**_document(laboratory), "forms": forms})


def _unchanged(items: Mapping[str, OwnInstrument | OwnValue], name: str, was: str) -> None:
    if name not in items:
        raise ChangedMeanwhile(name, "somebody removed it meanwhile; what you typed is below, and saving restores it")
    if known_by(items[name]) != was:
        raise ChangedMeanwhile(
            name, "somebody changed it meanwhile; what you typed is below, and saving again replaces their change"
        )


def _with(laboratory: Laboratory, part: str, items: Mapping[str, Any]) -> Laboratory:
    return load({**_document(laboratory), part: {n: i if isinstance(i, dict) else _plain(i) for n, i in items.items()}})


def _document(laboratory: Laboratory) -> dict[str, Any]:
    return laboratory.model_dump(mode="json", by_alias=True, exclude_defaults=True)


def _plain(own: OwnInstrument | OwnValue) -> dict[str, Any]:
    return own.model_dump(mode="json", by_alias=True, exclude_defaults=True)


def _name(label: str, taken: Mapping[str, Any]) -> str:
    """A name made of a label, of letters that every keyboard has, that nothing else has."""
    words = re.sub(r"[^A-Za-z0-9]+", "_", label).strip("_").lower()[:20].strip("_")
    if not words or not words[0].isalpha():
        words = f"own_{words}".strip("_")[:20]
    name, number = words, 2
    while name in taken:
        name, number = f"{words}_{number}", number + 1
    return name
