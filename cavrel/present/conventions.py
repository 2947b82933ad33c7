"""What each convention of an experiment changes, in words, before it is chosen."""

from collections.abc import Mapping
from typing import Any

from cavrel.core.definition import choose
from cavrel.core.errors import CavrelError
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.present.optional import optional
from cavrel.service.run_view import RunView


@optional("what conventions change", dict)
def what_change(opened: RunView) -> dict[str, dict[str, str]]:
    """By convention and choice, what it changes of formulas and labels, in words; nothing for the choice in force."""
    found: dict[str, dict[str, str]] = {}
    now = opened.state.run.options
    for name, option in opened.base.options.items():
        found[name] = {}
        for choice in option.choices:
            if choice == now.get(name, option.default):
                continue
            try:
                other = choose(opened.base, {**now, name: choice})
            except CavrelError:
                found[name][choice] = "cannot be combined with the other conventions chosen"
                continue
            found[name][choice] = "; ".join(_differences(opened.definition.document(), other.document())[:4])
    return found


def _differences(one: Mapping[str, Any], other: Mapping[str, Any]) -> list[str]:
    """Formulas that differ, as ``T = … instead of …``, then columns and quantities that come or go."""
    found = []

    def formulas(document: Mapping[str, Any]) -> dict[str, str]:
        made = {n: str(q["formula"]) for n, q in document.get("quantities", {}).items() if q.get("formula")}
        for series in document.get("series", {}).values():
            made |= {n: str(c["formula"]) for n, c in series.get("columns", {}).items() if c.get("formula")}
        return made | {n: str(r["formula"]) for n, r in document.get("results", {}).items() if r.get("formula")}

    before, after = formulas(one), formulas(other)
    for name, text in after.items():
        if before.get(name) != text:
            old = f" instead of {typeset(parse(before[name]))}" if name in before else ""
            found.append(f"{name} = {typeset(parse(text))}{old}")
    for name, series in other.get("series", {}).items():
        old_columns = one.get("series", {}).get(name, {}).get("columns", {})
        columns = series.get("columns", {})
        found += [
            f"adds the column {body['label']}"
            for c, body in columns.items()
            if c not in old_columns and not body.get("formula")
        ]
        found += [f"removes the column {body['label']}" for c, body in old_columns.items() if c not in columns]
    found += [
        f"adds the table {s['label']}" for n, s in other.get("series", {}).items() if n not in one.get("series", {})
    ]
    found += [f"also read: {q['label']}" for n, q in _read(other).items() if n not in _read(one)]
    found += [f"not read: {q['label']}" for n, q in _read(one).items() if n not in _read(other)]
    return found


def _read(document: Mapping[str, Any]) -> dict[str, Any]:
    """Quantities that are typed."""
    return {n: q for n, q in document.get("quantities", {}).items() if not q.get("formula")}
