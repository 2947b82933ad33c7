"""Logbook: every entry of a run, in time. Nothing is ever taken out of it."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.core.logbook import Entry
from cavrel.core.words import counted
from cavrel.present import notes as margin
from cavrel.service.opened import Opened
from cavrel.web.shared import frame, opened_or_404, stage_page

pages = Blueprint("logbook", __name__)

_DAY = 24 * 3600


@dataclass(frozen=True, slots=True)
class Line:
    """An entry in words.

    ``late``: it waited in its page for more than a few seconds before it reached the database.
    ``off``: its page's clock was wrong by more than a day.
    """

    entry: Entry
    where: str
    what: str
    undoable: bool
    late: bool
    off: bool


def lines(opened: Opened) -> list[Line]:
    """All entries, oldest first."""
    return [_line(opened, entry) for entry in opened.entries]


def _line(opened: Opened, entry: Entry) -> Line:
    body, slot = entry.body, entry.slot
    place = slot.partition(":")[2] if ":" in slot else slot
    where, what = "", ""
    match entry.kind:
        case "reading":
            where, what = margin.where(opened, place), str(body.get("text", "")) or "cleared"
            if body.get("by"):
                what += f", by {body['by']}"
        case "correction":
            reason = f", “{body['reason']}”" if body.get("reason") else ", no reason yet"
            was = f" instead of {body['was']}" if body.get("was") else ""
            where, what = margin.where(opened, place), f"{body.get('text') or 'cleared'}{was}{reason}"
        case "leave-out":
            where, what = margin.where(opened, place), f"left out, “{body.get('reason', '')}”"
        case "take-back":
            where, what = margin.where(opened, place), "taken back into the fit"
        case "rows":
            series = opened.definition.series.get(place)
            where = series.label if series else place
            what = f"{counted(int(body['count']), 'row')} ruled"
        case "trace" | "stretch":
            where = margin.where(opened, f"{place}.1")
            values = body.get("values")
            if entry.kind == "trace":
                what = f"{len(values)} samples" if isinstance(values, list) else "samples taken away"
            else:
                what = f"stretch from {body.get('begin', 'the start')} to {body.get('end', 'the end')} s chosen"
        case "option":
            option = opened.definition.options.get(place)
            choice = str(body.get("choice", ""))
            where = option.label if option else "Convention"
            what = option.choices[choice].label if option and choice in option.choices else choice
        case "trials":
            series = opened.definition.series.get(place.split(".")[0])
            column = series.columns.get(place.split(".")[1]) if series else None
            where, what = column.label if column else place, f"{counted(int(body['count']), 'trial')} ruled"
        case "stands":
            where, what = margin.where(opened, place.partition("@")[2]), "looked at and let stand"
        case "note":
            what = f"“{body.get('text', '')}”"
        case "timer":
            where, what = "Stopwatch", _timing(opened, body)
        case "run":
            where = "This run"
            value = body.get("value")
            what = {
                "title": f"renamed to “{value}”",
                "bench": f"moved to bench {value}",
                "away": "put away" if value else "back in the list",
            }.get(place, "")
        case "undo":
            where = margin.where(opened, place) if "." in place else ""
            back = (body.get("body") or {}).get("text") or (body.get("body") or {}).get("reason") or "empty again"
            what = f"undone; now {back}" if body.get("kind") in ("reading", "correction", None) else "undone"
    latest = opened.state.latest.get(slot)
    undoable = latest is not None and latest.id == entry.id and entry.kind not in ("note", "timer")
    waited = (entry.saved_at - entry.made_at).total_seconds()
    return Line(entry, where, what, undoable, 5 < waited < _DAY, abs(waited) >= _DAY)


def _timing(opened: Opened, body: Mapping[str, Any]) -> str:
    if isinstance(body.get("call"), str):
        return body["call"][:80]
    laps = body.get("laps")
    if not isinstance(laps, list) or not laps or not all(isinstance(lap, int | float) for lap in laps):
        return "a timing"
    timer = next((s.timer for s in opened.definition.steps if s.timer and s.timer.kind == "laps"), None)
    laps_made = counted(len(laps), timer.lap, timer.plural) if timer else counted(len(laps), "lap")
    if not abs(laps[-1]) < 1e9:
        return "a timing"
    total = f"{laps[-1]:.2f} s" if body.get("counted") is False else f"{laps_made} in {laps[-1]:.2f} s"
    return f"spoilt after {total}" if body.get("spoilt") else total


@pages.get("/runs/<int:run>/logbook")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page(
        "logbook/page.html", opened, "logbook", list(margin.remarks_of_bench(opened)), lines=lines(opened)
    )


@pages.get("/runs/<int:run>/logbook.json")
def twin(run: int) -> ResponseReturnValue:
    """The entries as they are kept."""
    opened = opened_or_404(run)
    entries = [
        {
            "id": e.id,
            "kind": e.kind,
            "slot": e.slot,
            "body": dict(e.body),
            "author": e.author,
            "made_at": e.made_at.isoformat(),
            "saved_at": e.saved_at.isoformat(),
        }
        for e in opened.entries
    ]
    return jsonify(title=opened.run.title, bench=opened.run.bench, entries=entries)


def follow(opened: Opened) -> str:
    """What changes on the page after a save."""
    return render_template(
        "logbook/follow.html", **frame(opened, "logbook", list(margin.remarks_of_bench(opened))), lines=lines(opened)
    )
