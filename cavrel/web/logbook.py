"""Logbook: every entry of a run, in time. Nothing is ever taken out of it."""

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.present import logbook, notes
from cavrel.service.run_view import RunView
from cavrel.web.shared import Following, frame, opened_or_404, stage_page

pages = Blueprint("logbook", __name__)


@pages.get("/runs/<int:run>/logbook")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    margin_notes = list(notes.notes_of_bench(opened))
    return stage_page("logbook/page.html", opened, "logbook", margin_notes, lines=logbook.lines(opened))


@pages.get("/runs/<int:run>/logbook.json")
def as_json(run: int) -> ResponseReturnValue:
    """The entries as they are kept."""
    return jsonify(logbook.data(opened_or_404(run)))


def follow(opened: RunView, _: Following) -> str:
    """What changes on the page after a save."""
    shown = frame(opened, "logbook", list(notes.notes_of_bench(opened)))
    return render_template("logbook/follow.html", **shown, lines=logbook.lines(opened))
