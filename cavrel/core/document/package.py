"""A run as a data package: its tables as CSV, described column by column, with the run, the definition and the result they come from.

The descriptor follows the Data Package and Table Schema standard (datapackage.org, version 1 profile); the second row of a table, its units, is
declared a comment in its dialect, and each field says its unit.
"""

import io
import json
import zipfile
from collections.abc import Mapping
from typing import Any

from cavrel.core.document.tables import Table, as_csv

_MOMENT = (2020, 1, 1, 0, 0, 0)
"""Files in an archive bear one moment, so that one run gives the same bytes whenever it is packed."""


def descriptor(title: str, experiment: str, tables: list[Table], made: str = "") -> dict[str, Any]:
    """The package's ``datapackage.json``."""
    return {
        "profile": "tabular-data-package",
        "name": _name(title) or experiment,
        "title": title,
        "keywords": [experiment, "physics", "laboratory"],
        **({"created": made} if made else {}),
        "resources": [_resource(table) for table in tables],
    }


def _resource(table: Table) -> dict[str, Any]:
    return {
        "profile": "tabular-data-resource",
        "name": _name(table.name),
        "title": table.title,
        "path": f"{table.name}.csv",
        "format": "csv",
        "mediatype": "text/csv",
        "encoding": "utf-8",
        "dialect": {
            "delimiter": ",",
            "lineTerminator": "\r\n",
            "header": True,
            "headerRows": [1],
            "commentRows": [2],
        },
        "schema": {
            "fields": [
                {
                    "name": column.name,
                    "title": column.title,
                    "type": "string" if column.text else "number",
                    **({"unit": column.unit} if column.unit else {}),
                }
                for column in table.columns
            ],
            "missingValues": [""],
        },
    }


def _name(text: str) -> str:
    kept = "".join(c if c.isascii() and c.isalnum() else "-" for c in text.lower())
    return "-".join(part for part in kept.split("-") if part)[:80]


def archive(
    title: str, experiment: str, tables: list[Table], documents: Mapping[str, Mapping[str, Any]], made: str = ""
) -> bytes:
    """The whole as a ZIP archive; ``documents`` are the JSON files next to the tables, by name."""
    sink = io.BytesIO()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as packed:
        files = {"datapackage.json": _json(descriptor(title, experiment, tables, made))}
        files |= {f"{table.name}.csv": as_csv(table) for table in tables}
        files |= {name: _json(document) for name, document in documents.items()}
        for name, text in files.items():
            entry = zipfile.ZipInfo(name, _MOMENT)
            entry.compress_type = zipfile.ZIP_DEFLATED
            packed.writestr(entry, text.encode())
    return sink.getvalue()


def _json(document: Mapping[str, Any]) -> str:
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"
