"""What the pages of a run have in common."""

from dataclasses import dataclass
from typing import Any

from flask import abort, current_app, render_template

from cavrel.present import optional
from cavrel.present.notes import Note
from cavrel.present.stages import next_step, stages
from cavrel.service.opening import open_run
from cavrel.service.run_view import RunView
from cavrel.web.addressed import stay


@dataclass(frozen=True, slots=True, kw_only=True)
class Following:
    """What a page that shows a run wants to know after a save.

    ``detail``: which fit or place it shows, empty for the usual one.
    ``whole``: more changed than readings, so that tables are drawn anew.
    ``before``: what the page shows, where this process remembers it.
    """

    detail: str = ""
    whole: bool = True
    before: RunView | None = None


def pool() -> Any:
    """The application's connection pool."""
    return current_app.extensions["cavrel_pool"]


def opened_or_404(run: int) -> RunView:
    """The run, or the page that says there is none."""
    found = open_run(pool(), run)
    if found is None:
        abort(404)
    stay(found.run.course_slug, found.run.zone, found.analysis.rules.decimal)
    return found


def frame(opened: RunView, stage: str, notes: list[Note]) -> dict[str, Any]:
    """What the frame around a stage shows: rail, head, margin."""
    standing = stages(opened)
    conventions = {f"option-{name}": choice for name, choice in opened.state.run.options.items()}
    return {
        "o": opened,
        "run": opened.run,
        "stages": standing,
        "stage": stage,
        "next": next_step(opened, stage),
        "notes": [*optional.notes_of(opened), *notes],
        "conventions": conventions,
    }


def stage_page(template: str, opened: RunView, stage: str, notes: list[Note], **more: Any) -> str:
    """A whole page of a stage."""
    return render_template(template, **frame(opened, stage, notes), **more)
