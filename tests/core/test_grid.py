"""Tables as people's programs write them: what they are taken for."""

import io
import zipfile

import openpyxl
import pytest

from cavrel import catalogue
from cavrel.core.document import grid as grids
from cavrel.core.document.grid import decimal_signs, head_of, headings, is_number, of_text, plain, summaries
from cavrel.core.document.matching import Target, cells, guess
from cavrel.core.errors import CavrelError

PENDULUM = catalogue.experiments()["pendulum"]


def looked(text: str) -> tuple[grids.Grid, int, list[grids.Heading]]:
    grid = of_text(text)
    head = head_of(grid)
    return grid, head, headings(grid, head)


@pytest.mark.parametrize(
    ("text", "width"),
    [
        ("L,t\n40,25.4\n60,31.1", 2),
        ("L;t\n40,0;25,4\n60,0;31,1", 2),
        ("L\tt\n40,0\t25,4\n60,0\t31,1", 2),
        ("L|t\n40|25.4", 2),
        ("L   t\n40   25.4\n60   31.1", 2),
        ('"L, in cm","t"\n40,25.4', 2),
        ("40\n60\n80", 1),
        ("\ufeffL,t\r\n40,25.4\r\n", 2),
    ],
)
def test_columns_are_found(text: str, width: int) -> None:
    assert len(grids.read(text.encode(), "a.csv")[0].rows[0]) == width


@pytest.mark.parametrize(
    ("text", "head", "found"),
    [
        ("L / cm,t / s\n40,25.4", 1, [("L", "cm"), ("t", "s")]),
        ("L (cm),t [s]\n40,25.4", 1, [("L", "cm"), ("t", "s")]),
        ("L,t\ncm,s\n40,25.4", 2, [("L", "cm"), ("t", "s")]),
        ("length in cm,time\n(mm),(s)\n40,25.4", 2, [("length", "mm"), ("time", "s")]),
        ("40,25.4\n60,31", 0, [("", ""), ("", "")]),
        ("Swings of a bob,\nL,t\n40,25.4", 2, [("L", ""), ("t", "")]),
    ],
)
def test_headings_are_read(text: str, head: int, found: list[tuple[str, str]]) -> None:
    _, count, read = looked(text)
    assert count == head
    assert [(h.name, h.unit) for h in read] == found


@pytest.mark.parametrize(
    ("cells_", "mark"),
    [
        (["1,5", "2,25"], ","),
        (["1.5", "2.25"], "."),
        (["1.234,5", "2"], ","),
        (["1,234.5", "2"], "."),
        (["1,234,567", "2"], "."),
        (["1 234,5"], ","),
        (["12", "13"], "."),
        (["800", "900", "1,000", "1,200"], "."),
        (["800", "900", "1.000", "1.200"], ","),
        (["2", "2,125", "3"], ","),
        (["25.380", "26.112"], "."),
        (["0,380", "25,380"], ","),
        (["25,380", "26,11"], ","),
        (["-1,000", "-800"], "."),
    ],
)
def test_the_decimal_sign(cells_: list[str], mark: str) -> None:
    (sign,) = decimal_signs([cells_])
    assert (sign.mark, sign.sure) == (mark, True)


def test_a_sign_that_a_column_cannot_tell_is_told_by_another_or_asked_for() -> None:
    ambiguous = ["25,380", "26,110"]
    (alone,) = decimal_signs([ambiguous])
    assert not alone.sure
    assert alone.seen == "25,380"
    assert not decimal_signs([ambiguous, ["40", "60"]])[0].sure
    for other, mark in ((["1,5", "2,5"], ","), (["1.5", "2.5"], ".")):
        sign = decimal_signs([ambiguous, other])[0]
        assert (sign.mark, sign.sure) == (mark, True)
    # Two that contradict each other tell nothing.
    assert not decimal_signs([ambiguous, ["1,5"], ["2.5"]])[0].sure


