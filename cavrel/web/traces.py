"""Traces: the samples of one row, and the stretch of them that counts."""

from typing import Any

from flask import Blueprint, abort, jsonify, render_template, request
from flask.typing import ResponseReturnValue

from cavrel.core.analysis.trace import sample_times
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import check_entry
from cavrel.core.quantity import units
from cavrel.present import traces
from cavrel.service.run_view import RunView
from cavrel.web.shared import Following, frame, opened_or_404, stage_page

pages = Blueprint("traces", __name__)


def _content(opened: RunView, place: str) -> dict[str, Any]:
    try:
        return traces.content(opened, place)
    except KeyError:
        abort(404)


@pages.get("/runs/<int:run>/traces/<place>")
def page(run: int, place: str) -> ResponseReturnValue:
    opened = opened_or_404(run)
    shown = _content(opened, place)
    return stage_page("traces/page.html", opened, f"traces:{place}", traces.notes_of(opened, place), **shown)


@pages.get("/runs/<int:run>/traces/<place>/all")
def all_rows(run: int, place: str) -> ResponseReturnValue:
    """The stretches proposed for all rows of a column, ``series.column``, each shown before it counts."""
    opened = opened_or_404(run)
    rows = _all_rows(opened, place)
    spec = opened.program.input_of[_column(place)]
    notes = traces.notes_of(opened, place)
    return stage_page("traces/all.html", opened, f"stretches:{place}", notes, rows=rows, spec=spec)


@pages.get("/runs/<int:run>/traces/<place>/all.json")
def all_as_json(run: int, place: str) -> ResponseReturnValue:
    """The same as data: each row's place, the stretch proposed, what it would give and what holds now."""
    rows = _all_rows(opened_or_404(run), place)
    return jsonify(
        rows=[
            {
                "place": row.place,
                "begin": float(row.found.begin) if row.found else None,
                "end": float(row.found.end) if row.found else None,
                "gives": row.text or None,
                "now": row.now,
                "chosen": row.chosen,
                "cut": row.cut.model_dump(mode="json", exclude_none=True) if row.cut else None,
            }
            for row in rows
        ]
    )


def _all_rows(opened: RunView, place: str) -> list[traces.ProposedRow]:
    try:
        return traces.all_rows(opened, _column(place))
    except KeyError:
        abort(404)


def _column(place: str) -> str:
    """The column of a place: ``force.a`` of ``force.a.3``."""
    return ".".join(place.split(".")[:2])


@pages.get("/runs/<int:run>/traces/<place>.json")
def as_json(run: int, place: str) -> ResponseReturnValue:
    """The samples as they are kept, with the stretch, and what it gives."""
    try:
        return jsonify(traces.data(opened_or_404(run), place))
    except KeyError:
        abort(404)


@pages.get("/runs/<int:run>/traces/<place>/part")
def part(run: int, place: str) -> ResponseReturnValue:
    """The same without its frame, to stand next to its row at Measure."""
    opened = opened_or_404(run)
    return render_template("traces/part.html", run=opened.run, o=opened, **_content(opened, place))


@pages.post("/runs/<int:run>/traces/<place>/read")
def read(run: int, place: str) -> ResponseReturnValue:
    """What a pasted text or a file holds: ``html`` to choose from, and ``body`` of the trace that the choice gives, ``null`` with ``what`` where it
    gives none. Body: ``{"text", "rate", "unit", "time", "value", "run", "sign"}``."""
    opened = opened_or_404(run)
    sent = request.get_json(silent=True)
    if not isinstance(sent, dict) or not isinstance(sent.get("text"), str):
        return jsonify(error="Not understood", what="the body must be an object with a 'text'"), 422
    try:
        spec, _ = traces.row_of(opened, place)
    except KeyError:
        abort(404)
    choice = {name: sent[name] for name in ("time", "value", "run", "sign") if type(sent.get(name)) is int}
    try:
        export, chosen, samples, what = traces.looked_at(spec, sent["text"], choice)
    except CavrelError as fault:
        return jsonify(html="", body=None, what=f"{fault.what[0].upper()}{fault.what[1:]}.")
    rate, unit = str(sent.get("rate") or "50 Hz")[:40], str(sent.get("unit") or "")[:60]
    body: dict[str, Any] | None = None
    if samples is not None:
        body = {"values": samples.values, "unit": unit or samples.unit or traces.sample_unit(spec)}
        body |= {"rate": rate} if samples.times is None else {"times": samples.times}
        try:
            if samples.times is None:
                sample_times(rate, 0.0, None, len(samples.values))
            units.unit(body["unit"])
            check_entry(opened.definition, "trace", f"trace:{place}", body)
        except CavrelError as fault:
            body, what = None, fault.what
    shown = {"export": export, "chosen": chosen, "samples": samples, "what": what, "rate": rate}
    html = render_template("traces/preview.html", unit=body["unit"] if body else unit, **shown)
    return jsonify(html=html, body=body, what=what)


def follow(opened: RunView, wanted: Following) -> str:
    """What changes on the page after a save."""
    place = wanted.detail
    shown = frame(opened, f"traces:{place}", traces.notes_of(opened, place))
    return render_template("traces/follow.html", **shown, **_content(opened, place))
