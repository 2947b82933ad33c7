"""What leaves a run: its tables, and the package that holds everything."""

import json
import re

from cavrel.core.document import latex, logbook_file, package, tables
from cavrel.core.document.logbook_file import Carried, renumbered
from cavrel.core.document.notebook import notebook
from cavrel.core.document.tables import Table
from cavrel.core.document.workbook import workbook
from cavrel.present import decimals, measure, print_tables, report
from cavrel.service.run_view import RunView
from cavrel.store.runs import Run


def tables_of(opened: RunView) -> list[Table]:
    """Quantities, series and results of the run as it stands."""
    return tables.tables(opened.analysis)


def package_of(opened: RunView) -> bytes:
    """Tables, run, definition, result, logbook and laboratory in one archive: what it takes to go on with the run elsewhere."""
    data = measure.data(opened)
    laboratory = opened.laboratory
    documents = {
        "run.json": data["run"],
        "definition.json": opened.base.document(),
        "result.json": data["result"],
        "logbook.json": logbook_file.document(carried_of(opened)),
        "laboratory.json": laboratory.model_dump(mode="json", by_alias=True, exclude_defaults=True)
        | {"format": laboratory.format},
    }
    made = opened.entries[-1].saved_at.isoformat() if opened.entries else ""
    return package.archive(opened.title, opened.run.experiment, tables_of(opened), documents, made)


def book_of(opened: RunView, kind: str) -> bytes:
    """The run as a workbook, ``xlsx`` or ``ods``."""
    from cavrel.core.document import spreadsheets  # half a second of libraries that only a workbook should cost

    pages = workbook(opened.analysis, opened.title, f"{opened.begun:%Y-%m-%d}, bench {opened.run.bench}")
    return spreadsheets.xlsx(pages) if kind == "xlsx" else spreadsheets.ods(pages)


def notebook_of(opened: RunView) -> str:
    """The run as a notebook that works every result out again."""
    return json.dumps(notebook(opened.analysis, opened.title), indent=1, ensure_ascii=False) + "\n"


def latex_of(opened: RunView) -> str:
    """The report's tables for LaTeX: quantities, readings, results."""
    found = []
    once = print_tables.quantities(opened)
    if once:
        found.append(latex.table("Quantities of the run", [("quantity", ""), ("value", "")], once))
    found += [latex.table(report.caption(opened, t.caption), t.head, t.rows) for t in print_tables.tables(opened)]
    results = report.results(opened)
    if results:
        head = [("result", ""), ("value", ""), ("compared with", "")]
        rows = [(r["label"], r.get("text") or f"missing: {r['missing']}", r.get("beside", "")) for r in results]
        found.append(latex.table("Results", head, rows))
    return decimals.text("\n".join(found))


def carried_of(opened: RunView) -> Carried:
    """The run's logbook, counted from 1."""
    run = opened.run
    return Carried(
        title=run.title,
        bench=run.bench,
        made_at=run.made_at,
        rules=run.rules,
        instruments=run.instruments,
        entries=renumbered(opened.entries, {e.id: i for i, e in enumerate(opened.entries, 1)}),
    )


def file_name(opened: RunView) -> str:
    """A name for files of an opened run."""
    return file_of(opened.run)


def file_of(run: Run) -> str:
    """A name for files of a run, of plain letters."""
    plain = re.sub(r"[^a-z0-9]+", "-", f"{run.title} {run.bench}".lower()).strip("-")
    return plain[:60] or f"run-{run.id}"
