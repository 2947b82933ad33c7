"""Fit: the raw curve, the straight line, and what slope and intercept mean."""

from flask import Blueprint, abort, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from cavrel.present import fit
from cavrel.present.fit_choices import Wanted
from cavrel.service.run_view import RunView
from cavrel.web.shared import Following, frame, opened_or_404, stage_page

pages = Blueprint("fit", __name__)

LONGEST = 200
"""Of a formula for an axis."""


@pages.get("/runs/<int:run>/fit")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    given = {name: request.args.get(name, "")[:LONGEST] for name in ("fit", "series", "x", "y", "draw", "at", "touch")}
    wanted = Wanted(**given)
    try:
        content, notes = fit.content(opened, wanted)
    except KeyError:
        abort(404)
    return stage_page("fit/page.html", opened, "fit", notes, detail=wanted.detail, **content)


@pages.get("/runs/<int:run>/fit.json")
def as_json(run: int) -> ResponseReturnValue:
    """The fits and flags as data."""
    return jsonify(fit.data(opened_or_404(run)))


def follow(opened: RunView, wanted: Following) -> str:
    """What changes on the page after a save, for the graph it shows."""
    asked = Wanted.read(wanted.detail)
    try:
        content, notes = fit.content(opened, asked)
    except KeyError:
        content, notes = fit.content(opened, Wanted())
    return render_template("fit/follow.html", **frame(opened, "fit", notes), **content)
