"""Traces: the samples of one row, and the stretch of them that counts."""

import math
import re
from datetime import datetime, timezone
from typing import Any
from uuid import UUID, uuid4

import numpy as np
from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from markupsafe import Markup

from cavrel.core.analysis import trace
from cavrel.core.analysis.sheet import from_trace
from cavrel.core.definition.steps import Input
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import MOST_ROWS, check_entry
from cavrel.core.logbook.run import TraceDocument
from cavrel.core.logbook.samples import read_samples
from cavrel.core.quantity import units
from cavrel.core.quantity.value import MeasuredValue
from cavrel.graph import trace as drawn
from cavrel.graph.points import Axis
from cavrel.present import notes as margin
from cavrel.present.notes import Note
from cavrel.service.opened import Opened
from cavrel.store import entries as entry_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import transaction
from cavrel.web.shared import frame, opened_or_404, pool, stage_page

pages = Blueprint("traces", __name__)


def _spec(opened: Opened, place: str) -> tuple[Input, str, str, int]:
    parts = place.split(".")
    if len(parts) != 3 or not re.fullmatch(r"[1-9]\d{0,2}", parts[2], re.ASCII) or int(parts[2]) > MOST_ROWS:
        abort(404)
    spec = opened.program.input_of.get(f"{parts[0]}.{parts[1]}")
    if spec is None or spec.extract is None:
        abort(404)
    return spec, parts[0], parts[1], int(parts[2])


def _sample_unit(spec: Input) -> str:
    """The unit samples are likely to be in: a slope's times seconds."""
    if spec.extract == "slope":
        return {"m/s^2": "m/s", "rad/s^2": "rad/s", "m/s": "m"}.get(spec.unit.text, f"{spec.unit.text} s")
    return "s" if spec.extract == "period" else spec.unit.text


def _content(opened: Opened, place: str, typed: dict[str, str] | None = None, fault: str = "") -> dict[str, Any]:
    spec, series, column, row = _spec(opened, place)
    traced = opened.state.run.traces.get(series, {}).get(column, [])
    document = traced[row - 1] if row <= len(traced) else None
    return {
        "place": place,
        "where": margin.where(opened, f"{place}.1"),
        "extract": spec.extract,
        "spec": spec,
        "document": document,
        "sample_unit": _sample_unit(spec),
        "typed": typed or {},
        "fault": fault,
        "key": str(uuid4()),
        **(_shown(spec, document, opened.analysis.rules.rounding) if document is not None else {}),
    }


def _shown(spec: Input, document: TraceDocument, rounding: str) -> dict[str, Any]:
    """The drawing of a trace, and what its stretch gives, or why it gives nothing."""
    unit = units.unit(document.unit)
    times = trace.sample_times(document.rate, document.start, document.times, len(document.values))
    values = np.array([math.nan if v is None else v for v in document.values], float)
    begin = document.begin if document.begin is not None else float(times[0])
    end = document.end if document.end is not None else float(times[-1])
    text, fitted, reason = "", None, ""
    assert spec.extract is not None
    try:
        value, u = from_trace(spec, document)
        text = MeasuredValue(value=value, u=u, unit=spec.unit, rule=rounding).text()
        shown = value / unit.factor if spec.extract == "slope" else unit.from_si(value)
        fitted = _fitted(spec.extract, shown, times, values, begin, end)
    except CavrelError as fault:
        reason = fault.what
    picture = drawn.drawing(
        times,
        values,
        (begin, end),
        fitted,
        Axis("time", "t", "s"),
        Axis("samples", "", unit.pretty),
        f"{len(values)} samples; the stretch from {begin:g} to {end:g} s counts",
    )
    return {"picture": Markup(picture), "text": text, "reason": reason, "begin": begin, "end": end}


def _fitted(kind: str, value: float, times: Any, values: Any, begin: float, end: float) -> tuple[Any, Any] | None:
    """The line that a slope, mean or level stands for, over its stretch."""
    inside = (times >= begin) & (times <= end) & np.isfinite(values)
    if kind == "period" or not inside.any():
        return None
    ends = np.array([begin, end])
    if kind == "slope":
        return ends, values[inside].mean() + value * (ends - times[inside].mean())
    return ends, np.array([value, value])


def _notes(opened: Opened) -> list[Note]:
    return [
        Note(
            "caution",
            "What counts",
            "Choose the stretch after the release and before the stop: a hand in the data bends it.",
        ),
        *margin.cautions(opened),
    ]


@pages.get("/runs/<int:run>/traces/<place>")
def page(run: int, place: str) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page("traces/page.html", opened, f"trace:{place}", _notes(opened), **_content(opened, place))


@pages.get("/runs/<int:run>/traces/<place>.json")
def twin(run: int, place: str) -> ResponseReturnValue:
    """The samples as they are kept, with the stretch, and what it gives."""
    opened = opened_or_404(run)
    content = _content(opened, place)
    document = content["document"]
    return jsonify(
        place=place,
        extract=content["extract"],
        trace=document.model_dump(mode="json", exclude_none=True) if document else None,
        value=content.get("text") or None,
        reason=content.get("reason") or None,
    )


@pages.post("/runs/<int:run>/traces/<place>")
def put(run: int, place: str) -> ResponseReturnValue:
    """Keep pasted or chosen samples; what cannot be read comes back as it was, with its line."""
    opened = opened_or_404(run)
    _spec(opened, place)
    sent = request.files.get("file")
    text = request.form.get("samples", "")
    if sent is not None and sent.filename:
        text = sent.read().decode("utf-8", "replace")
    typed = {"samples": text, "rate": request.form.get("rate", ""), "unit": request.form.get("unit", "")}
    try:
        samples = read_samples(text)
        body: dict[str, Any] = {"values": samples.values, "unit": samples.unit or typed["unit"]}
        if samples.times is None:
            trace.sample_times(typed["rate"], 0.0, None, len(samples.values))
            body["rate"] = typed["rate"]
        else:
            body["times"] = samples.times
        units.unit(body["unit"])
        check_entry(opened.definition, "trace", f"trace:{place}", body)
        key = UUID(request.form.get("key", ""))
    except (CavrelError, ValueError) as fault:
        said = str(fault) if isinstance(fault, CavrelError) else "This page is out of date: load it again."
        content = _content(opened, place, typed, said[0].upper() + said[1:])
        return stage_page("traces/page.html", opened, f"trace:{place}", _notes(opened), **content), 422
    now = datetime.now(timezone.utc)
    with transaction(pool()) as connection:
        entry_store.append(connection, run, [NewEntry("trace", f"trace:{place}", body, opened.run.bench, now, key)])
    return redirect(url_for("traces.page", run=run, place=place), 303)


def follow(opened: Opened, place: str) -> str:
    """What changes on the page after a save."""
    content = _content(opened, place)
    return render_template("traces/follow.html", **frame(opened, f"trace:{place}", _notes(opened)), **content)
