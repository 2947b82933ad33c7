"""A table somebody imports, as a grid of texts: from CSV or a paste, XLSX or OpenDocument; what its headings and numbers look like."""

import csv
import io
import re
import zipfile
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta

from python_calamine import CalamineError, CalamineWorkbook

from cavrel.core.document.unpack import MOST_BYTES, MOST_UNPACKED, FileError
from cavrel.core.quantity.reading import LONGEST

MOST_ROWS, MOST_COLUMNS, MOST_SHEETS = 3000, 80, 60

_NUMBER = re.compile(r"\s*[-+−]?\d[\d.,'’\s\u00a0\u202f]*(?:[eE][-+]?\d{1,3})?\s*")
_SPACED = re.compile(r"(?<=\d)[\s\u00a0\u202f'’](?=\d{3}(?!\d))")
_UNIT = re.compile(r"[\[(]\s*([^\])]{1,20})\s*[\])]\s*$|\s*/\s*([^\s/][^/]{0,20})\s*$|\s+in\s+([^\s]{1,20})\s*$")


@dataclass(frozen=True, slots=True)
class Grid:
    """``name``: of the sheet, empty for a text; ``rows``: texts, all rows of one length."""

    name: str
    rows: tuple[tuple[str, ...], ...]

    def turned(self) -> "Grid":
        """Rows for columns."""
        return Grid(self.name, tuple(zip(*self.rows, strict=True)))


@dataclass(frozen=True, slots=True, kw_only=True)
class Heading:
    """A column's heading. ``name``: without its unit; ``unit``: as written, empty where none is named; ``group``: what stands above several
    columns together."""

    name: str
    unit: str
    group: str


def read(body: bytes, name: str) -> list[Grid]:
    """The tables in a file: sheets that hold anything, or the one of a text. Raises FileError."""
    if len(body) > MOST_BYTES:
        raise FileError("", f"has {len(body) // 2**20} MB, and a file to import has {MOST_BYTES // 2**20} at most")
    if body[:2] == b"PK":
        return _sheets(body)
    if body[:4] == b"\xd0\xcf\x11\xe0":
        raise FileError("", "is a workbook of the old kind; save it as XLSX, ODS or CSV")
    return [_grid(name, _lines(_decoded(body)))]


def plain_sheets(body: bytes, name: str) -> list[tuple[str, tuple[tuple[str, ...], ...]]]:
    """The tables in a file as plain data: names and rows. Raises FileError."""
    return [(grid.name, grid.rows) for grid in read(body, name)]


def plain_text(text: str) -> list[tuple[str, tuple[tuple[str, ...], ...]]]:
    """The table in a text that was pasted, the same way. Raises FileError."""
    return [("", of_text(text).rows)]


def of_text(text: str) -> Grid:
    """The table in a text that was pasted. Raises FileError."""
    return _grid("", _lines(text))


def _decoded(body: bytes) -> str:
    wide = body[:2] in (b"\xff\xfe", b"\xfe\xff")
    if b"\x00" in body and not wide:
        raise FileError("", "is no text and no workbook: import CSV, XLSX or ODS")
    try:
        return body.decode("utf-16" if wide else "utf-8-sig")
    except UnicodeDecodeError:
        pass
    return body.decode("cp1252", errors="replace")


