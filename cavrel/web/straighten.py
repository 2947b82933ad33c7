"""Straighten: the raw curve, the straight line, and what slope and intercept mean."""

from flask import Blueprint, abort, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from cavrel.present import straighten
from cavrel.service.opened import Opened
from cavrel.web.shared import Following, frame, opened_or_404, stage_page

pages = Blueprint("straighten", __name__)


@pages.get("/runs/<int:run>/straighten")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    try:
        content, notes = straighten.content(opened, request.args.get("fit", ""))
    except KeyError:
        abort(404)
    return stage_page("straighten/page.html", opened, "straighten", notes, **content)


@pages.get("/runs/<int:run>/straighten.json")
def twin(run: int) -> ResponseReturnValue:
    """The fits and flags as data."""
    return jsonify(straighten.data(opened_or_404(run)))


def follow(opened: Opened, wanted: Following) -> str:
    """What changes on the page after a save, for the graph it shows."""
    content, notes = straighten.content(opened, wanted.detail if wanted.detail in opened.analysis.fits else "")
    return render_template("straighten/follow.html", **frame(opened, "straighten", notes), **content)
