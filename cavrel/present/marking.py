"""What a marker gave to a signed report: points by the course's rubric, remarks by part."""

from typing import Any

from cavrel.core.cupboard import Cupboard
from cavrel.core.logbook.kinds.reporting import PLACES
from cavrel.service.opened import Opened


def marks(opened: Opened, version: int, cupboard: Cupboard, content: dict[str, Any]) -> dict[str, Any]:
    """Points, remarks, their sum, and whether they are given back. ``cupboard``: whose rubric; ``content``: of the signed version."""
    said = {
        place.partition(".")[2]: body for place, body in opened.state.marking.items() if place.startswith(f"{version}.")
    }
    points, most, sum_ = [], 0.0, 0.0
    given_any = False
    known = {name: (c.label, c.points) for name, c in cupboard.rubric.items()}
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
        "given": bool(said.get("given", {}).get("on")),
    }


_ORDER = (
    "aim", "apparatus", "theory", "procedure", "readings", "graphs", "results", "discussion", "errors", "precautions", "conclusion",
    "questions", "whole",
)  # fmt: skip


def _ordered() -> list[tuple[str, str]]:
    return [(name, PLACES[name]) for name in _ORDER]