def _lines(text: str) -> list[list[str]]:
    text = text.replace("\x00", "")
    if text.count("\n") > 4 * MOST_ROWS:
        raise FileError("", f"has {text.count(chr(10))} lines; {MOST_ROWS} rows are the most")
    lines = [line for line in text.splitlines() if line.strip()][:40]
    if not lines:
        raise FileError("", "holds nothing")
    # The sign that parts the columns is in most lines, as often in each.
    best, most = ",", -1.0
    for sign in ("\t", ";", "|", ","):
        counts = [line.count(sign) for line in lines]
        typical = sorted(counts)[len(counts) // 2]
        alike = sum(c == typical for c in counts) / len(counts)
        score = alike + (0.5 if sign != "," else 0) if typical else -1.0
        if score > most:
            best, most = sign, score
    if most < 0 and all(re.fullmatch(r"\s*\S+(?:\s{2,}\S+)+\s*", line) for line in lines):
        return [re.split(r"\s{2,}", line.strip()) for line in text.splitlines()]
    try:
        return [list(row) for row in csv.reader(io.StringIO(text, newline=""), delimiter=best)]
    except csv.Error as fault:
        raise FileError("", f"cannot be read as columns: {fault}") from fault


def _sheets(body: bytes) -> list[Grid]:
    _bounded(body)
    try:
        book = CalamineWorkbook.from_filelike(io.BytesIO(body))
        names = book.sheet_names[:MOST_SHEETS]
        found = []
        for name in names:
            sheet = book.get_sheet_by_name(name)
            if sheet.total_height > MOST_ROWS or sheet.total_width > MOST_COLUMNS:
                raise FileError(name, f"has more than {MOST_ROWS} rows or {MOST_COLUMNS} columns")
            # Cells that stand merged hold their text once for all of them.
            rows = [list(row) for row in sheet.to_python(skip_empty_area=False)]
            texts = [[_text(cell) for cell in row] for row in rows]
            for (top, left), (bottom, right) in sheet.merged_cell_ranges or []:
                for r in range(top, min(bottom + 1, len(texts))):
                    for c in range(left, min(right + 1, len(texts[r]))):
                        texts[r][c] = texts[top][left]
            if any(any(row) for row in texts):
                found.append(_grid(name, texts))
    except FileError:
        raise
    except (CalamineError, zipfile.BadZipFile, zlib.error, ValueError, OSError, OverflowError, KeyError) as fault:
        raise FileError("", f"cannot be read as a workbook: {str(fault)[:120]}") from fault
    except BaseException as fault:  # the reader is not Python, and reports its own faults so
        if type(fault).__name__ != "PanicException":
            raise
        raise FileError("", "cannot be read as a workbook: it is damaged") from fault
    if not found:
        raise FileError("", "holds no table")
    return found


def _bounded(body: bytes) -> None:
    """Refuse what would unpack to too much, before anything but counting is done with it. Raises FileError."""
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as packed:
            left = MOST_UNPACKED
            members = packed.infolist()
            if len(members) > 2000:
                raise FileError("", "holds too many parts for a workbook")
            for member in members:
                with packed.open(member) as source:
                    while block := source.read(min(1 << 20, left + 1)):
                        left -= len(block)
                        if left < 0:
                            raise FileError("", f"unpacks to more than {MOST_UNPACKED // 2**20} MB")
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, ValueError, OSError, RuntimeError) as fault:
        raise FileError("", f"is a damaged workbook: {str(fault)[:120]}") from fault


def _text(cell: object) -> str:
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    if isinstance(cell, float):
        return f"{cell:.15g}"
    if isinstance(cell, timedelta):
        return f"{cell.total_seconds():g}"
    if isinstance(cell, datetime | date | time):
        return cell.isoformat()
    return str(cell).strip()


def _grid(name: str, rows: Sequence[Sequence[str]]) -> Grid:
    kept = [[cell.strip() for cell in row] for row in rows if any(cell.strip() for cell in row)]
    if not kept:
        raise FileError(name, "holds nothing")
    width = max(len(row) for row in kept)
    if len(kept) > MOST_ROWS or width > MOST_COLUMNS:
        raise FileError(name, f"has {len(kept)} rows and {width} columns; {MOST_ROWS} and {MOST_COLUMNS} are the most")
    return Grid(name, tuple(tuple(row) + ("",) * (width - len(row)) for row in kept))


def is_number(text: str) -> bool:
    """Whether a cell holds a number, however it is punctuated."""
    return bool(_NUMBER.fullmatch(text)) and any(c.isdigit() for c in text)


