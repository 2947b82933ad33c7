"""Patterns: every component in every state, on one page, for whoever changes the look."""

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.graph import numberline, points
from cavrel.graph.points import Axis, Mark
from cavrel.present.notes import Act, Note
from cavrel.present.stages import Stage
from cavrel.present.table_layout import Field

pages = Blueprint("patterns", __name__)

_NOTES = [
    Note(tone="danger", title="Danger", text="Something can hurt someone now.", acts=(Act("Go to it", "go", ""),)),
    Note(
        tone="suspect",
        title="Suspicion",
        text="A reading that may be a slip, with what can be done.",
        acts=(Act("Leave out…", "leave-out", ""), Act("Keep", "stands", "")),
    ),
    Note(tone="caution", title="Caution", text="Worth knowing before going on."),
    Note(tone="good", title="Good", text="Something holds."),
    Note(
        tone="own",
        title="A bench writes",
        text="“Its own remark, or a decision with its reason.”",
        acts=(Act("Restore", "take-back", ""),),
    ),
]
_FIELDS = [
    Field(slot="p.a.1.1", text="31.09", was=(), mark="", label="plain", entry=None),
    Field(slot="p.a.2.1", text="38.15", was=("37.81",), mark="", label="corrected", entry=None),
    Field(slot="p.a.3.1", text="46.75", was=(), mark="suspect", label="suspected", entry=None),
    Field(slot="p.a.4.1", text="46.7", was=(), mark="odd", label="odd decimals", entry=None),
    Field(slot="p.a.5.1", text="46.75", was=(), mark="out", label="left out", entry=None),
    Field(slot="p.a.6.1", text="", was=(), mark="", label="suggested", entry=None, hint="120.0"),
]
_STAGES = [
    Stage("a", "Done", "8 rows, straight", "done"),
    Stage("b", "Begun", "27 of 40 readings", "begun"),
    Stage("c", "Waiting", "not yet", "waiting"),
]


@pages.get("/patterns.json")
def as_json() -> ResponseReturnValue:
    """What the page shows, as data: notes by tone, fields by mark, stages by state."""
    return jsonify(
        notes=[{"tone": n.tone, "title": n.title, "text": n.text} for n in _NOTES],
        fields=[{"mark": f.mark, "text": f.text, "label": f.label} for f in _FIELDS],
        stages=[{"state": s.state, "title": s.title, "line": s.line} for s in _STAGES],
    )


@pages.get("/patterns")
def page() -> ResponseReturnValue:
    marks = [
        Mark(x=1.0, y=2.1, u_x=0.05, u_y=0.3, at="p.1", label="read"),
        Mark(x=2.0, y=3.9, u_x=0.05, u_y=0.3, at="p.2", label="suspected", state="suspect"),
        Mark(x=3.0, y=4.2, u_x=0.05, u_y=0.3, at="p.3", label="left out", state="out"),
        Mark(x=4.0, y=8.1, u_x=0.05, u_y=0.3, at="p.4", label="read"),
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
