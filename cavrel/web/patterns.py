"""Patterns: every component in every state, on one page, for whoever changes the look."""

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.graph import numberline, points
from cavrel.graph.points import Axis, Mark
from cavrel.present.notes import Act, Note
from cavrel.present.stages import Stage
from cavrel.present.tables import Field

pages = Blueprint("patterns", __name__)

_NOTES = [
    Note("danger", "Danger", "Something can hurt someone now.", acts=(Act("Look at it", "go", ""),)),
    Note(
        "suspect",
        "Suspicion",
        "A reading that may be a slip, with what can be done.",
        acts=(Act("Leave out…", "leave-out", ""), Act("It stands", "stands", "")),
    ),
    Note("caution", "Caution", "Worth knowing before going on."),
    Note("good", "Good", "Something holds."),
    Note(
        "own",
        "A bench writes",
        "“Its own remark, or a decision with its reason.”",
        acts=(Act("Take back", "take-back", ""),),
    ),
]
_FIELDS = [
    Field("p.a.1.1", "31.09", (), "", "plain", None),
    Field("p.a.2.1", "38.15", ("37.81",), "", "corrected", None),
    Field("p.a.3.1", "46.75", (), "suspect", "suspected", None),
    Field("p.a.4.1", "46.7", (), "odd", "odd decimals", None),
    Field("p.a.5.1", "46.75", (), "out", "left out", None),
    Field("p.a.6.1", "", (), "", "suggested", None, "120.0"),
]
_STAGES = [
    Stage("a", "Done", "8 rows, straight", "done"),
    Stage("b", "Begun", "27 of 40 readings", "begun"),
    Stage("c", "Waiting", "too early", "waiting"),
]


@pages.get("/patterns.json")
def twin() -> ResponseReturnValue:
    """What the page shows, as data: notes by tone, fields by mark, stages by state."""
    return jsonify(
        notes=[{"tone": n.tone, "title": n.title, "text": n.text} for n in _NOTES],
        fields=[{"mark": f.mark, "text": f.text, "label": f.label} for f in _FIELDS],
        stages=[{"state": s.state, "title": s.title, "line": s.line} for s in _STAGES],
    )


@pages.get("/patterns")
def page() -> ResponseReturnValue:
    marks = [
        Mark(1.0, 2.1, 0.05, 0.3, "p.1", "read"),
        Mark(2.0, 3.9, 0.05, 0.3, "p.2", "suspected", "suspect"),
        Mark(3.0, 4.2, 0.05, 0.3, "p.3", "left out", "out"),
        Mark(4.0, 8.1, 0.05, 0.3, "p.4", "read"),
    ]
    graph = points.raw_curve(marks, Axis("length", "L", "m"), Axis("period", "T", "s"), None, "Marks")
    line = numberline.number_line(
        [numberline.Entry("own", 9.82, 0.02, True), numberline.Entry("another bench", 9.79, 0.04)],
        (9.806, 0.001, "accepted 9.806"),
        "m/s²",
        "Number line",
    )
    bars = [(share, numberline.bar(share)) for share in (0.74, 0.2, 0.01)]
    return render_template(
        "patterns.html",
        pattern_notes=_NOTES,
        fields=_FIELDS,
        stages=_STAGES,
        graph=graph,
        line=line,
        bars=bars,
    )
