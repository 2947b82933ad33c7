"""A run as a file, by the name of its format: for pages, the command line and long work alike."""

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from flask import render_template

from cavrel.core.document.tables import as_csv
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import EMPTY, Laboratory
from cavrel.present import decimals, export, graphs, measure, report
from cavrel.service.run_view import RunView
from cavrel.web import forms, setting


@dataclass(frozen=True, slots=True, kw_only=True)
class Wish:
    """How a file is wanted.

    ``form``: of report.
    ``paper``: ``a4`` or ``letter``.
    ``table``: for CSV; for SVG the fit.
    ``laboratory``: whose forms there are.
    """

    form: str = ""
    paper: str = "a4"
    table: str = ""
    laboratory: Laboratory = EMPTY


def _report(opened: RunView, wish: Wish) -> tuple[str, str]:
    """The report as it stands, and its title."""
    content = report.content(opened)
    body, fault = forms.body(forms.chosen(wish.form, wish.laboratory), content, wish.laboratory)
    if fault:
        raise CavrelError("form", fault)
    return render_template("report/printed.html", c=content, v=None, body=body), str(content["title"])


def _pdf(opened: RunView, wish: Wish) -> bytes:
    body, title = _report(opened, wish)
    return setting.pdf(body, title, opened.run.bench, wish.paper)


def _html(opened: RunView, wish: Wish) -> bytes:
    from cavrel.web import pdf

    body, title = _report(opened, wish)
    return pdf.alone(body, title, opened.run.bench).encode()


def _csv(opened: RunView, wish: Wish) -> bytes:
    found = export.tables_of(opened)
    chosen = next((t for t in found if t.name == wish.table), None)
    if chosen is None:
        raise CavrelError("--table", f"there is no table '{wish.table}'; there are {', '.join(t.name for t in found)}")
    return as_csv(chosen, decimals.rule() == "comma").encode()


def _svg(opened: RunView, wish: Wish) -> bytes:
    """The graph of a fit, the first where none is named by ``table``."""
    from cavrel.web import pdf

    drawn = {name: fit for name, fit in opened.analysis.fits.items() if fit.made}
    name = wish.table or next(iter(drawn), "")
    if name not in drawn:
        raise CavrelError("--table", f"there is no graph '{name}'; there are {', '.join(drawn) or 'none yet'}")
    return pdf.standing(graphs.fit_graphs(opened, drawn[name]).line).encode()


def _json(opened: RunView, _: Wish) -> bytes:
    return (json.dumps(measure.data(opened), indent=2, ensure_ascii=False) + "\n").encode()


FORMATS: Mapping[str, tuple[str, Callable[[RunView, Wish], bytes]]] = {
    "pdf": ("pdf", _pdf),
    "html": ("html", _html),
    "package": ("zip", lambda opened, _: export.package_of(opened)),
    "xlsx": ("xlsx", lambda opened, _: export.book_of(opened, "xlsx")),
    "ods": ("ods", lambda opened, _: export.book_of(opened, "ods")),
    "notebook": ("ipynb", lambda opened, _: export.notebook_of(opened).encode()),
    "tex": ("tex", lambda opened, _: export.latex_of(opened).encode()),
    "csv": ("csv", _csv),
    "svg": ("svg", _svg),
    "json": ("json", _json),
}
"""Each format: the ending of its files, and what makes one."""


def made(opened: RunView, kind: str, wish: Wish) -> bytes:
    """A run as a file of a format. Raises CavrelError."""
    decimals.write_with(opened.analysis.rules.decimal)
    return FORMATS[kind][1](opened, wish)


def named(opened: RunView, kind: str) -> str:
    """A name for the file."""
    return f"{export.file_name(opened)}.{FORMATS[kind][0]}"
