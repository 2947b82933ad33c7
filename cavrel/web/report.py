"""Report: the run written up, every number live, drafts marked until somebody has taken them; signed versions stay as they were."""

import json
from dataclasses import asdict
from datetime import datetime, timezone
from hashlib import sha256
from typing import Any
from uuid import UUID, uuid4

from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from cavrel.core.laboratory import EMPTY, Laboratory
from cavrel.present import export, instructor, report, suspects, versions, zones
from cavrel.present.marking import marks
from cavrel.service import simulations
from cavrel.service.reports import sign as keep_signed
from cavrel.service.run_view import RunView
from cavrel.store import courses
from cavrel.store import reports as store
from cavrel.store import runs as run_store
from cavrel.store.pool import transaction
from cavrel.store.reports import SignedReport
from cavrel.web import forms, papers
from cavrel.web.addressed import stay
from cavrel.web.experiments import newest_laboratory
from cavrel.web.setting import BLANK, PAPERS
from cavrel.web.shared import Following, frame, opened_or_404, pool, stage_page

pages = Blueprint("report", __name__)


def course_laboratory(opened: RunView) -> Laboratory:
    """The newest laboratory of a run's course, whose forms and rubric count for every run of it."""
    with transaction(pool()) as connection:
        course = courses.get(connection, opened.run.course)
        return newest_laboratory(connection, course) if course else EMPTY


def _signed(opened: RunView, laboratory: Laboratory) -> list[dict[str, Any]]:
    with transaction(pool()) as connection:
        found = store.of_run(connection, opened.run.id)
    shown = []
    for v in found:
        given = marks(opened, v.version, laboratory, {"parts": {}, "figures": [], "answers": []})
        shown.append(
            {
                "version": v.version,
                "made_at": v.made_at,
                "author": v.author,
                "digest": v.digest,
                "given": given["given"],
                "points": given["total"],
            }
        )
    return shown


def _live(opened: RunView, form: str) -> dict[str, Any]:
    """What the page shows of the report as it stands."""
    laboratory = course_laboratory(opened)
    content, name = report.content(opened), forms.chosen(form, laboratory)
    body, fault = forms.body(name, content, laboratory, live=True)
    return {
        "c": content,
        "body": body,
        "shown_fault": fault,
        "form": name,
        "page_detail": name,
        "forms": forms.offered(laboratory),
        "signed": _signed(opened, laboratory),
        "sign_key": str(uuid4()),
    }


@pages.get("/runs/<int:run>/report")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    live = _live(opened, request.args.get("form", ""))
    return stage_page("report/page.html", opened, "report", suspects.report_notes(opened), **live)


@pages.get("/runs/<int:run>/report.json")
def as_json(run: int) -> ResponseReturnValue:
    """The report's texts as data, and which versions are signed."""
    opened = opened_or_404(run)
    with transaction(pool()) as connection:
        found = store.of_run(connection, run)
    signed = [
        {"version": v.version, "digest": v.digest, "author": v.author, "signed_at": v.made_at.isoformat()}
        for v in found
    ]
    return jsonify({**report.data(opened), "signed": signed})


@pages.post("/runs/<int:run>/report/sign")
def sign(run: int) -> ResponseReturnValue:
    """Keep the report as it stands; sent twice, it is one version. What changed since the page was drawn is signed only when it is seen, and
    what is left to do in it once somebody has been told."""
    opened = opened_or_404(run)
    try:
        key = UUID(request.form.get("key", ""))
    except ValueError:
        abort(422, "The form has no key; load the page again.")
    author = request.form.get("author", "").replace("\x00", "").strip()[:80]
    if not author:
        live = _live(opened, "")
        live["shown_fault"] = "Write who submits the report, then submit it again. Nothing is lost."
        return stage_page("report/page.html", opened, "report", suspects.report_notes(opened), **live), 422
    left = report.unsettled(report.content(opened))
    known = sha256(json.dumps(left).encode()).hexdigest()[:16]
    if left and request.form.get("knowing") != known:
        asked = {"left": left, "knowing": known, "author": author, "sign_key": str(key)}
        return stage_page(
            "report/page.html", opened, "report", suspects.report_notes(opened), **{**_live(opened, ""), **asked}
        )
    made = keep_signed(pool(), run, author, key, request.form.get("last", ""), report.frozen)
    if made is None:
        live = _live(opened, "")
        live["shown_fault"] = (
            "Something was saved since this page was drawn. Look at it as it stands now, and sign again."
        )
        return stage_page("report/page.html", opened, "report", suspects.report_notes(opened), **live), 409
    return redirect(url_for("report.signed", run=run, version=made.version), 303)


def version_or_404(run: int, version: int) -> tuple[SignedReport, dict[str, Any]]:
    """A signed version and what it holds, or the page that says there is none."""
    with transaction(pool()) as connection:
        found = next((v for v in store.of_run(connection, run) if v.version == version), None)
        if found is None:
            abort(404)
        return found, store.body(connection, run, version)


