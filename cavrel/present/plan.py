"""What Plan shows: what is set, read and kept equal, the table as it will be, instruments, checks, and what it promises."""

from dataclasses import dataclass, replace
from typing import Any

from cavrel import catalogue
from cavrel.core.definition import Series, choose
from cavrel.core.definition.headings import Heading, hidden
from cavrel.core.definition.readings import Column
from cavrel.core.document.forecast import WANTED, forecast_document, setup_of
from cavrel.core.errors import CavrelError
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.logbook import Entry, effective
from cavrel.core.logbook.kinds.planning import REASONS, ROLES, SHAPES
from cavrel.core.logbook.planned import only_plan
from cavrel.core.logbook.run import trials
from cavrel.core.plan.changes import Setup
from cavrel.core.plan.forecast import Forecast
from cavrel.core.plan.improvements import Planner
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import decimals_of
from cavrel.core.words import counted, within
from cavrel.graph import shapes
from cavrel.present import conventions, gauges, notes
from cavrel.present.example import gravity
from cavrel.present.expected_result import Offer, offer, planner_of, promise, promised_of
from cavrel.present.notes import Note
from cavrel.present.optional import optional
from cavrel.present.rules import own_rules
from cavrel.present.setpoints import set_points
from cavrel.present.texts import moment, one_line
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class Ticked:
    """Something to tick off.

    ``place``: of the tick.
    ``text``: what it stands for.
    ``by``: who ticked it, and when; empty while nobody has.
    ``unit``: of a value that is read in it, None where there is none.
    ``value``: that was read.
    """

    place: str
    text: str
    by: str
    unit: str | None = None
    value: str = ""


def content(opened: RunView) -> dict[str, Any]:
    """What the page shows within its frame."""
    definition, run = opened.definition, opened.state.run
    return {
        **live(opened),
        "set_here": [c.label for s in definition.series.values() for c in s.columns.values() if c.column_role.chosen]
        + [q.label for n, q in definition.quantities.items() if q.default is not None],
        "read_here": [c.label for s in definition.series.values() for c in s.columns.values() if c.column_role.wanted]
        + [q.label for q in definition.quantities.values() if q.formula is None and q.default is None],
        "reasons": {name: (words, run.plan.reasons.get(name, "")) for name, words in REASONS.items()},  # type: ignore[call-overload]
        "roles": {name: (words, run.plan.roles.get(name, "")) for name, words in ROLES.items()},  # type: ignore[call-overload]
        "foreseen": {
            name: (definition.results[name].label, run.plan.foreseen.get(name, "")) for name in definition.led
        },
        "settable": [
            (name, q.label, units.pretty(q.unit or ""), trials(run.quantities.get(name))[0], q.default)
            for name, q in definition.quantities.items()
            if q.default is not None and q.formula is None
        ],
        "shapes": [(name, shapes.shape(name)) for name in SHAPES],
        "fit": _predicted_fit(opened),
        "fit_words": _fit_words(opened),
        "predicted_shape": run.expected.get(_predicted_fit(opened), ""),
        "instruments": gauges.instruments(opened),
        "own_rules": own_rules(opened),
        "g_here": gravity(opened),
        "conventions_change": conventions.what_change(opened),
    }


def live(opened: RunView) -> dict[str, Any]:
    """What of it follows every change."""
    promised = promised_of(opened)
    shown: dict[str, Any] = {
        "promises": [],
        "offers": [],
        "idle": "",
        "minutes": "",
        "unpredicted": promised if isinstance(promised, str) else "",
        "ruled": _ruled(opened),
        "singles": _singles(opened),
        "set_points": set_points(opened),
        "ticks": _ticks(opened),
        "states": _states(opened),
    }
    if isinstance(promised, str):
        return shown
    setup, found = promised
    planner = planner_of(opened)
    shown["promises"] = [promise(opened, one) for one in found.results.values()]
    shown["minutes"] = f"{planner.minutes(found, setup):.0f}"
    shown["offers"], shown["idle"] = _offered(opened, planner, setup, found)
    return shown


@optional("how the plan stands", dict)
def _states(opened: RunView) -> dict[str, str]:
    """How each folded part of the plan stands, by its key."""
    definition, run, ticks = opened.definition, opened.state.run, _ticks(opened)
    shape = run.expected.get(_predicted_fit(opened), "")
    words = [text for name in definition.led if (text := run.plan.foreseen.get(name, ""))]
    told = [f"{_fit_words(opened)}: {shape}"] * bool(shape) + [f"“{text}”" for text in words]
    gauges_here = definition.instruments
    zeros = sum(1 for name in gauges_here if run.zeros.get(name))
    checks = [t for of in ("set_up", "check") for t in ticks[of]]
    at_hand = ticks["apparatus"]
    chosen = [
        option.choices[run.options.get(name, option.default)].label for name, option in opened.base.options.items()
    ]
    roles = [f"{words} {who}" for name, words in ROLES.items() if (who := run.plan.roles.get(name, ""))]  # type: ignore[call-overload]
    own = own_rules(opened)
    laboratory = opened.run.laboratory
    reasons = sum(1 for text in run.plan.reasons.values() if text)
    return {
        "prediction": "; ".join(told) or "none yet",
        "instruments": f"{counted(len(gauges_here), 'instrument')}, {zeros or 'no'} {'zero' if zeros == 1 else 'zeros'} read",
        "variables": f"{counted(reasons, 'reason')} given" if reasons else "no reasons given yet",
        "conventions": "; ".join(chosen),
        "checks": ", ".join(
            part
            for part in (
                f"{sum(bool(t.by) for t in at_hand)} of {len(at_hand)} at hand" if at_hand else "",
                f"{sum(bool(t.by) for t in checks)} of {counted(len(checks), 'check')} ticked" if checks else "",
            )
            if part
        )
        or "nothing to check",
        "roles": ", ".join(roles) or "nobody named yet",
        "house": (f"version {laboratory} of the laboratory" if laboratory else "laboratory imported with the run")
        + (f", {counted(len(own), 'rule')} set for this run" if own else ""),
        "again": "download it, or start another run with it",
    }


