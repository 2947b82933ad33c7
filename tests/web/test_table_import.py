"""A table imported into a run: looked at, taken whole, taken back whole; what it says wrongly is said."""

import html
import io
import json
import re
from typing import Any
from uuid import uuid4

import pytest
from flask.testing import FlaskClient
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cavrel import catalogue
from cavrel.core.document import grid as grids
from cavrel.core.document import spreadsheets
from cavrel.core.document.workbook import workbook
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import EMPTY
from cavrel.core.simulate import simulate
from cavrel.service.run_view import unstarted
from cavrel.service.table_import import Choice, look
from tests.core.test_workbook import analysed
from tests.thorough import TIMES
from tests.web.http import entry, save, start, text, token

TABLE = "L / cm;t 1 / s;t 2 / s;T / s\n40,0;25,42;25,46;1,272\n60,0;31,08;31,12;1,555\n80,0;35,9;35,94;1,796\n"


def send(client: FlaskClient, run: int, act: str = "take", **fields: Any) -> Any:
    data = {"csrf_token": token(client), "key": str(uuid4()), "act": act, **fields}
    return client.post(f"/runs/{run}/import", data=data, content_type="multipart/form-data")


def series(client: FlaskClient, run: int) -> Any:
    return client.get(f"/runs/{run}/measure.json").json["run"].get("series", {})


@pytest.fixture
def run(client: FlaskClient) -> int:
    return start(client, "pendulum", "Wick", "A table from outside")


def test_a_table_is_looked_at_and_brought_in(client: FlaskClient, run: int) -> None:
    looked = send(client, run, "look", text=TABLE)
    assert looked.status_code == 200
    assert "9 readings from row 1 on" in text_of(looked)
    assert "swings" not in series(client, run)
    assert send(client, run, text=TABLE).status_code == 303
    assert series(client, run)["swings"] == {
        "L": ["40.0", "60.0", "80.0"],
        "t": [["25.42", "25.46"], ["31.08", "31.12"], ["35.9", "35.94"]],
    }
    assert "9 readings imported from a paste" in text(client, f"/runs/{run}/logbook")


def text_of(answer: Any) -> str:
    return " ".join(re.sub(r"<[^>]+>", " ", answer.text).split())


def test_it_is_taken_back_whole_but_for_what_was_written_since(client: FlaskClient, run: int) -> None:
    save(client, run, entry("reading", "swings.L.1.1", text="39.5"))
    send(client, run, text=TABLE, first="1")
    assert series(client, run)["swings"]["L"][0] == "40.0"
    save(client, run, entry("reading", "swings.t.2.1", text="31.5"))
    page = client.get(f"/runs/{run}/import").text
    act = re.search(r'name="import" value="([^"]+)"', page)
    assert act
    assert "8 still as imported" in page
    answer = client.post(f"/runs/{run}/import/back", data={"csrf_token": token(client), "import": act[1]})
    assert "8 readings removed again" in text_of(answer)
    assert series(client, run)["swings"] == {"L": ["39.5"], "t": [[], ["31.5"]]}


def test_the_same_form_twice_brings_one(client: FlaskClient, run: int) -> None:
    key = str(uuid4())
    send(client, run, text=TABLE, key=key)
    before = client.get(f"/runs/{run}/logbook.json").json
    assert send(client, run, text=TABLE, key=key).status_code == 303
    assert client.get(f"/runs/{run}/logbook.json").json == before


def test_a_computed_column_that_its_formula_does_not_give_is_said(client: FlaskClient, run: int) -> None:
    wrong = TABLE.replace("1,555", "1,455")
    seen = text_of(send(client, run, "look", text=wrong))
    assert "Row 3, Period: 1.455 typed, 1.555 from its formula" in seen
    assert "typed" not in text_of(send(client, run, "look", text=TABLE))


def test_a_cell_that_cannot_be_read_says_where_and_brings_nothing(client: FlaskClient, run: int) -> None:
    bad = TABLE.replace("31,12", "31..12!")
    answer = send(client, run, text=bad)
    assert answer.status_code == 422
    assert "Row 3, column 3" in answer.text
    assert "1 cell cannot be read" in text_of(answer)
    assert "swings" not in series(client, run)
    assert send(client, run, text=bad, rest="yes").status_code == 303
    assert series(client, run)["swings"]["t"][1] == ["31.08"]


def test_a_choice_stands_over_the_guess(client: FlaskClient, run: int) -> None:
    looked = send(client, run, "look", text=TABLE).text
    held = re.search(r'<textarea hidden name="grids">(.*?)</textarea>', looked, re.S)
    way = re.search(r'name="was" value="([^"]+)"', looked)
    assert held
    assert way
    fields = {"grids": html.unescape(held[1]), "was": html.unescape(way[1]), "looked": "yes", "head": "1", "first": "4"}
    targets = {"target-0": "L.1", "target-1": "t.3", "target-2": "", "target-3": ""}
    assert send(client, run, **fields, **targets).status_code == 303
    found = series(client, run)["swings"]
    assert found["L"] == ["", "", "", "40.0", "60.0", "80.0"]
    assert found["t"][3] == ["", "", "25.42"]
    twice = send(client, run, **fields, **{**targets, "target-2": "t.3"})
    assert "goes where column 2 goes" in twice.text


