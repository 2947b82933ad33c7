"""Out: a run's tables as CSV, and the whole run as a data package."""

from flask import Blueprint, Response, abort, jsonify, render_template
from flask.typing import ResponseReturnValue

from cavrel.core.document.tables import as_csv
from cavrel.core.errors import CavrelError
from cavrel.present import decimals, export
from cavrel.web import files
from cavrel.web.shared import frame, opened_or_404

pages = Blueprint("export", __name__)


@pages.get("/runs/<int:run>/export")
def page(run: int) -> ResponseReturnValue:
    opened = opened_or_404(run)
    drawn = [name for name, fit in opened.analysis.fits.items() if fit.made]
    return render_template(
        "export/page.html", **frame(opened, "export", []), tables=export.tables_of(opened), drawn=drawn
    )


@pages.get("/runs/<int:run>/export.json")
def as_json(run: int) -> ResponseReturnValue:
    """The files that a run can be exported as, by their addresses."""
    opened = opened_or_404(run)
    rest = (
        "workbook.xlsx",
        "workbook.ods",
        "notebook.ipynb",
        "tables.tex",
        "package.zip",
        "report.pdf",
        "measure.json",
    )
    tables = [f"tables/{t.name}.csv" for t in export.tables_of(opened)]
    return jsonify(files=[f"/runs/{run}/{name}" for name in (*tables, *rest)])


@pages.get("/runs/<int:run>/tables/<name>.csv")
def table(run: int, name: str) -> ResponseReturnValue:
    """One table as CSV: names, units, rows."""
    opened = opened_or_404(run)
    found = next((t for t in export.tables_of(opened) if t.name == name), None)
    if found is None:
        abort(404)
    comma = decimals.rule() == "comma"
    return file_answer(
        as_csv(found, comma).encode(), "text/csv; charset=utf-8", f"{export.file_name(opened)}-{name}.csv"
    )


@pages.get("/runs/<int:run>/package.zip")
def package(run: int) -> ResponseReturnValue:
    """The run as a data package."""
    opened = opened_or_404(run)
    return file_answer(export.package_of(opened), "application/zip", f"{export.file_name(opened)}.zip")


_BOOKS = {
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "ods": "application/vnd.oasis.opendocument.spreadsheet",
}


@pages.get("/runs/<int:run>/workbook.<any(xlsx, ods):kind>")
def workbook(run: int, kind: str) -> ResponseReturnValue:
    """The run as a workbook that computes."""
    opened = opened_or_404(run)
    return file_answer(export.book_of(opened, kind), _BOOKS[kind], f"{export.file_name(opened)}.{kind}")


@pages.get("/runs/<int:run>/notebook.ipynb")
def notebook(run: int) -> ResponseReturnValue:
    """The run as a notebook that works its results out again."""
    opened = opened_or_404(run)
    return file_answer(
        export.notebook_of(opened).encode(), "application/x-ipynb+json", f"{export.file_name(opened)}.ipynb"
    )


@pages.get("/runs/<int:run>/graphs/<name>.svg")
def graph(run: int, name: str) -> ResponseReturnValue:
    """The graph of a fit as a drawing of its own."""
    opened = opened_or_404(run)
    try:
        body = files.made(opened, "svg", files.Wish(table=name))
    except CavrelError:
        abort(404)
    return file_answer(body, "image/svg+xml", f"{export.file_name(opened)}-{name}.svg")


@pages.get("/runs/<int:run>/tables.tex")
def latex(run: int) -> ResponseReturnValue:
    """The report's tables for LaTeX."""
    opened = opened_or_404(run)
    return file_answer(
        export.latex_of(opened).encode(), "application/x-tex; charset=utf-8", f"{export.file_name(opened)}.tex"
    )


def file_answer(body: bytes, kind: str, name: str) -> Response:
    """A file to be saved."""
    answer = Response(body, mimetype=None, content_type=kind)
    answer.headers["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer
