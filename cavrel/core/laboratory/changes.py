"""What two versions of a laboratory differ in, in words."""

from collections.abc import Mapping
from typing import Any

from cavrel.core.definition.parts import Model
from cavrel.core.definition.rules import RULES
from cavrel.core.laboratory.document import Laboratory

_FIELDS = {
    "label": "label",
    "kind": "kind",
    "count": "number",
    "usual": "used by default",
    "calibrated": "calibration date",
    "note": "note",
    "least_count": "least count",
    "reaction": "reaction",
    "placement": "placing",
    "zero": "zero ±",
    "calibration": "calibration ±",
    "accuracy": "accuracy",
    "class": "class",
    "full_scale": "full scale",
    "value": "value",
    "u": "u",
    "source": "source",
    "results": "results compared with it",
}


def changes(before: Laboratory, after: Laboratory) -> list[str]:
    """Each difference as a sentence without its full stop; none where they are alike."""
    found = _items(before.instruments, after.instruments) + _items(before.accepted, after.accepted)
    old, new = before.house_rules().model_dump(), after.house_rules().model_dump()
    for name, rule in RULES.items():
        if old[name] != new[name]:
            found.append(f"{rule.title}: {rule.choice(old[name])} → {rule.choice(new[name])}")
    if before.rubric != after.rubric:
        found.append("the rubric: " + ", ".join(f"{c.label} {c.points:g}" for c in after.rubric.values()))
    for name in {**before.forms, **after.forms}:
        old_form, new_form = before.forms.get(name), after.forms.get(name)
        if old_form is None and new_form is not None:
            found.append(f"form “{new_form.title}” added")
        elif new_form is None and old_form is not None:
            found.append(f"template “{old_form.title}” removed")
        elif old_form != new_form and new_form is not None:
            found.append(f"form “{new_form.title}” changed")
    return found


def _items(before: Mapping[str, Any], after: Mapping[str, Any]) -> list[str]:
    found = []
    for name in {**before, **after}:
        if name not in before:
            found.append(f"{after[name].label} added")
        elif name not in after:
            found.append(f"{before[name].label} removed")
        elif before[name] != after[name]:
            found.append(f"{after[name].label}: {', '.join(_fields(before[name], after[name]))}")
    return found


def _fields(before: Model, after: Model) -> list[str]:
    old, new = (one.model_dump(mode="json", by_alias=True) for one in (before, after))
    return [
        f"{_FIELDS.get(name, name)} {_said(old[name])} → {_said(new[name])}" for name in new if old[name] != new[name]
    ]


def _said(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(str(one) for one in value) or "nothing"
    return "none" if value is None or value == "" else str(value)