@pytest.mark.parametrize(
    ("cell", "mark", "text"),
    [
        ("1.234,50", ",", "1234.50"),
        ("1,234.50", ".", "1234.50"),
        ("1 234,5", ",", "1234.5"),
        ("1’234.5", ".", "1234.5"),
        ("−3,25", ",", "-3.25"),
        ("2,5e-3", ",", "2.5e-3"),
        ("31°24′", ",", "31°24′"),
        ("1:23.45", ".", "1:23.45"),
        ("two", ".", "two"),
        ("31..12", ",", "31..12"),
        ("1.23.456", ",", "1.23.456"),
        ("25,42", ".", "25,42"),
        ("0,500", ".", "0,500"),
    ],
)
def test_numbers_lose_their_separators_and_no_digit(cell: str, mark: str, text: str) -> None:
    assert plain(cell, mark) == text


def test_what_is_a_number() -> None:
    assert all(map(is_number, ["1", "-1.5", "1 234,5", "2e-3", "1,234,567.8"]))
    assert not any(map(is_number, ["", "-", "1:20", "3°", "4 cm", "e5", "..."]))


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("L / cm,t / s\n40,25.4", ["L.1", "t.1"]),
        ("t / s,L / cm\n25.4,40", ["t.1", "L.1"]),
        ("L,t1,t2,t3\n40,25.4,25.5,25.6", ["L.1", "t.1", "t.2", "t.3"]),
        ("L,t trial 1,t trial 2,remark\n40,25.4,25.5,none", ["L.1", "t.1", "t.2", ""]),
        ("Length to the bob's centre,Time for N swings\n40,25.4", ["L.1", "t.1"]),
        ("length (cm),time (s),period (s)\n40,25.4,1.27", ["L.1", "t.1", "T.1"]),
        (",time for N swings,,\nL,1,2,3\n40,25.4,25.5,25.6", ["L.1", "t.1", "t.2", "t.3"]),
        ("L,time,,\n,1,2,3\n40,25.4,25.5,25.6", ["L.1", "t.1", "t.2", "t.3"]),
        ("L,time,,,\n,1,2,3,mean\n40,25.4,25.5,25.6,25.5", ["L.1", "t.1", "t.2", "t.3", ""]),
        ("L,t1,t2,mean\n40,25.4,25.5,25.45", ["L.1", "t.1", "t.2", ""]),
        ("row,L_typed,L,u_L,t_typed_1,t_typed_2,t\n1,40,40,0.1,25.4,25.5,25.45", ["", "L.1", "", "", "t.1", "t.2", ""]),
        ("apples,pears\n1,2", ["", ""]),
    ],
)
def test_columns_are_guessed(text: str, found: list[str]) -> None:
    _, _, read = looked(text)
    assert [str(t) for t in guess(PENDULUM, "swings", read)] == found


def test_a_unit_of_the_heading_is_typed_beside_the_number_and_one_that_does_not_fit_is_refused() -> None:
    grid, head, read = looked("L / mm,t / s\n400,25.4")
    targets = guess(PENDULUM, "swings", read)
    found = cells(PENDULUM, "swings", grid, head, read, targets, 3, {})
    assert [(c.slot, c.text) for c in found] == [("swings.L.3.1", "400 mm"), ("swings.t.3.1", "25.4")]
    grid, head, read = looked("L / kg,t / s\n400,25.4")
    with pytest.raises(CavrelError, match="is in kg"):
        cells(PENDULUM, "swings", grid, head, read, [Target("L"), Target("t")], 1, {})


@pytest.mark.parametrize(
    ("text", "head"),
    [
        ("L,time,,\n,1,2,3\n40,25.4,25.5,25.6", 2),
        ("L,L,t,t\n1,2,1,2\n40,40,25.4,25.5", 2),
        ("L,t\n1,2\n3,4", 1),  # no heading stands over two columns
        ("L,t,t,t\n1,1,2,3\n2,2,3,4", 2),
        ("L,t,t,t\n2,1,2,3\n4,2,3,4", 1),  # an L of 2 is no trial
    ],
)
def test_numbers_of_trials_are_no_readings(text: str, head: int) -> None:
    assert head_of(of_text(text)) == head