def head_of(grid: Grid) -> int:
    """How many rows at the top are headings: up to the first whose cells are mostly numbers; none where the first one's are."""
    for i, row in enumerate(grid.rows[:12]):
        filled = [cell for cell in row if cell]
        if filled and sum(map(is_number, filled)) * 2 >= len(filled) and not _counts_trials(grid.rows, i):
            return i
    return min(1, len(grid.rows) - 1)


def _counts_trials(rows: Sequence[Sequence[str]], at: int) -> bool:
    """Whether a row counts trials: ``L``, ``1``, ``2``, ``3`` next to the name of a column, or 1, 2, 3 under headings that stand over several
    columns, from 1 on under each."""
    row = rows[at]
    numbers = [cell for cell in row if is_number(cell)]
    if len(numbers) < 2:
        return False
    if any(c and not is_number(c) for c in row) and numbers == [str(i) for i in range(1, len(numbers) + 1)]:
        return True
    if not at or any(is_number(cell) for cell in rows[at - 1]):
        return False
    groups = _filled(rows[at - 1])
    wanted, before, widest = 0, "", 0
    for cell, group in zip(row, groups, strict=True):
        wanted = wanted + 1 if group and group == before else 1
        before, widest = group, max(widest, wanted if cell else 0)
        if cell and is_number(cell) and (not group or cell != str(wanted)):
            return False
    return widest > 1


def _filled(row: Sequence[str]) -> list[str]:
    """A row of headings in which one over several columns stands over the first of them alone, as it is meant."""
    found, last = [], ""
    for cell in row:
        last = cell or last
        found.append(last)
    return found


_SUMMARY = re.compile(
    r"(?:mean|average|avg|sum|total|median|min(?:imum)?|max(?:imum)?|std\.?(?:\s*dev\.?)?|stdev|s\.?d\.?|standard deviation|"
    r"(?:standard )?uncertainty|error)\b.*|[σμΣ]",
    re.I,
)


def is_summary(text: str) -> bool:
    """Whether a heading, or the first cell of a row, says that what follows was computed from the readings."""
    return bool(_SUMMARY.fullmatch(text.strip()))


def summaries(rows: Sequence[Sequence[str]]) -> dict[int, str]:
    """Index of each row, among ``rows`` of readings, that was computed from the others -> the word that says so."""
    found = {}
    for i, row in enumerate(rows):
        word = next((cell for cell in row if cell), "")
        if is_summary(word):
            found[i] = word
    return found


def headings(grid: Grid, count: int) -> list[Heading]:
    """The columns' headings from the first ``count`` rows: the last one names them, unless it holds units alone; one above groups them."""
    width = len(grid.rows[0])
    rows = [list(row) for row in grid.rows[:count]]
    if not rows:
        return [Heading(name="", unit="", group="") for _ in range(width)]
    units = [""] * width
    if len(rows) > 1 and _are_units(rows[-1]) and all(above for above, unit in zip(rows[-2], rows[-1]) if unit):
        units = [cell.strip("[]() ") for cell in rows.pop()]
    names = rows[-1]
    above = [""] * width
    for row in rows[-2:-1]:
        above = _filled(row)
    found = []
    for c in range(width):
        name, unit = _parted(names[c] or above[c])
        group, of_group = _parted(above[c])
        found.append(Heading(name=name, unit=units[c] or unit or of_group, group=group))
    return found


def _are_units(row: Sequence[str]) -> bool:
    """Whether a row says units and nothing else: short texts, none of them a word of a heading."""
    from cavrel.core.errors import CavrelError
    from cavrel.core.quantity import units

    filled = [cell.strip("[]() ") for cell in row if cell]
    if not filled:
        return False
    good = 0
    for text in filled:
        try:
            units.unit(text)
            good += 1
        except CavrelError:
            pass
    return good * 2 > len(filled)