@optional("ways to improve this plan", lambda: ([], ""))
def _offered(opened: RunView, planner: Planner, setup: Setup, found: Forecast) -> tuple[list[Offer], str]:
    """What would make the plan better, and what would not."""
    first = next(iter(found.results.values()), None)
    if first is None or first.reason or not first.u > 0:
        return [], ""
    improvements, idle = planner.improvements(setup, first.name, found)
    return [offer(first, one) for one in improvements], idle


def _ticks(opened: RunView) -> dict[str, list[Ticked]]:
    """Apparatus, set-up checks and cautions, each with who ticked it."""
    definition, ticks = opened.definition, opened.state.ticks

    def one(place: str, text: str) -> Ticked:
        entry: Entry | None = ticks.get(place)
        return Ticked(place=place, text=text, by=f"{entry.author}, {moment(entry.made_at)}" if entry else "")

    return {
        "apparatus": [one(f"apparatus.{i}", text) for i, text in enumerate(definition.apparatus)],
        "check": [
            one(f"check.{name}", f"{i.label or i.kind}: {i.zero_check}")
            for name, i in opened.program.definition.instruments.items()
            if i.zero_check
        ],
        "set_up": [
            _with_value(opened, one(f"set_up.{i}", check.do), check.unit) for i, check in enumerate(definition.set_up)
        ],
        "caution": [one(f"caution.{i}", caution.say) for i, caution in enumerate(definition.cautions)],
    }


def _with_value(opened: RunView, ticked: Ticked, unit: str | None) -> Ticked:
    if unit is None:
        return ticked
    entry = opened.state.latest.get(f"words:{ticked.place}")
    kind, body = effective(entry) if entry is not None else (None, {})
    return replace(ticked, unit=units.pretty(unit), value=str(body.get("text", "")) if kind == "words" else "")


def _singles(opened: RunView) -> list[dict[str, Any]]:
    """The quantities that are read once for the run, with how often each is; ``usual``: where the experiment has it read several times."""
    return [
        {"name": name, "label": within(body.label), "trials": opened.state.trials[name], "usual": body.repeats > 1}
        for name, body in opened.definition.quantities.items()
        if body.formula is None and body.default is None and not body.exact
    ]


def _ruled(opened: RunView) -> list[dict[str, Any]]:
    """The tables as they will be: rows, and for each column its head, decimals and trials."""
    found = []
    run = opened.state.run
    plan = run.plan
    for name, series in opened.definition.series.items():
        columns = []
        for column, body in series.columns.items():
            spec = opened.program.input_of.get(f"{name}.{column}")
            gauge = spec.gauge if spec is not None else None
            usual = _usual(opened, name, column)
            unit = opened.analysis.values[f"{name}.{column}"].unit
            shown = ""
            if gauge is not None and gauge.least_count:
                decimals = decimals_of(gauge.least_count, unit)
                shown = f"0.{'0' * decimals}" if decimals else "0"
            columns.append(
                {
                    "name": column,
                    "key": f"{name}.{column}",
                    "heading": run.headings.get(f"{name}.{column}", Heading()),
                    "usual": usual.label if usual is not None else "",
                    "units": _units_like(unit.text) if body.column_role.typed or body.formula else [],
                    "own_unit": body.unit or "",
                    "typed": body.column_role.typed,
                    "own": run.headings.get(f"{name}.{column}", Heading()).formula or "",
                    "shown": not hidden(body, run.headings.get(f"{name}.{column}")),
                    "off": body.off,
                    "sampled": body.source is not None,
                    "reversed": body.reversed,
                    "usually_reversed": usual is not None and usual.reversed,
                    "label": body.label,
                    "unit": unit.pretty,
                    "role": body.role,
                    "decimals": shown,
                    "formula": typeset(parse(body.formula)) if body.formula else "",
                    "trials": opened.state.trials.get(f"{name}.{column}", 1)
                    if body.column_role.wanted and not body.extract
                    else 0,
                    "gauge": gauge.label if gauge is not None else "",
                }
            )
        found.append(
            {
                "name": name,
                "label": series.label,
                "rows": opened.state.rows[name],
                "row": series.row,
                "columns": columns,
                "starts": _starts(series),
                "first": next(iter(series.columns)),
                "broken": _broken(opened, name),
                "marks": run.headings.get(name, Heading()),
                "outcome": opened.definition.series[name].outcome,
                "without": False,
                "has_points": any(key.startswith(f"{name}.") for key in plan.settings),
            }
        )
    whole = choose(opened.base, run.options).series
    found += [{"name": name, "label": whole[name].label, "without": True} for name in plan.without if name in whole]
    by_name = {str(one["name"]): {**one, "one_of_many": len(whole) > 1} for one in found}
    return [by_name[name] for name in whole if name in by_name]


