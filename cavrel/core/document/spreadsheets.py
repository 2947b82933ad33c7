"""Workbooks as files: XLSX and OpenDocument, formulas and the values they give both."""

import io
import re
import zipfile
from collections.abc import Sequence
from xml.sax.saxutils import escape, quoteattr

from odfdo import Document, Element
from openpyxl import Workbook
from openpyxl.cell import WriteOnlyCell
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter

from cavrel.core.document.live import Live, Part, Ref
from cavrel.core.document.page import Cell, Page

_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")


def _plain(text: str) -> str:
    return _CONTROL.sub("\ufffd", text)


def xlsx(pages: Sequence[Page]) -> bytes:
    """An Office Open XML workbook. Texts are texts, whatever they begin with; only our own formulas compute."""
    book = Workbook(write_only=True)
    bold = Font(bold=True)
    for page in pages:
        sheet = book.create_sheet(page.name)
        sheet.freeze_panes = f"A{page.heads + 1}"
        for column in range(1, max(map(len, page.rows)) + 1):
            sheet.column_dimensions[get_column_letter(column)].width = 14
        for number, row in enumerate(page.rows):
            made = []
            for cell in row:
                one = WriteOnlyCell(sheet)
                if isinstance(cell, str):
                    one.value = _plain(cell)
                    one.data_type = "s"  # or a text that begins with = would compute
                elif isinstance(cell, Live):
                    one.value = "=" + "".join(_a1(part, page.name) for part in cell.parts)
                else:
                    one.value = cell
                if number < page.heads:
                    one.font = bold
                made.append(one)
            sheet.append(made)
    sink = io.BytesIO()
    book.save(sink)
    return sink.getvalue()


def _a1(part: Part, here: str) -> str:
    if isinstance(part, str):
        return part
    sheet = "" if part.sheet == here else f"'{part.sheet}'!"
    return sheet + _cells(part)


def _cells(ref: Ref) -> str:
    first = f"{get_column_letter(ref.column)}{ref.row}"
    return f"{first}:{get_column_letter(ref.to_column)}{ref.to_row}" if ref.to_row else first


def ods(pages: Sequence[Page]) -> bytes:
    """An OpenDocument spreadsheet, each formula with the value it gives."""
    document = Document("spreadsheet")
    document.body.clear()
    for page in pages:
        rows = "".join(f"<table:table-row>{_row(row, page.name)}</table:table-row>" for row in page.rows)
        # Written as one piece: a cell at a time takes longer the more there are.
        document.body.append(Element.from_tag(f"<table:table table:name={quoteattr(page.name)}>{rows}</table:table>"))
    sink = io.BytesIO()
    document.save(sink)
    return _undated(sink.getvalue())


def _row(cells: Sequence[Cell], here: str) -> str:
    made = []
    for cell in cells:
        if isinstance(cell, Live):
            formula = quoteattr("of:=" + "".join(_of(part, here) for part in cell.parts))
            made.append(
                f'<table:table-cell table:formula={formula} office:value-type="float" office:value="{cell.value!r}"/>'
            )
        elif isinstance(cell, str):
            made.append(
                f'<table:table-cell office:value-type="string"><text:p>{escape(_plain(cell))}</text:p></table:table-cell>'
            )
        elif cell is None:
            made.append("<table:table-cell/>")
        else:
            made.append(f'<table:table-cell office:value-type="float" office:value="{cell!r}"/>')
    return "".join(made)


def _of(part: Part, here: str) -> str:
    if isinstance(part, str):
        return ";" if part == "," else part
    sheet = "" if part.sheet == here else f"$'{part.sheet}'"
    first, _, last = _cells(part).partition(":")
    return f"[{sheet}.{first}{f':.{last}' if last else ''}]"


def _undated(body: bytes) -> bytes:
    """The same archive with one moment for all its files."""
    sink = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(body)) as source, zipfile.ZipFile(sink, "w") as packed:
        for member in source.infolist():
            entry = zipfile.ZipInfo(member.filename, (2020, 1, 1, 0, 0, 0))
            entry.compress_type = member.compress_type
            packed.writestr(entry, source.read(member))
    return sink.getvalue()
