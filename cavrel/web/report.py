"""Report: the run written up, every number live, drafts marked until somebody has taken them."""

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.present import notes, report
from cavrel.service.opened import Opened
from cavrel.web.shared import Following, frame, opened_or_404, stage_page

pages = Blueprint("report", __name__)


@pages.get("/runs/<int:run>/report")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page(
        "report/page.html", opened, "report", list(notes.notes_of_bench(opened)), **report.content(opened)
    )


@pages.get("/runs/<int:run>/report.json")
def twin(run: int) -> ResponseReturnValue:
    """The report's texts as data."""
    return jsonify(report.data(opened_or_404(run)))


def follow(opened: Opened, _: Following) -> str:
    """What changes on the page after a save: what is worked out, and each text that nobody is typing in."""
    shown = frame(opened, "report", list(notes.notes_of_bench(opened)))
    return render_template("report/follow.html", **shown, **report.content(opened))