def _parted(text: str) -> tuple[str, str]:
    """A heading's name and the unit it names: ``t / s``, ``length (cm)``, ``mass [g]``."""
    found = _UNIT.search(text)
    if not found:
        return text.strip(), ""
    return text[: found.start()].strip(), (found[1] or found[2] or found[3]).strip()


@dataclass(frozen=True, slots=True)
class Sign:
    """What parts whole from decimal figures in a column. ``mark``: a comma or a point; ``sure``: no other could be meant; ``seen``: a cell that
    could be read both ways, where it is not."""

    mark: str
    sure: bool = True
    seen: str = ""


_GROUPED = re.compile(r"[-+]?[1-9]\d{0,2}[,.]\d{3}")


def decimal_signs(columns: Sequence[Sequence[str]]) -> list[Sign]:
    """The decimal sign of each column, from all of its cells, then from what the other columns of the same table say."""
    found = [_sign(cells) for cells in columns]
    known = {sign.mark for sign in found if sign is not None and sign.sure and sign.seen}
    told = next(iter(known)) if len(known) == 1 else ""
    signs = []
    for sign in found:
        if sign is None or (told and not sign.sure):
            sign = Sign(told or ".")
        signs.append(Sign(sign.mark) if sign.sure else sign)
    return signs


def _sign(cells: Sequence[str]) -> Sign | None:
    """From a column alone; None where nothing in it tells. Of a sure one, ``seen`` is the cell that told."""
    texts = [text for cell in cells if is_number(text := _SPACED.sub("", cell.strip()))]
    both = next((text for text in texts if "," in text and "." in text), None)
    if both is not None:
        return Sign("," if both.rfind(",") > both.rfind(".") else ".", True, both)
    for mark, other in ((",", "."), (".", ",")):
        if many := next((text for text in texts if text.count(other) > 1), None):
            return Sign(mark, True, many)
        # A part of other than three figures, or behind a zero, separates no thousands.
        if decimal := next((text for text in texts if text.count(mark) == 1 and not _GROUPED.fullmatch(text)), None):
            return Sign(mark, True, decimal)
    grouped = [text for text in texts if _GROUPED.fullmatch(text)]
    if not grouped:
        return None
    sign = "," if "," in grouped[0] else "."
    other = "." if sign == "," else ","
    # 1,000 after 800 goes on as a thousand; 2,125 next to 2 does as a little more than two.
    spreads = [_spread([text.replace(sign, as_) for text in texts]) for as_ in (".", "")]
    if spreads[0] > 30 * spreads[1]:
        return Sign(other, True, grouped[0])
    if spreads[1] > 30 * spreads[0] or sign == ".":
        return Sign(sign, True, grouped[0])
    return Sign(sign, False, grouped[0])


def _spread(texts: Sequence[str]) -> float:
    """The largest over the smallest of the sizes, of those that are not zero."""
    sizes = [abs(float(text)) for text in texts if float(text) != 0]
    return max(sizes) / min(sizes) if sizes else 1.0


def plain(cell: str, mark: str) -> str:
    """A number with a point and no separators of thousands; any other text as it stands, but for its length."""
    if not is_number(cell):
        return cell[:LONGEST]
    text = _SPACED.sub("", cell.strip()).replace("−", "-")
    other = "." if mark == "," else ","
    # Separators of thousands part figures by threes; anything else is left for the reader of readings to refuse, or to understand.
    power = r"(?:[eE][-+]?\d{1,3})?"
    if re.fullmatch(rf"[-+]?[1-9]\d{{0,2}}(?:\{other}\d{{3}})+(?:\{mark}\d*)?{power}", text):
        text = text.replace(other, "")
    elif not re.fullmatch(rf"[-+]?\d+(?:\{mark}\d*)?{power}", text):
        return cell[:LONGEST]
    return text.replace(mark, ".")
