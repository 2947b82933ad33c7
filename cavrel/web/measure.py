"""Measure: the table, the deck, the margin."""

from typing import Any

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.core.definition import Timer
from cavrel.core.document import result_document
from cavrel.core.reading import decimals_of
from cavrel.web import graphs, margin, tables
from cavrel.web.opened import Opened
from cavrel.web.shared import frame, opened_or_404, stage_page

pages = Blueprint("measure", __name__)


def _deck(opened: Opened) -> dict[str, Any] | None:
    """What the deck times: the first step with a timer, its laps as they stand, and the columns it fills."""
    for step in opened.definition.steps:
        if step.timer is not None:
            return {
                "timer": step.timer,
                "laps": _laps(opened, step.timer),
                "fills": step.fills,
                "decimals": _decimals(opened, step.fills),
                "do": step.do,
            }
    return None


def laps_to_count(opened: Opened) -> int | None:
    """How many laps the deck counts now, or None where nothing is timed."""
    deck = _deck(opened)
    return deck["laps"] if deck else None


def _laps(opened: Opened, timer: Timer) -> int:
    value = opened.analysis.values.get(timer.laps)
    number = float(value.value[0]) if value is not None else float(timer.laps) if timer.laps.isdigit() else float("nan")
    return int(number) if number >= 1 else 1


def _decimals(opened: Opened, fills: tuple[str, ...]) -> int:
    for key in fills:
        spec = opened.program.input_of.get(key)
        if spec is not None and spec.gauge is not None and spec.gauge.least_count:
            return decimals_of(spec.gauge.least_count, spec.unit)
    return 2


def _content(opened: Opened) -> dict[str, Any]:
    return {
        "tables": tables.tables(opened),
        "fields": tables.quantities(opened),
        "small_graph": graphs.small(opened),
        "deck": _deck(opened),
        "suggested": {key: tables.suggested(opened, key) for key in opened.program.suggestions},
    }


@pages.get("/runs/<int:run>/measure")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    return stage_page("measure/page.html", opened, "measure", margin.measure_notes(opened), **_content(opened))


@pages.get("/runs/<int:run>/measure.json")
def twin(run: int) -> ResponseReturnValue:
    """The same content as data: the run document and the result document."""
    opened = opened_or_404(run)
    return jsonify(
        title=opened.run.title,
        bench=opened.run.bench,
        entries=len(opened.entries),
        run=opened.state.run.model_dump(mode="json", exclude_defaults=True)
        | {"format": "cavrel-run/1", "experiment": opened.run.experiment},
        result=result_document(opened.analysis, opened.flags, opened.slips, opened.meanings),
    )


def follow(opened: Opened, whole: bool) -> str:
    """What changes on the page after a save, as fragments; ``whole`` draws the tables anew."""
    return render_template(
        "measure/follow.html", **frame(opened, "measure", margin.measure_notes(opened)), **_content(opened), whole=whole
    )