_COMMON = (
    "m", "cm", "mm", "km", "um", "nm", "kg", "g", "mg", "s", "ms", "min", "h", "N", "mN", "kN", "V", "mV", "A", "mA", "uA", "ohm", "kohm",
    "Hz", "kHz", "g/cm^3", "kg/m^3", "m/s", "cm/s", "m/s^2", "J", "mJ", "eV", "°", "rad", "°C", "K", "Pa", "kPa", "cm^2", "m^2", "mm^2",
    "cm^3", "m^3", "mL", "s^2", "1/s", "1/m", "1/cm", "N m", "N cm", "T", "mT", "uT", "H", "mH", "uH", "W", "kg m^2", "g cm^2", "rad/s^2",
)  # fmt: skip
"""Units that a bench might rather write, for lists to choose from."""


def _units_like(text: str) -> list[str]:
    """Units that the same could be written in."""
    own = units.unit(text)
    return [
        u
        for u in _COMMON
        if units.unit(u).dimension == own.dimension and bool(units.unit(u).offset) == bool(own.offset)
    ]


def _broken(opened: RunView, series: str) -> list[tuple[str, str, str]]:
    """(key, label, formula) of columns of the run's own that cannot be computed as the run stands, under another convention for instance."""
    found = []
    for slot, entry in opened.state.latest.items():
        key = slot.removeprefix("heading:")
        if slot.startswith(f"heading:{series}.") and key not in opened.state.run.headings:
            kind, body = effective(entry)
            if kind == "heading" and body.get("formula"):
                found.append((key, str(body.get("label") or key.partition(".")[2]), str(body["formula"])))
    return found


def _starts(series: Series) -> list[tuple[str, str]]:
    """(words, formula) that a column of one's own can start from."""
    found = []
    for name, body in series.columns.items():
        if body.column_role.shown_as != "set":
            found.append((f"{body.label}: ratio to the row above", f"{name}/above({name})"))
            found.append((f"{body.label}: difference from the row above", f"{name} - above({name})"))
            found.append((f"{body.label}: ratio to row 1", f"{name}/first({name})"))
            found.append((f"{body.label}: percent from the mean", f"100*({name}/mean({name}) - 1)"))
        found.append((f"{body.label}: natural logarithm", f"ln({name})"))
    return found


def _usual(opened: RunView, series: str, column: str) -> Column | None:
    """A column as the experiment has it, None for one of the run's own."""
    try:
        return choose(opened.base, opened.state.run.options).series[series].columns[column]
    except (CavrelError, KeyError):
        return None


def _predicted_fit(opened: RunView) -> str:
    """The graph whose shape is predicted: one that the definition has an answer for, else the first; empty where there is none."""
    fits = {name: body for name, body in opened.definition.fits.items() if body.x is not None}
    return next((name for name, body in fits.items() if body.expect), next(iter(fits), ""))


def _fit_words(opened: RunView) -> str:
    name = _predicted_fit(opened)
    if not name:
        return ""
    body = opened.definition.fits[name]
    up, along = body.y_label or one_line(body.y), body.x_label or one_line(body.x or "")
    return f"{up[0].upper()}{up[1:]} against {along}"


def notes_of(opened: RunView) -> list[Note]:
    """The bench's own notes; cautions head the plan itself."""
    return list(notes.notes_of_bench(opened))


def document(opened: RunView) -> dict[str, Any]:
    """The plan alone, as a run document without readings."""
    run, chosen = opened.state.run, gauges.chosen_here(opened)
    own = run.model_copy(
        update={
            "rules": {name: run.rules[name] for name in own_rules(opened)},
            "instruments": {name: fields for name, fields in run.instruments.items() if name in chosen},
        }
    )
    kept = only_plan(own, opened.definition)
    shipped = catalogue.experiments().get(opened.run.experiment)
    whole = shipped is None or shipped.content_hash() != opened.run.hash
    return kept | {"experiment": opened.base.document() if whole else opened.run.experiment}


def data(opened: RunView) -> dict[str, Any]:
    """The forecast document of the plan as it stands, and the plan itself. Raises CavrelError where nothing can be said."""
    planner = planner_of(opened)
    run = opened.state.run
    plan = run.model_dump(mode="json", exclude_defaults=True, by_alias=True)
    return {"run": plan, "forecast": forecast_document(planner, setup_of(run, planner), WANTED)}