@pages.get("/runs/<int:run>/report/<int:version>")
def signed(run: int, version: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    found, body = version_or_404(run, version)
    laboratory = course_laboratory(opened)
    name = forms.chosen(request.args.get("form", ""), laboratory)
    markup, fault = forms.body(name, body["content"], laboratory)
    bench = simulations.of_run(pool(), opened)
    return stage_page(
        "report/signed.html",
        opened,
        "report",
        [],
        v=found,
        c=body["content"],
        body=markup,
        shown_fault=fault,
        form=name,
        forms=forms.offered(laboratory),
        truths=instructor.truths(opened, bench) if bench is not None else [],
        **marks(opened, version, laboratory, body["content"], for_bench=True),
    )


@pages.get("/runs/<int:run>/report/<int:version>.json")
def signed_json(run: int, version: int) -> ResponseReturnValue:
    """A signed version as it is kept."""
    found, body = version_or_404(run, version)
    return jsonify({"version": version, "digest": found.digest, "author": found.author, **body})


@pages.get("/runs/<int:run>/report/compare")
def compare(run: int) -> ResponseReturnValue:
    """Two versions, or one and the report as it is now."""
    opened = opened_or_404(run)
    with transaction(pool()) as connection:
        found = store.of_run(connection, run)
    known = {v.version for v in found}
    first = _number(request.args.get("a", ""), known) or (max(known) if known else 0)
    second = _number(request.args.get("b", ""), known)
    contents, names = [], []
    for number in (first, second):
        contents.append(version_or_404(run, number)[1]["content"] if number else report.content(opened))
        names.append(f"Version {number}" if number else "the report as it is now")
    return stage_page(
        "report/compare.html",
        opened,
        "report",
        [],
        signed=found,
        a=first,
        b=second,
        names=names,
        differences=versions.differences(*contents),
    )


@pages.get("/runs/<int:run>/report/compare.json")
def compare_json(run: int) -> ResponseReturnValue:
    """What differs between two versions, or one and the report as it is now, as data."""
    opened = opened_or_404(run)
    with transaction(pool()) as connection:
        known = {v.version for v in store.of_run(connection, run)}
    first = _number(request.args.get("a", ""), known) or (max(known) if known else 0)
    second = _number(request.args.get("b", ""), known)
    contents = [version_or_404(run, n)[1]["content"] if n else report.content(opened) for n in (first, second)]
    return jsonify(a=first, b=second, differences=[asdict(d) for d in versions.differences(*contents)])


@pages.get("/runs/<int:run>/report/pages")
def paged(run: int) -> ResponseReturnValue:
    """Print preview: the PDF itself."""
    opened = opened_or_404(run)
    chosen = {name: request.args[name][:30] for name in ("form", "paper", "version") if request.args.get(name)}
    return stage_page("report/pages.html", opened, "report", [], page_name="signed", chosen=chosen)


def _number(text: str, known: set[int]) -> int:
    number = int(text) if text.isascii() and text.isdigit() and len(text) < 5 else 0
    return number if number in known else 0


@pages.get("/runs/<int:run>/report.pdf")
def pdf(run: int) -> ResponseReturnValue:
    """The report as it stands, on paper."""
    return _on_paper(run, 0, request.args.get("form", "")[:30])


@pages.get("/runs/<int:run>/blank.pdf")
def blank(run: int) -> ResponseReturnValue:
    """The run's table before its readings, to be filled in by hand."""
    return _on_paper(run, 0, BLANK)


@pages.get("/runs/<int:run>/report/<int:version>.pdf")
def signed_pdf(run: int, version: int) -> ResponseReturnValue:
    """A signed version on paper."""
    return _on_paper(run, version, request.args.get("form", "")[:30])


def _on_paper(number: int, version: int, form: str) -> ResponseReturnValue:
    """What it is set from is not even opened here: that, too, is background work."""
    with transaction(pool()) as connection:
        run = run_store.get(connection, number)
        if run is None:
            abort(404)
        signed_one = next((v for v in store.of_run(connection, number) if v.version == version), None)
        if version and signed_one is None:
            abort(404)
        course = courses.get(connection, run.course)
    assert course is not None
    stay(run.course_slug, run.zone, "point")
    today = zones.local(datetime.now(timezone.utc)).date()
    size = request.args.get("paper", "a4").lower()
    wish = {
        "run": number,
        "version": version,
        "form": form,
        "size": size if size in PAPERS else "a4",
    }
    rests_on = (
        signed_one.digest if signed_one else [run.newest, run.made_of, run.digest, run.title, run.bench, str(today)]
    )
    made_of = [wish, str(run.made_at), rests_on, course.digest, course.title, course.zone]
    number_of = f"-v{version}" if version else "-table" if form == BLANK else ""
    return papers.answer(wish, made_of, f"{export.file_of(run)}{number_of}.pdf")


def follow(opened: RunView, following: Following) -> str:
    """What changes on the page after a save: what is computed, and each text that nobody is typing in."""
    shown = frame(opened, "report", suspects.report_notes(opened))
    return render_template("report/follow.html", **shown, **_live(opened, following.detail))