def test_a_number_that_can_be_meant_in_two_ways_is_asked_for(client: FlaskClient, run: int) -> None:
    table = 'L,t\n40,"25,380"\n60,"31,075"\n'
    answer = send(client, run, text=table)
    assert answer.status_code == 422
    assert "“25,380” of column 2 can be read in two ways" in answer.text
    assert "swings" not in series(client, run)
    offered = re.findall(r'<option value="(,|\.)">([^<]+)</option>', answer.text)
    assert offered == [(",", "25.380"), (".", "25380")]
    held = re.search(r'<textarea hidden name="grids">(.*?)</textarea>', answer.text, re.S)
    way = re.search(r'name="was" value="([^"]+)"', answer.text)
    assert held
    assert way
    fields = {"grids": html.unescape(held[1]), "was": html.unescape(way[1]), "looked": "yes", "head": "1"}
    chosen = {"target-0": "L.1", "target-1": "t.1", "mark-1": ","}
    again = send(client, run, "look", **fields, **chosen)
    assert 'value="," selected' in again.text
    assert send(client, run, **fields, **chosen).status_code == 303
    assert series(client, run)["swings"]["t"] == [["25.380"], ["31.075"]]


def test_a_row_of_means_refuses_nothing_and_brings_nothing(client: FlaskClient, run: int) -> None:
    table = TABLE + "mean;30,8;30,84;1,54\n"
    looked = text_of(send(client, run, "look", text=table))
    assert "row 5 (“mean”)" in looked
    assert send(client, run, text=table).status_code == 303
    assert series(client, run)["swings"]["L"] == ["40.0", "60.0", "80.0"]


def test_a_workbook_of_our_own_comes_back(client: FlaskClient) -> None:
    run = start(client, "spring", "Prism", "A workbook back")
    analysis = analysed("spring")
    document = simulate(catalogue.program_of(catalogue.experiments()["spring"]), 3)
    body = spreadsheets.xlsx(workbook(analysis))
    answer = client.post(
        f"/runs/{run}/import",
        data={
            "csrf_token": token(client),
            "key": str(uuid4()),
            "act": "take",
            "sheet": str([g.name for g in grids.read(body, "")].index("loads")),
            "table": (io.BytesIO(body), "spring.xlsx"),
        },
        content_type="multipart/form-data",
    )
    assert answer.status_code == 303, text_of(answer)[-900:]
    assert series(client, run)["loads"] == document["series"]["loads"]


@pytest.mark.parametrize("body", [b"", b"PK\x03\x04junk", b"\xd0\xcf\x11\xe0", b"1\n" * 4000])
def test_a_bad_file_brings_nothing(client: FlaskClient, run: int, body: bytes) -> None:
    answer = client.post(
        f"/runs/{run}/import",
        data={"csrf_token": token(client), "act": "take", "table": (io.BytesIO(body), "bad.xlsx")},
        content_type="multipart/form-data",
    )
    assert answer.status_code == 422
    assert "Nothing was imported" in answer.text
    assert "swings" not in series(client, run)


@pytest.mark.parametrize(
    "grids_", ["[]", "[[1]]", '[["a", []]]', '[["a", [["1"], ["1", "2"]]]]', "{", '"x"', "[[" * 2000]
)
def test_a_form_that_was_bent_is_refused(client: FlaskClient, run: int, grids_: str) -> None:
    assert send(client, run, "look", grids=grids_).status_code == 422


BOOK: dict[str, bytes] = {}


@settings(max_examples=60 * TIMES, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_mangled_tables_are_refused_or_looked_at_never_worse(data: st.DataObject) -> None:
    if not BOOK:
        pages = workbook(analysed("pendulum"))
        BOOK["xlsx"], BOOK["ods"], BOOK["csv"] = spreadsheets.xlsx(pages), spreadsheets.ods(pages), TABLE.encode()
    body = bytearray(BOOK[data.draw(st.sampled_from(["xlsx", "ods", "csv", "csv"]))])
    for _ in range(data.draw(st.integers(1, 8))):
        at = data.draw(st.integers(0, max(len(body) - 1, 0)))
        way = data.draw(st.sampled_from(["byte", "cut", "drop", "twice", "sign"]))
        if not body:
            break
        if way == "byte":
            body[at] = data.draw(st.integers(0, 255))
        elif way == "cut":
            del body[max(at, 4) :]
        elif way == "drop":
            del body[at : at + data.draw(st.integers(1, 30))]
        elif way == "twice":
            body[at:at] = body[at : at + 90]
        else:
            body[at:at] = data.draw(st.sampled_from([b";", b",", b"\n", b'"', b"\t", b"1e999", b"=1+1", "±".encode()]))
    opened = unstarted(catalogue.experiments()["pendulum"], EMPTY, {})
    try:
        for grid in grids.read(bytes(body), "a file"):
            for turned in (False, True):
                choice = Choice(series="swings", turned=turned, targets={}, marks={}, rest=True)
                looked = look(opened, grid, choice)
                assert looked.what or looked.cells
    except CavrelError:
        return


def test_a_table_travels_as_it_was(client: FlaskClient, run: int) -> None:
    odd = 'L / cm\tt / s\n40\t"25.4 <b>&"\n60\t31\n'
    looked = send(client, run, "look", text=odd).text
    held = re.search(r'<textarea hidden name="grids">(.*?)</textarea>', looked, re.S)
    assert held
    assert json.loads(html.unescape(held[1]))[0][1][1] == ["40", "25.4 <b>&"]
