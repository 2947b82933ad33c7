"""Plan: what is decided before the first reading, and what it promises."""

import json
from uuid import uuid4

from flask import Blueprint, Response, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.present import expected_result, plan, rules
from cavrel.service.laboratories import laboratory_of
from cavrel.service.run_view import RunView
from cavrel.store import courses
from cavrel.store import laboratories as store
from cavrel.store.pool import transaction
from cavrel.web.shared import Following, frame, opened_or_404, pool, stage_page

pages = Blueprint("plan", __name__)


@pages.get("/runs/<int:run>/plan")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page("plan/page.html", opened, "plan", plan.notes_of(opened), **plan.content(opened))


@pages.get("/runs/<int:run>/plan.json")
def as_json(run: int) -> ResponseReturnValue:
    """The plan as a run document, and its forecast."""
    try:
        return jsonify(plan.data(opened_or_404(run)))
    except CavrelError as fault:
        return jsonify(error="Nothing can be predicted", what=str(fault)), 422


@pages.get("/runs/<int:run>/plan/asked")
def asked(run: int) -> ResponseReturnValue:
    """The answer to a question backwards, as a fragment: ``percent`` wanted, or ``minutes`` to spend."""
    opened = opened_or_404(run)
    try:
        answer = expected_result.asked(
            opened, request.args.get("percent", "")[:20], request.args.get("minutes", "")[:20]
        )
    except CavrelError as fault:
        answer = {"say": f"{fault.what[0].upper()}{fault.what[1:]}.", "offer": None}
    return render_template("plan/asked.html", **answer)


@pages.get("/runs/<int:run>/plan/house")
def house(run: int) -> ResponseReturnValue:
    """What each house rule would make of this run, and what a newer laboratory would change: a fragment."""
    opened = opened_or_404(run)
    with transaction(pool()) as connection:
        newest = store.versions(connection, opened.run.course, 1)[0]
        laboratory = laboratory_of(connection, opened.run.course, newest.version, newest.digest)
    try:
        found = rules.rules_apart(pool(), opened)
    except CavrelError as fault:
        return render_template(
            "parts/not_computed.html", what=f"What the rules make of this run is not shown: {fault}."
        )
    return render_template(
        "plan/house.html", run=opened.run, newer=rules.newer(opened, newest.version, laboratory), **found
    )


@pages.get("/runs/<int:run>/plan/document.json")
def document(run: int) -> ResponseReturnValue:
    """The plan alone, without readings: to be shared, and started again next year."""
    opened = opened_or_404(run)
    text = json.dumps(plan.document(opened), indent=1, ensure_ascii=False)
    name = f"{opened.run.experiment}-plan.json"
    return Response(
        f"{text}\n", mimetype="application/json", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@pages.get("/runs/<int:run>/plan/again")
def again(run: int) -> ResponseReturnValue:
    """Where this plan can be started again: a fragment."""
    opened = opened_or_404(run)
    with transaction(pool()) as connection:
        benches = courses.benches(connection, opened.run.course)
    return render_template(
        "plan/again.html",
        run=opened.run,
        benches=benches,
        key=str(uuid4()),
        document=json.dumps(plan.document(opened), ensure_ascii=False),
    )


def follow(opened: RunView, wanted: Following) -> str:
    """What changes on the page after a save."""
    shown = frame(opened, "plan", plan.notes_of(opened))
    if wanted.whole:
        return render_template("plan/follow.html", **shown, **plan.content(opened), whole=True)
    return render_template("plan/follow.html", **shown, **plan.live(opened), whole=False)
