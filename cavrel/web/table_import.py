"""In: a table of readings from a spreadsheet or a paste, mapped to columns by a guess that is shown first, imported as one act."""

import json
import re
from typing import Any
from uuid import UUID, uuid4

from flask import Blueprint, abort, jsonify, redirect, request, url_for
from flask.typing import ResponseReturnValue

from cavrel import bounded
from cavrel.core.document import grid as grids
from cavrel.core.document.grid import Grid
from cavrel.core.document.unpack import FileError
from cavrel.core.errors import CavrelError
from cavrel.present import notes
from cavrel.present.summary import summary
from cavrel.service import summaries, table_import
from cavrel.service.opening import open_run
from cavrel.service.run_view import RunView
from cavrel.service.table_import import Choice, Looked
from cavrel.web.shared import opened_or_404, pool, stage_page

pages = Blueprint("table_import", __name__)

MOST_TEXT = 2_000_000
_SHOWN = 14
_FILE = bounded.Task(name="cavrel.core.document.grid:plain_sheets", what="this file", seconds=10, megabytes=500)
_PASTED = bounded.Task(name="cavrel.core.document.grid:plain_text", what="this table", seconds=5)


@pages.get("/runs/<int:run>/import")
def page(run: int) -> ResponseReturnValue:
    return _page(opened_or_404(run))


@pages.get("/runs/<int:run>/import.json")
def as_json(run: int) -> ResponseReturnValue:
    """Tables that were imported, newest first, and how many of their readings still stand."""
    acts = table_import.imports(opened_or_404(run))
    return jsonify(
        imports=[
            {"import": key, **e.body, "author": e.author, "at": e.saved_at.isoformat(), "standing": standing}
            for key, e, standing in acts
        ]
    )


def _page(opened: RunView, **shown: Any) -> str:
    return stage_page(
        "table_import/page.html",
        opened,
        "table",
        list(notes.notes_of_bench(opened)),
        acts=table_import.imports(opened),
        tables=list(opened.definition.series.items()),
        **{"look": None, "fault": "", "key": str(uuid4()), "file": "", "text": "", "back": None} | shown,
    )


@pages.post("/runs/<int:run>/import")
def take(run: int) -> ResponseReturnValue:
    """Look at a table, or import it: ``act`` says which. A table travels in the form, so that nothing waits for it on the server."""
    opened = opened_or_404(run)
    typed = request.form
    key, file = _key(typed.get("key", "")), typed.get("file", "")[:200].replace("\x00", "")
    try:
        grids_, file = _sent(file)
    except CavrelError as fault:
        return _page(opened, fault=f"{fault}. Nothing was imported.", text=typed.get("text", "")[:MOST_TEXT]), 422
    sheet = _number(typed.get("sheet", ""), 0, len(grids_) - 1) or 0
    choice = _choice(opened)
    if typed.get("act") == "take":
        looked = table_import.take(pool(), run, grids_[sheet], file, choice, typed.get("author", "").strip(), key)
        if looked is None:
            abort(404)
        if not looked.what:
            after = open_run(pool(), run)
            if after is not None:
                summaries.keep(pool(), after, summary)
            return redirect(url_for("measure.page", run=run), 303)
    else:
        looked = table_import.look(opened, grids_[sheet], choice)
    shown = _shown(opened, grids_, sheet, choice, looked)
    status = 422 if typed.get("act") == "take" else 200
    return _page(opened, look=shown, key=str(key), file=file, text=typed.get("text", "")[:MOST_TEXT]), status


@pages.post("/runs/<int:run>/import/back")
def back(run: int) -> ResponseReturnValue:
    """Take a whole import back."""
    act = request.form.get("import", "")
    if str(_key(act)) != act:
        abort(422, "That is no import of this run.")
    opened_or_404(run)
    count = table_import.take_back(pool(), run, act, request.form.get("author", "").strip())
    after = opened_or_404(run)
    summaries.keep(pool(), after, summary)
    return _page(after, back=count)


def _sent(file: str) -> tuple[list[Grid], str]:
    """The tables sent: a file, a paste, or those that were looked at before. Raises CavrelError."""
    sent = request.files.get("table")
    if sent is not None and sent.filename:
        sheets = bounded.run(_FILE, sent.read(), sent.filename)
        return [Grid(*sheet) for sheet in sheets], sent.filename.replace("\x00", "")[:200]
    if request.form.get("text", "").strip():
        return [Grid(*sheet) for sheet in bounded.run(_PASTED, request.form["text"][:MOST_TEXT])], ""
    try:
        held = json.loads(request.form.get("grids", ""))
        found = [Grid(str(name), tuple(tuple(str(cell) for cell in row) for row in rows)) for name, rows in held]
    except (ValueError, TypeError, RecursionError) as fault:
        raise FileError("", "choose a file, or paste a table") from fault
    good = found and all(
        g.rows
        and len(g.rows) <= grids.MOST_ROWS
        and 0 < len(g.rows[0]) <= grids.MOST_COLUMNS
        and len({*map(len, g.rows)}) == 1
        for g in found
    )
    if not good:
        raise FileError("", "choose a file, or paste a table")
    return found, file


