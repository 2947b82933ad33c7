"""Plan: what is decided before the first reading, and what it promises."""

from flask import Blueprint, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.present import plan, promise
from cavrel.service.opened import Opened
from cavrel.web.shared import Following, frame, opened_or_404, stage_page

pages = Blueprint("plan", __name__)


@pages.get("/runs/<int:run>/plan")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page("plan/page.html", opened, "plan", plan.notes_of(opened), **plan.content(opened))


@pages.get("/runs/<int:run>/plan.json")
def twin(run: int) -> ResponseReturnValue:
    """The plan as a run document, and its forecast."""
    try:
        return jsonify(plan.data(opened_or_404(run)))
    except CavrelError as fault:
        return jsonify(error="Nothing can be foretold", what=str(fault)), 422


@pages.get("/runs/<int:run>/plan/asked")
def asked(run: int) -> ResponseReturnValue:
    """The answer to a question backwards, as a fragment: ``percent`` wanted, or ``minutes`` to spend."""
    opened = opened_or_404(run)
    try:
        answer = promise.asked(opened, request.args.get("percent", "")[:20], request.args.get("minutes", "")[:20])
    except CavrelError as fault:
        answer = {"say": f"{fault.what[0].upper()}{fault.what[1:]}.", "offer": None}
    return render_template("plan/asked.html", **answer)


def follow(opened: Opened, wanted: Following) -> str:
    """What changes on the page after a save."""
    shown = frame(opened, "plan", plan.notes_of(opened))
    if wanted.whole:
        return render_template("plan/follow.html", **shown, **plan.content(opened), whole=True)
    return render_template("plan/follow.html", **shown, **plan.live(opened), whole=False)
