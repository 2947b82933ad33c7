"""What leaves a run: its tables, and the package that holds everything."""

import re

from cavrel.core.document import package, tables
from cavrel.core.document.tables import Table
from cavrel.present import measure
from cavrel.service.opened import Opened


def tables_of(opened: Opened) -> list[Table]:
    """Quantities, series and results of the run as it stands."""
    return tables.tables(opened.analysis)


def package_of(opened: Opened) -> bytes:
    """Tables, run document, definition and result document in one archive."""
    data = measure.data(opened)
    documents = {"run.json": data["run"], "definition.json": opened.base.document(), "result.json": data["result"]}
    made = opened.entries[-1].saved_at.isoformat() if opened.entries else ""
    return package.archive(opened.run.title, opened.run.experiment, tables_of(opened), documents, made)


def file_name(opened: Opened) -> str:
    """A name for files of the run, of plain letters."""
    plain = re.sub(r"[^a-z0-9]+", "-", f"{opened.run.title} {opened.run.bench}".lower()).strip("-")
    return plain[:60] or f"run-{opened.run.id}"
