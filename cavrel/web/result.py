"""Result: the number line, the verdict, and where the uncertainty comes from."""

from flask import Blueprint, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from cavrel.present import result
from cavrel.present.result import Others
from cavrel.present.summary import summary
from cavrel.service import summaries
from cavrel.service.run_view import RunView
from cavrel.web.shared import Following, frame, opened_or_404, pool, stage_page

pages = Blueprint("result", __name__)

MOST_BESIDE = 24
"""How many other runs of the experiment a result is compared with: the newest ones."""


def _others(opened: RunView) -> Others:
    """What the other runs of this experiment in the course found."""
    run = opened.run
    listed = summaries.of_experiment(pool(), run.course, run.experiment, MOST_BESIDE + 1, summary)
    return [(f"bench {one.bench}", one.body.get("results", {})) for one in listed if one.run != run.id][:MOST_BESIDE]


@pages.get("/runs/<int:run>/result")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page(
        "result/page.html",
        opened,
        "result",
        result.notes_of(opened),
        **result.content(opened, _others(opened), request.args.get("shape", "")),
    )


@pages.get("/runs/<int:run>/result.json")
def as_json(run: int) -> ResponseReturnValue:
    """The results as data."""
    return jsonify(result.data(opened_or_404(run)))


def follow(opened: RunView, _: Following) -> str:
    """What changes on the page after a save."""
    shown = frame(opened, "result", result.notes_of(opened))
    return render_template("result/follow.html", **shown, **result.content(opened, _others(opened)))