def test_a_row_of_means_is_no_reading() -> None:
    grid, head, read = looked("L,t\n40,25.4\n60,31.1\nmean,28.25\nstd dev,4.0\n80,36.0")
    assert summaries(grid.rows[head:]) == {2: "mean", 3: "std dev"}
    found = cells(PENDULUM, "swings", grid, head, read, [Target("L"), Target("t")], 1, {})
    assert [(c.slot, c.text, c.row) for c in found if ".t." in c.slot] == [
        ("swings.t.1.1", "25.4", 2),
        ("swings.t.2.1", "31.1", 3),
        ("swings.t.3.1", "36.0", 6),
    ]


def test_trials_one_under_the_other() -> None:
    grid, head, read = looked("L,t\n40,25.4\n,25.5\n40,25.6\n60,31.0\n60,31.1")
    found = cells(PENDULUM, "swings", grid, head, read, [Target("L"), Target("t")], 1, {}, stacked=True)
    assert {c.slot: c.text for c in found} == {
        "swings.L.1.1": "40",
        "swings.t.1.1": "25.4",
        "swings.t.1.2": "25.5",
        "swings.t.1.3": "25.6",
        "swings.L.2.1": "60",
        "swings.t.2.1": "31.0",
        "swings.t.2.2": "31.1",
    }


def test_rows_for_columns() -> None:
    grid = of_text("L / cm,40,60,80\nt / s,25.4,31.1,36.0").turned()
    assert head_of(grid) == 1
    assert [h.unit for h in headings(grid, 1)] == ["cm", "s"]
    assert grid.rows[1] == ("40", "25.4")


def test_a_workbook_with_merged_headings() -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["L / cm", "t / s", None, None])
    sheet.append([None, 1, 2, 3])
    sheet.append([40, 25.4, 25.5, 25.6])
    sheet.append([60.5, 31, None, 31.25])
    sheet.merge_cells("B1:D1")
    sink = io.BytesIO()
    book.save(sink)
    grid = grids.read(sink.getvalue(), "a.xlsx")[0]
    assert grid.rows[0] == ("L / cm", "t / s", "t / s", "t / s")
    assert grid.rows[3] == ("60.5", "31", "", "31.25")
    read = headings(grid, 2)
    assert [str(t) for t in guess(PENDULUM, "swings", read)] == ["L.1", "t.1", "t.2", "t.3"]


@pytest.mark.parametrize(
    ("body", "says"),
    [
        (b"", "holds nothing"),
        (b"   \n\n", "holds nothing"),
        (b"\xd0\xcf\x11\xe0rest", "old kind"),
        (b"PK\x03\x04 not at all", "damaged"),
        (b"\x00\x01\x02\x03", "no text"),
        (b"1\n" * 5000, "3000"),
        (b"1," * 90, "80 are the most"),
    ],
)
def test_what_is_no_table_says_why(body: bytes, says: str) -> None:
    with pytest.raises(CavrelError, match=says):
        grids.read(body, "a file")


def test_a_workbook_that_swells_is_refused() -> None:
    sink = io.BytesIO()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as packed:
        for i in range(9):
            packed.writestr(f"xl/worksheets/sheet{i}.xml", b" " * (10 << 20))
    with pytest.raises(CavrelError, match="unpacks to more"):
        grids.read(sink.getvalue(), "bomb.xlsx")


def test_entities_that_grow_are_no_danger() -> None:
    book = openpyxl.Workbook()
    book.active.append(["L", "t"])
    book.active.append([1, 2])
    sink = io.BytesIO()
    book.save(sink)
    laughs = '<!DOCTYPE x [<!ENTITY a "ha"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>'
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(sink.getvalue())) as source, zipfile.ZipFile(out, "w") as packed:
        for member in source.infolist():
            body = source.read(member)
            if member.filename.endswith("sheet1.xml"):
                body = laughs.encode() + body.replace(b"<v>1</v>", b"<v>&b;</v>")
            packed.writestr(member, body)
    found = [[]] if _refused(out.getvalue()) else grids.read(out.getvalue(), "laughs.xlsx")[0].rows
    assert all(len(cell) < 100 for row in found for cell in row)


def _refused(body: bytes) -> bool:
    try:
        grids.read(body, "laughs.xlsx")
    except CavrelError:
        return True
    return False
