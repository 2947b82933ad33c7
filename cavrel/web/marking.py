"""Marking: a signed report in the hands of a marker, with remarks at its parts and points by the course's rubric."""

from flask import Blueprint, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.present import suspects
from cavrel.present.marking import marks
from cavrel.service.run_view import RunView
from cavrel.web import forms
from cavrel.web.report import course_laboratory, version_or_404
from cavrel.web.shared import Following, opened_or_404, stage_page

pages = Blueprint("marking", __name__)


@pages.get("/runs/<int:run>/report/<int:version>/mark")
def page(run: int, version: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    found, body = version_or_404(run, version)
    laboratory = course_laboratory(opened)
    markup, _ = forms.body(forms.USUAL, body["content"], laboratory)
    return stage_page(
        "report/marking.html",
        opened,
        "marking",
        suspects.report_notes(opened),
        v=found,
        c=body["content"],
        body=markup,
        **marks(opened, version, laboratory, body["content"]),
    )


@pages.get("/runs/<int:run>/report/<int:version>/mark.json")
def as_json(run: int, version: int) -> ResponseReturnValue:
    """Points and remarks as data."""
    opened = opened_or_404(run)
    _, body = version_or_404(run, version)
    return jsonify(marks(opened, version, course_laboratory(opened), body["content"]))


def follow(opened: RunView, following: Following) -> str:
    """Points, remarks and whether they are returned, as they stand; what is being typed stays."""
    version = int(following.detail) if following.detail.isascii() and following.detail.isdigit() else 0
    found, body = version_or_404(opened.run.id, version)
    shown = marks(opened, version, course_laboratory(opened), body["content"])
    return render_template("report/marking_follow.html", run=opened.run, v=found, **shown)
