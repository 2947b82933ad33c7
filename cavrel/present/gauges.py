"""The instruments of a run's plan: what is said of each, what could stand in for it, and its zero reading."""

from typing import Any

from cavrel import catalogue
from cavrel.core.definition import Instrument
from cavrel.core.laboratory.selection import of_task
from cavrel.core.logbook import effective
from cavrel.present import instrument_changes
from cavrel.present.texts import amount
from cavrel.service.laboratories import taken
from cavrel.service.run_view import RunView

_TYPED = (
    ("label", "name", ""),
    ("accuracy", "accuracy", "0.5 % + 2 digits"),
    ("class", "class", "1.5"),
    ("full_scale", "full scale", "3 V"),
    ("calibration", "calibration ±", "0.1 %"),
    ("zero", "zero ±", "0.5 mm"),
    ("placement", "positioning ±", "1 mm"),
    ("reaction", "reaction time ±", "0.1 s"),
    ("dead_time", "dead time", "100 µs"),
)
"""What may be typed of an instrument: field, words, an example. A dead time is asked for only where a formula takes it off."""


def instruments(opened: RunView) -> list[dict[str, Any]]:
    """The run's instruments: what is said of each, what could stand in for it, and its zero reading."""
    run, usual = opened.state.run, taken(opened.definition, opened.laboratory).instruments
    found = []
    chosen = chosen_here(opened)
    for name, gauge in opened.program.gauges.items():
        own = opened.definition.instruments[name]
        now = opened.program.definition.instruments[name]
        used = [s for s in opened.program.inputs if s.gauge is not None and s.gauge.name == name]
        if not used:
            continue
        said = [f"{words} {text}" for words, text in _says(now)]
        found.append(
            {
                "name": name,
                "label": gauge.label,
                "kind": now.kind,
                "usual": usual[name]["label"] if name in usual else own.label or own.kind,
                "choices": _choices(
                    opened,
                    own,
                    name in usual,
                    gauge.label if name in chosen else "",
                    now.kind if name in chosen else "",
                ),
                "least_count": now.least_count or "",
                "says": ", ".join(said),
                "source": now.source,
                "zero": run.zeros.get(name, ""),
                "zero_check": now.zero_check,
                "taken": instrument_changes.taken(opened, name),
                "reads": ", ".join(dict.fromkeys(s.label for s in used)),
                "typed": _typed(now, f"{name}.dead_time" in opened.program.constants),
                "own": name in chosen,
                "fields": run.instruments.get(name, {}),
                "shifts": any(not s.exact and s.moved_by_zero for s in used) and not gauge.dial,
            }
        )
    return found


def zero_readings(opened: RunView) -> dict[str, str]:
    """What was read at zero, of each instrument whose zero can be off or was read; empty where it was not read yet."""
    now, read = opened.program.definition.instruments, opened.state.run.zeros
    return {name: read.get(name, "") for name in opened.program.gauges if name in read or now[name].zero}


def chosen_here(opened: RunView) -> set[str]:
    """Instruments that this run itself chose, when it was started or in its plan."""
    entries = opened.state.latest.items()
    chosen = {
        slot.removeprefix("instrument:") for slot, e in entries if slot.startswith("instrument:") and effective(e)[1]
    }
    return chosen | set(opened.run.instruments)


def _choices(
    opened: RunView, own: Instrument, replaced: bool, label: str, kind: str
) -> list[tuple[str, list[dict[str, Any]]]]:
    """What can stand in for an instrument: the laboratory's own first, then kinds of the shared list. ``replaced``: its own kind is not what
    is taken as a rule; ``label`` and ``kind`` of the one chosen."""
    families, kinds = catalogue.families(), catalogue.instruments()
    family, task = families.get(own.kind), of_task(own, kinds)
    here = [
        {"say": i.label, "fields": {**i.fields(), **task}, "chosen": i.label == label}
        for i in opened.laboratory.instruments.values()
        if i.kind == own.kind or (family is not None and i.kind in families and families[i.kind].name == family.name)
    ]
    known = {i.label for i in opened.laboratory.instruments.values()}
    others = [
        {"say": k, "fields": {"kind": k, **task}, "chosen": k == kind and label not in known}
        for k, f in families.items()
        if family is not None
        and f.name == family.name
        and k in kinds
        and (k != own.kind or replaced)
        and (own.instead is None or k in own.instead or k == own.kind)
    ]
    return [(title, found) for title, found in (("in the laboratory", here), ("in the shared list", others)) if found]


def _typed(now: Instrument, counts: bool) -> list[tuple[str, str, str, str]]:
    """Each field that may be typed, with what is in force. ``counts``: a formula takes its dead time off."""
    body = now.model_dump(mode="json", by_alias=True, exclude_none=True)
    return [
        (field, words, like, str(body.get(field, "")))
        for field, words, like in _TYPED
        if counts or field != "dead_time"
    ]


def _says(own: Any) -> list[tuple[str, str]]:
    words = (
        ("reaction", own.reaction),
        ("positioning", own.placement),
        ("zero", own.zero),
        ("calibration", own.calibration),
        ("accuracy", own.accuracy),
        ("dead time", own.dead_time),
    )
    return [(name, amount(text)) for name, text in words if text]
