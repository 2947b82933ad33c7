"""The bench on the screen: the apparatus of a run, drawn reading by reading; and what whoever runs the lesson can make go wrong in it."""

from dataclasses import asdict
from datetime import datetime, timezone
from uuid import uuid4

from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core.errors import CavrelError
from cavrel.present import bench as shown
from cavrel.present import instructor
from cavrel.service import simulations
from cavrel.store import entries as entry_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import transaction
from cavrel.web.shared import opened_or_404, pool

pages = Blueprint("bench", __name__)

MOST_TAKES = 10_000


@pages.get("/runs/<int:run>/bench.json")
def view(run: int) -> ResponseReturnValue:
    """What the apparatus shows at the place ``slot`` the ``take``-th time: ``html``, and the numbers it is moved by."""
    opened = opened_or_404(run)
    if not opened.state.run.on_screen:
        abort(404)
    take = request.args.get("take", "1")
    number = int(take) if take.isascii() and take.isdigit() and 0 < len(take) < 6 else 1
    try:
        bench = simulations.apparatus(pool(), opened)
        seen = shown.view(opened, bench, request.args.get("slot", ""), min(number, MOST_TAKES))
    except CavrelError as fault:
        return jsonify(error="Not shown", what=fault.what, place=fault.place), 422
    html = render_template("bench/view.html", v=seen, run=opened.run)
    face = asdict(seen.face)["moves"] if seen.face else {}
    return jsonify(slot=seen.slot, scene=seen.scene, data=seen.data, moves=face, html=html)


@pages.post("/runs/<int:run>/bench")
def begin(run: int) -> ResponseReturnValue:
    """Use the simulated apparatus: an entry of the run, so that everyone knows where its readings come from."""
    opened = opened_or_404(run)
    if opened.definition.simulate is None:
        abort(422, "This experiment has no simulation, so its apparatus cannot be drawn.")
    if not opened.state.run.on_screen:
        now = datetime.now(timezone.utc)
        entry = NewEntry(
            kind="run", slot="run:on-screen", body={"value": True}, author=opened.run.bench, made_at=now, client_key=uuid4()
        )  # fmt: skip
        with transaction(pool()) as connection:
            entry_store.append(connection, run, [entry])
    return redirect(url_for("measure.page", run=run), 303)


@pages.get("/runs/<int:run>/instructor")
def instructor_page(run: int) -> ResponseReturnValue:
    """What goes wrong in the apparatus, and, when asked, what it hides."""
    return _instructor(run)


def _instructor(run: int, fault: str = "") -> ResponseReturnValue:
    opened = opened_or_404(run)
    if not opened.state.run.on_screen:
        abort(404)
    truths = (
        instructor.truths(opened, simulations.apparatus(pool(), opened)) if request.args.get("truth") == "yes" else None
    )
    html = render_template(
        "bench/instructor.html",
        o=opened,
        run=opened.run,
        faults=simulations.switched(pool(), opened),
        truths=truths,
        fault=fault,
    )
    return (html, 422) if fault else html


@pages.get("/runs/<int:run>/instructor.json")
def as_json(run: int) -> ResponseReturnValue:
    """The same as data, the truths included."""
    opened = opened_or_404(run)
    if not opened.state.run.on_screen:
        abort(404)
    truths = instructor.truths(opened, simulations.apparatus(pool(), opened))
    return jsonify(faults=[asdict(f) for f in simulations.switched(pool(), opened)], truths=[asdict(t) for t in truths])


@pages.post("/runs/<int:run>/instructor")
def change(run: int) -> ResponseReturnValue:
    """Let what is ticked go wrong from the next reading on."""
    opened = opened_or_404(run)
    if not opened.state.run.on_screen:
        abort(404)
    try:
        simulations.switch(pool(), opened, request.form.getlist("fault"))
    except CavrelError as fault:
        return _instructor(run, fault.what)
    return redirect(url_for("bench.instructor_page", run=run), 303)
