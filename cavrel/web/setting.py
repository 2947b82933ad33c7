"""What sets pages from a text that a stranger may have written, or for long: tasks for processes of their own."""

from collections.abc import Mapping
from functools import cache
from typing import Any

from flask import Flask, render_template

from cavrel import bounded
from cavrel.core.errors import CavrelError
from cavrel.store.pool import open_pool, transaction

BLANK = "=blank"
"""Instead of the name of a report template: the empty table. No template can have this name."""
PAPERS = {"a4": "A4", "letter": "Letter"}
FORM = bounded.Task(name="cavrel.web.setting:form_here", what="this form", seconds=3, megabytes=150, answer=8 * 2**20)
PDF = bounded.Task(name="cavrel.web.setting:pdf_here", what="this PDF", seconds=90, megabytes=1500, idle=True)
PAPER = bounded.Task(name="cavrel.web.setting:paper_here", what="this PDF", seconds=90, megabytes=1500, idle=True)


@cache
def _app() -> Flask:
    from cavrel.web.app import plain_app

    return plain_app()


def form_here(text: str, content: Mapping[str, Any], live: bool) -> str:
    """A form's text over a report's content. Raises CavrelError with the line at fault."""
    from cavrel.web import forms

    with _app().app_context():
        return str(forms.rendered(text, content, live))


def pdf_here(page: str, title: str, author: str, paper: str, decimal: str) -> bytes:
    """A report's HTML as PDF; ``decimal``: the house rule that its numbers are written by."""
    from cavrel.present import decimals
    from cavrel.web import pdf

    decimals.write_with(decimal)
    with _app().app_context():
        return pdf.pdf(page, title, author, paper)


def form(text: str, content: Mapping[str, Any], live: bool = False) -> str:
    """The same in a process of its own, unless this is one. Raises CavrelError."""
    made: str = form_here(text, content, live) if bounded.within() else bounded.run(FORM, text, content, live)
    return made


def pdf(page: str, title: str, author: str, paper: str) -> bytes:
    """The same in a process of its own. Raises bounded.Over."""
    from cavrel.present import decimals

    made: bytes = bounded.run(PDF, page, title, author, paper, decimals.rule())
    return made


def paper_here(url: str, run: int, version: int, form: str, size: str) -> bytes:
    """A run's report as PDF: as it stands, or a signed ``version``. Raises CavrelError where there is none."""
    from cavrel.present import blank_table, decimals, report, zones
    from cavrel.service.laboratories import laboratory_of
    from cavrel.service.opening import open_run
    from cavrel.store import courses, reports
    from cavrel.web import forms, pdf

    with open_pool(url, size=2) as pool, _app().app_context():
        opened = open_run(pool, run)
        with transaction(pool) as connection:
            signed = next((v for v in reports.of_run(connection, run) if v.version == version), None)
            course = courses.get(connection, opened.run.course) if opened is not None else None
            if opened is None or course is None or (version and signed is None):
                raise CavrelError("", "there is no such report any more")
            laboratory = laboratory_of(connection, course.id, course.version, course.digest)
            kept = reports.body(connection, run, version)["content"] if signed else None
        zones.tell_in(opened.run.zone)
        decimals.write_with(opened.analysis.rules.decimal)
        if form == BLANK:
            page = render_template("report/blank.html", c=blank_table.content(opened))
            return pdf.pdf(page, opened.run.title, opened.run.bench, size)
        content = kept or report.content(opened)
        body, _ = forms.body(forms.chosen(form, laboratory), content, laboratory)
        page = render_template("report/printed.html", c=content, v=signed, body=body)
        title = content["title"] + (" (simulated readings)" if content.get("simulated") else "")
        return pdf.pdf(page, title, signed.author if signed else content["bench"], size)


def paper(url: str, wish: Mapping[str, Any]) -> bytes:
    """The same in a process of its own. Raises CavrelError."""
    made: bytes = bounded.run(PAPER, url, wish["run"], wish["version"], wish["form"], wish["size"])
    return made
