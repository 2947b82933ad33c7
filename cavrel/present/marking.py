"""What a marker gave to a signed report: points by the course's rubric, remarks by part. The bench has them as they were when they were last
returned; what is changed after that is a new version of the marks, with a reason."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from cavrel.core.laboratory import Laboratory
from cavrel.core.logbook import effective
from cavrel.core.logbook.kinds.reporting import PLACES
from cavrel.service.run_view import RunView


@dataclass(frozen=True, slots=True, kw_only=True)
class Returned:
    """Marks as they were returned to the bench. ``number``: of their versions, from 1; ``said``: by place; ``reason``: of the change, empty for the
    first; ``at``: when."""

    number: int
    said: Mapping[str, Mapping[str, Any]]
    reason: str
    at: datetime


def returned(opened: RunView, version: int) -> list[Returned]:
    """Every version of the marks of a signed report that the bench was given, oldest first; none where they were taken back since."""
    found: list[Returned] = []
    said: dict[str, Mapping[str, Any]] = {}
    for entry in opened.entries:
        prefix = f"marking:{version}."
        if not entry.slot.startswith(prefix):
            continue
        place, (kind, body) = entry.slot.removeprefix(prefix), effective(entry)
        if place != "given":
            said = {**said, place: body} if kind is not None else {k: v for k, v in said.items() if k != place}
        elif kind is not None and body.get("on"):
            reason = str(body.get("reason", "")) if found else ""
            found.append(Returned(number=len(found) + 1, said=said, reason=reason, at=entry.made_at))
        else:
            found = []
    return found


def changed_since(opened: RunView, version: int) -> list[str]:
    """Places whose points or remarks are no longer what the bench was given."""
    given = returned(opened, version)
    if not given:
        return []
    now = _said(opened, version)
    places = [p for p in {**given[-1].said, **now} if p != "given"]
    return [p for p in places if _value(given[-1].said.get(p, {})) != _value(now.get(p, {}))]


def _value(body: Mapping[str, Any]) -> object:
    return body.get("points") if "points" in body else str(body.get("text", ""))


def _said(opened: RunView, version: int) -> dict[str, Mapping[str, Any]]:
    return {
        place.partition(".")[2]: body for place, body in opened.state.marking.items() if place.startswith(f"{version}.")
    }


def marks(
    opened: RunView, version: int, laboratory: Laboratory, content: dict[str, Any], *, for_bench: bool = False
) -> dict[str, Any]:
    """Points, remarks, their sum, and whether they are returned. ``laboratory``: whose rubric; ``content``: of the signed version; ``for_bench``: as
    the bench was given them."""
    given = returned(opened, version)
    said: Mapping[str, Mapping[str, Any]] = given[-1].said if for_bench and given else _said(opened, version)
    points, most, sum_ = [], 0.0, 0.0
    given_any = False
    known = {name: (c.label, c.points) for name, c in laboratory.rubric.items()}
    for place in said:
        # Points for a criterion that the rubric no longer has are kept and shown.
        if place.startswith("points.") and place.removeprefix("points.") not in known:
            known[place.removeprefix("points.")] = (place.removeprefix("points."), 0.0)
    for name, (label, of) in known.items():
        value = said.get(f"points.{name}", {}).get("points")
        if value is None and not of:
            continue
        most += of
        if value is not None:
            sum_ += value
            given_any = True
        shown = f"{value:g} of {of:g}" if value is not None else f"– of {of:g}"
        points.append(
            {
                "name": name,
                "label": label,
                "of": f"{of:g}",
                "value": "" if value is None else f"{value:g}",
                "shown": shown,
            }
        )
    has = {"whole", "apparatus", "readings", "results", *content["parts"]}
    has |= {"graphs"} if content["figures"] else set()
    has |= {"questions"} if content["answers"] else set()
    remarks = [
        {
            "name": name,
            "title": title,
            "text": str(said.get(f"remark.{name}", {}).get("text", "")),
            "there": name != "whole",
        }
        for name, title in _ordered()
        if name in has
    ]
    return {
        "points": points,
        "remarks": remarks,
        "total": f"{sum_:g} of {most:g}" if given_any else "",
        "given": bool(given),
        "marks_version": given[-1].number if given else 0,
        "marks_reason": given[-1].reason if given else "",
        "marks_changed": [_place_words(p, known) for p in changed_since(opened, version)],
    }


def _place_words(place: str, known: Mapping[str, tuple[str, float]]) -> str:
    of, _, which = place.partition(".")
    return known.get(which, (which, 0.0))[0] if of == "points" else f"remark on {PLACES.get(which, which).lower()}"


_ORDER = (
    "aim", "apparatus", "theory", "procedure", "readings", "graphs", "results", "discussion", "errors", "precautions", "conclusion",
    "questions", "whole",
)  # fmt: skip


def _ordered() -> list[tuple[str, str]]:
    return [(name, PLACES[name]) for name in _ORDER]
