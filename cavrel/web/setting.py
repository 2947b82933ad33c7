"""What sets pages from a text that a stranger may have written, or for long: tasks for processes of their own."""

from collections.abc import Mapping
from functools import cache
from typing import Any

from flask import Flask

from cavrel import bounded

PAPERS = {"a4": "A4", "letter": "Letter"}
FORM = bounded.Task(name="cavrel.web.setting:form_here", what="this form", seconds=3, megabytes=150, answer=8 * 2**20)
PDF = bounded.Task(name="cavrel.web.setting:pdf_here", what="this PDF", seconds=90, megabytes=1500)


@cache
def _app() -> Flask:
    from cavrel.web.app import plain_app

    return plain_app()


def form_here(text: str, content: Mapping[str, Any], live: bool) -> str:
    """A form's text over a report's content. Raises CavrelError with the line at fault."""
    from cavrel.web import forms

    with _app().app_context():
        return str(forms.rendered(text, content, live))


def pdf_here(page: str, title: str, author: str, paper: str) -> bytes:
    """A report's HTML as PDF."""
    from cavrel.web import pdf

    with _app().app_context():
        return pdf.pdf(page, title, author, paper)


def form(text: str, content: Mapping[str, Any], live: bool = False) -> str:
    """The same in a process of its own. Raises CavrelError."""
    made: str = bounded.run(FORM, text, content, live)
    return made


def pdf(page: str, title: str, author: str, paper: str) -> bytes:
    """The same in a process of its own. Raises bounded.Over."""
    made: bytes = bounded.run(PDF, page, title, author, paper)
    return made
