"""Measure: the table, the deck, the margin."""

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.present import from_runs, measure, notes, page_changes, tables, target_settings
from cavrel.present.optional import optional
from cavrel.present.summary import summary
from cavrel.service import summaries
from cavrel.service.run_view import RunView
from cavrel.web.shared import Following, frame, opened_or_404, pool, stage_page

pages = Blueprint("measure", __name__)


@pages.get("/runs/<int:run>/measure")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page(
        "measure/page.html",
        opened,
        "measure",
        notes.measure_notes(opened),
        **measure.content(opened),
        from_runs=_from_runs(opened),
    )


@optional("results of earlier runs", tuple)
def _from_runs(opened: RunView) -> tuple[from_runs.Offer, ...]:
    """Results of the course's other runs that this one can take over."""
    course = opened.run.course
    runs = {
        name: summaries.of_experiment(pool(), course, name, 2 * from_runs.MOST, summary)
        for name in from_runs.wanted(opened)
    }
    return from_runs.offers(opened, runs)


@pages.get("/runs/<int:run>/measure.json")
def as_json(run: int) -> ResponseReturnValue:
    """The run document and the result document."""
    return jsonify(measure.data(opened_or_404(run)))


def follow(opened: RunView, wanted: Following) -> str:
    """What changes on the page after a save, as fragments."""
    shown = frame(opened, "measure", notes.measure_notes(opened))
    if wanted.whole:
        return render_template("measure/follow.html", **shown, **measure.content(opened), whole=True, standing=())
    fields, computed = page_changes.cells(opened, wanted.before)
    ticked = wanted.before is None or wanted.before.state.ticks != opened.state.ticks
    return render_template(
        "measure/follow.html",
        **shown,
        **measure.live(opened),
        cells=fields,
        computed=computed,
        needed=tables.quantities(opened) if target_settings.says_needed(opened) else (),
        ticked=ticked,
        whole=False,
        standing=page_changes.standing(opened, wanted.before),
    )