def _choice(opened: RunView) -> Choice:
    typed = request.form
    series = typed.get("series", "")
    if series not in opened.definition.series:
        series = next(iter(opened.definition.series))
    fresh = typed.get("looked") != "yes"
    targets, marks = {}, {}
    for name, text in typed.items():
        at = re.fullmatch(r"(target|mark)-(\d{1,2})", name)
        if at and at[1] == "target" and not fresh:
            targets[int(at[2])] = text
        elif at and at[1] == "mark" and text in (",", "."):
            marks[int(at[2])] = text
    # Another table, sheet or way round asks for another guess.
    if typed.get("was") != _way(typed.get("sheet", ""), series, typed.get("turned", ""), typed.get("head", "")):
        targets, marks = {}, {}
    return Choice(
        series=series,
        turned=typed.get("turned") == "yes",
        stacked=typed.get("stacked") == "yes",
        head=_number(typed.get("head", ""), 0, 12),
        first=_number(typed.get("first", ""), 1, 999) or 0,
        targets=targets,
        marks=marks,
        rest=typed.get("rest") == "yes",
    )


def _way(sheet: str, series: str, turned: str, head: str) -> str:
    return f"{sheet or 0}|{series}|{turned}|{head}"


def _number(text: str, low: int, high: int) -> int | None:
    return min(max(int(text), low), high) if text.isascii() and text.isdigit() and len(text) < 5 else None


def _key(text: str) -> UUID:
    try:
        return UUID(text)
    except ValueError:
        return uuid4()


def _shown(opened: RunView, all_: list[Grid], sheet: int, choice: Choice, looked: Looked) -> dict[str, Any]:
    """What the page shows of a table that was looked at."""
    body = opened.definition.series[choice.series]
    most = max((t.trial for t in looked.targets), default=1)
    offered = []
    for name, column in body.columns.items():
        trials = (
            range(1, max(column.repeats, most) + 1)
            if column.column_role.typed and not column.column_role.chosen
            else range(1, 2)
        )
        for trial in trials:
            said = f"{column.label}, trial {trial}" if len(trials) > 1 else column.label
            offered.append((f"{name}.{trial}", said if column.column_role.typed else f"{said} (to compare)"))
    bad = {(row, at): what for row, at, what in looked.faults}
    rows = [
        (number, [(text, bad.get((number, c))) for c, text in enumerate(row, 1)])
        for number, row in enumerate(looked.grid.rows, 1)
    ]
    head = looked.head
    return {
        "sheets": [g.name or f"table {i + 1}" for i, g in enumerate(all_)],
        "sheet": sheet,
        "grids": json.dumps([[g.name, g.rows] for g in all_], ensure_ascii=False),
        "choice": choice,
        "series": choice.series,
        "head": head,
        "first": looked.first,
        "way": _way(str(sheet), choice.series, "yes" if choice.turned else "", str(head)),
        "headings": looked.headings,
        "targets": [str(t) for t in looked.targets],
        "signs": _signs(looked, choice),
        "aside": looked.aside,
        "offered": offered,
        "heads": rows[:head],
        "rows": rows[head : head + _SHOWN],
        "more": max(len(rows) - head - _SHOWN, 0),
        "cells": len(looked.cells),
        "faults": looked.faults,
        "replaced": len(looked.replaced),
        "differ": looked.differ,
        "what": looked.what,
    }


def _signs(looked: Looked, choice: Choice) -> dict[int, list[tuple[str, str, bool]]]:
    """By column whose numbers can be meant in two ways: each sign, the number that it makes of one of them, and whether it was chosen."""
    seen = dict(looked.asked)
    for c in choice.marks:
        if c < len(looked.targets):
            cells = [row[c] for row in looked.grid.rows[looked.head :]]
            seen[c] = next((cell for cell in cells if "," in cell or "." in cell), "")
    return {
        c: [(mark, grids.plain(cell, mark), choice.marks.get(c) == mark) for mark in (",", ".")]
        for c, cell in seen.items()
        if cell
    }
