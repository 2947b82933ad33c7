"""Traces: the samples of one row, and the stretch of them that counts."""

from datetime import datetime, timezone
from typing import Any
from uuid import UUID, uuid4

from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core.analysis.trace import sample_times
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import check_entry
from cavrel.core.logbook.samples import read_samples
from cavrel.core.quantity import units
from cavrel.present import traces
from cavrel.service.opened import Opened
from cavrel.store import entries as entry_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import transaction
from cavrel.web.shared import Following, frame, opened_or_404, pool, stage_page

pages = Blueprint("traces", __name__)


def _content(opened: Opened, place: str, typed: dict[str, str] | None = None, fault: str = "") -> dict[str, Any]:
    try:
        return {"key": str(uuid4()), **traces.content(opened, place, typed, fault)}
    except KeyError:
        abort(404)


@pages.get("/runs/<int:run>/traces/<place>")
def page(run: int, place: str) -> ResponseReturnValue:
    opened = opened_or_404(run)
    shown = _content(opened, place)
    return stage_page("traces/page.html", opened, f"traces:{place}", traces.notes_of(opened), **shown)


@pages.get("/runs/<int:run>/traces/<place>.json")
def twin(run: int, place: str) -> ResponseReturnValue:
    """The samples as they are kept, with the stretch, and what it gives."""
    try:
        return jsonify(traces.data(opened_or_404(run), place))
    except KeyError:
        abort(404)


@pages.post("/runs/<int:run>/traces/<place>")
def put(run: int, place: str) -> ResponseReturnValue:
    """Keep pasted or chosen samples; what cannot be read comes back as it was, with its line."""
    opened = opened_or_404(run)
    _content(opened, place)
    sent = request.files.get("file")
    text = request.form.get("samples", "")
    if sent is not None and sent.filename:
        text = sent.read().decode("utf-8", "replace")
    typed = {"samples": text, "rate": request.form.get("rate", ""), "unit": request.form.get("unit", "")}
    try:
        samples = read_samples(text)
        body: dict[str, Any] = {"values": samples.values, "unit": samples.unit or typed["unit"]}
        if samples.times is None:
            sample_times(typed["rate"], 0.0, None, len(samples.values))
            body["rate"] = typed["rate"]
        else:
            body["times"] = samples.times
        units.unit(body["unit"])
        check_entry(opened.definition, "trace", f"trace:{place}", body)
        key = UUID(request.form.get("key", ""))
    except (CavrelError, ValueError) as fault:
        said = str(fault) if isinstance(fault, CavrelError) else "This page is out of date: load it again."
        content = _content(opened, place, typed, said[0].upper() + said[1:])
        return stage_page("traces/page.html", opened, f"traces:{place}", traces.notes_of(opened), **content), 422
    now = datetime.now(timezone.utc)
    with transaction(pool()) as connection:
        entry_store.append(
            connection,
            run,
            [
                NewEntry(
                    kind="trace", slot=f"trace:{place}", body=body, author=opened.run.bench, made_at=now, client_key=key
                )
            ],
        )
    return redirect(url_for("traces.page", run=run, place=place), 303)


def follow(opened: Opened, wanted: Following) -> str:
    """What changes on the page after a save."""
    place = wanted.detail
    shown = frame(opened, f"traces:{place}", traces.notes_of(opened))
    return render_template("traces/follow.html", **shown, **_content(opened, place))
