"""A plan as entries: what a run document decides before the first reading, so that it can be begun again."""

from collections.abc import Iterator, Mapping
from typing import Any

from cavrel.core.definition import Definition, choose
from cavrel.core.logbook.kinds import check_entry
from cavrel.core.logbook.run import RunDocument, trials

Made = tuple[str, str, Mapping[str, Any]]
"""(kind, slot, body)."""


def plan_entries(definition: Definition, run: RunDocument) -> list[Made]:
    """Conventions, rules, instruments, set points, sizes, words and settings of a run document as entries of a new run; its readings are
    left out. Raises CavrelError for what the experiment does not have."""
    chosen = choose(definition, run.options)
    found = list(_entries(run))
    for kind, slot, body in found:
        check_entry(definition if kind == "option" else chosen, kind, slot, body)
    return found


def _entries(run: RunDocument) -> Iterator[Made]:
    plan = run.plan
    for name, choice in run.options.items():
        yield "option", f"option:{name}", {"choice": choice}
    # Before any number: what is typed is meant in the unit over it.
    for key, heading in run.headings.items():
        body = heading.model_dump(exclude_defaults=True)
        if key in plan.without:  # which an entry of its own says
            body.pop("hidden", None)
        if body:
            yield "heading", f"heading:{key}", body
    for name, value in run.rules.items():
        yield "rule", f"rule:{name}", {"value": value}
    for name, fields in run.instruments.items():
        yield "instrument", f"instrument:{name}", dict(fields)
    for name in plan.without:
        yield "without", f"without:{name}", {"on": True}
    for name, count in plan.rows.items():
        if not any(key.startswith(f"{name}.") for key in plan.settings):
            yield "rows", f"rows:{name}", {"count": count, "planned": True}
    for key, count in plan.trials.items():
        yield "trials", f"trials:{key}", {"count": count, "planned": True}
    for key, texts in plan.settings.items():
        yield "settings", f"settings:{key}", {"texts": list(texts)}
    words = {
        **{f"words:reason.{name}": text for name, text in plan.reasons.items()},
        **{f"words:role.{name}": text for name, text in plan.roles.items()},
        **{f"words:foreseen.{name}": text for name, text in plan.foreseen.items()},
    }
    for slot, text in words.items():
        yield "words", slot, {"text": text}
    for name, shape in run.expected.items():
        yield "foresee", f"foresee:{name}", {"shape": shape}


def set_quantities(definition: Definition, run: RunDocument) -> list[Made]:
    """Quantities that are set, not read (swings in a timing), as readings of the new run."""
    found: list[Made] = []
    for name, cell in run.quantities.items():
        quantity = definition.quantities.get(name)
        text = trials(cell)[0].strip()
        if quantity is not None and quantity.default is not None and quantity.formula is None and text:
            found.append(("reading", f"quantities.{name}.1", {"text": text, "by": "plan"}))
    return found


def only_plan(run: RunDocument, definition: Definition) -> dict[str, Any]:
    """A run document without readings: what is shared, and started again next year."""
    kept = {
        name: cell
        for name, cell in run.quantities.items()
        if name in definition.quantities and definition.quantities[name].default is not None
    }
    made = run.model_copy(
        update={
            "quantities": kept,
            "series": {},
            "traces": {},
            "excluded": {},
            "notes": [],
            "zeros": {},
            "accepted": {},
            "marks": {},
        }
    )
    return made.model_dump(mode="json", exclude_defaults=True, by_alias=True) | {"format": run.format}
