"""Pages and their twins, saving over HTTP, and what the pages say when something is wrong."""

import io
import json
import re
import zipfile
from typing import Any
from uuid import uuid4

import openpyxl
import pypdfium2
import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.logbook import run as runs
from tests.web.http import entry, save, start, taken_suggestions, text, token

STAGES = ["measure", "fit", "result", "logbook"]


@pytest.fixture
def run(client: FlaskClient) -> int:
    return start(client, "pendulum", "Fresnel", "Over HTTP", suggested=False)


@pytest.mark.parametrize("stage", STAGES)
@pytest.mark.parametrize("number", [1, 2, 3])
def test_every_stage_of_the_demonstration_has_a_page_and_a_twin(client: FlaskClient, stage: str, number: int) -> None:
    assert "Tallow" not in text(client, f"/runs/{number}/{stage}") or stage
    twin = client.get(f"/runs/{number}/{stage}.json").json
    assert twin["bench"] == ["Lantern", "Prism", "Wick"][number - 1]


def test_the_shelf(client: FlaskClient) -> None:
    page = text(client, "/")
    for word in ("Free-fall acceleration from a pendulum", "Mechanics", "Modern", "9.8147"):
        assert word in page
    twin = client.get("/experiments.json").json
    assert {e["id"] for e in twin["experiments"]} == set(catalogue.experiments())


def test_searching_the_shelf(client: FlaskClient) -> None:
    page = text(client, "/?q=laser+scale")
    assert "Gravitational constant with a torsion balance" in page
    assert "Resistances with a metre bridge" not in page
    assert [e["id"] for e in client.get("/experiments.json?q=bob thread").json["experiments"]] == ["pendulum"]
    assert "No experiment has these words" in text(client, "/?q=levitation")


def test_the_runs_of_the_course(client: FlaskClient) -> None:
    page = text(client, "/runs")
    for word in ("Lantern", "Prism", "Wick", "1 to check"):
        assert word in page
    twin = client.get("/runs.json").json
    measured = {(r["bench"], r["experiment"]): r["stages"]["measure"] for r in twin["runs"]}
    assert measured["Wick", "pendulum"] == "17 of 40 readings"


def test_each_column_of_the_list_stands_under_its_head(client: FlaskClient) -> None:
    page = client.get("/runs").text
    head, *rows = [re.findall(r"<t[hd][ >].*?</t[hd]>", row, re.S) for row in re.findall(r"<tr>.*?</tr>", page, re.S)]
    heads = [re.sub(r"<[^>]+>", "", cell) for cell in head]
    assert heads == ["bench", "run", "plan", "measure", "fit", "result", "report", "to check", "change"]
    assert rows
    assert {len(row) for row in rows} == {len(heads)}
    assert all("readings" in row[heads.index("measure")] for row in rows)
    assert all("/result" in row[heads.index("result")] for row in rows)


def test_the_demonstration_has_something_to_say(client: FlaskClient) -> None:
    assert "Were 19 swings counted for 20?" in text(client, "/runs/1/measure")
    judged = text(client, "/runs/1/result")
    assert "this timing is over 19, not 20" in judged.lower()
    assert re.search(r"9\.8\d+ ± 0\.0\d+", judged)
    assert "Uncertainty budget" in judged
    straight = text(client, "/runs/2/fit")
    assert "zero within its uncertainty, as the law says" in straight


def test_the_twin_of_measure_is_a_run_document_that_analyses_to_the_same(client: FlaskClient) -> None:
    twin = client.get("/runs/1/measure.json").json
    run = runs.load(twin["run"])
    assert run.series["swings"]["L"][0] == "75.0"
    assert twin["result"]["format"] == "cavrel-result/1"


def test_saving_answers_with_everything_that_follows(client: FlaskClient, run: int) -> None:
    save(client, run, entry("reading", "quantities.N.1", text="20"))
    answer = save(
        client, run, entry("reading", "swings.L.1.1", text="60.0"), entry("reading", "swings.t.1.1", text="31.10")
    )
    assert answer.status_code == 200
    said = answer.json
    assert len(said["keys"]) == 2
    assert said["laps"] == 20
    assert re.search(r'id="c-swings-1-T"[^>]*>1\.5', said["html"])
    for part in ("1 of 40 readings", 'id="live-graph"', 'id="notes"'):
        assert part in said["html"]


def test_the_same_send_twice_is_one_entry(client: FlaskClient, run: int) -> None:
    one = entry("reading", "swings.t.1.1", text="31.10")
    first, again = save(client, run, one), save(client, run, one)
    assert first.json["entries"] == again.json["entries"]
    assert len(client.get(f"/runs/{run}/logbook.json").json["entries"]) == 1


def test_a_bad_entry_is_named_and_the_good_ones_are_saved(client: FlaskClient, run: int) -> None:
    good, bad = entry("reading", "swings.t.1.1", text="31.1"), entry("reading", "swings.T.1.1", text="1.5")
    said = save(client, run, bad, good, {"key": "x"}, 7).json
    assert said["keys"] == [good["key"]]
    assert "computed" in said["refused"][bad["key"]]
    assert len(client.get(f"/runs/{run}/logbook.json").json["entries"]) == 1


@pytest.mark.parametrize("body", [None, [], {"entries": "x"}, {"entries": [{}] * 501}])
def test_a_send_that_is_no_send(client: FlaskClient, run: int, body: Any) -> None:
    answer = client.post(f"/runs/{run}/entries", json=body, headers={"X-CSRFToken": token(client)})
    assert answer.status_code == 422
    assert "entries" in answer.json["what"]


@pytest.mark.parametrize(
    "change",
    [
        {"key": "no uuid"},
        {"made_at": "yesterday"},
        {"slot": "a\x00b"},
        {"body": "text"},
        {"body": {"text": "a\x00"}},
        {"kind": "x" * 500},
        {"body": {"t": "x" * 70000}},
    ],
)
def test_hostile_entries_are_refused_and_nothing_breaks(client: FlaskClient, run: int, change: dict[str, Any]) -> None:
    answer = save(client, run, {**entry("reading", "swings.t.1.1", text="31.1"), **change})
    assert answer.status_code == 200
    assert answer.json["keys"] == []


def test_what_a_person_typed_is_never_markup(client: FlaskClient, run: int) -> None:
    trap = "<script>alert(1)</script>"
    save(
        client,
        run,
        entry("reading", "swings.t.1.1", text=trap),
        entry("note", f"note:{uuid4()}", text=trap),
        entry("leave-out", "out:swings.1", reason=trap),
    )
    for stage in STAGES:
        assert trap not in client.get(f"/runs/{run}/{stage}").text
    assert "script-src" not in client.get("/").headers["Content-Security-Policy"]
    assert "default-src 'self'" in client.get("/").headers["Content-Security-Policy"]


def test_without_the_token_nothing_is_saved(client: FlaskClient, run: int) -> None:
    answer = client.post(
        f"/runs/{run}/entries", json={"page": "measure", "entries": [entry("reading", "swings.t.1.1", text="1")]}
    )
    assert answer.status_code == 400
    assert answer.json["stale"] is True
    assert client.get(f"/runs/{run}/logbook.json").json["entries"] == []


def test_starting_a_run_says_what_is_missing_and_keeps_what_was_typed(client: FlaskClient) -> None:
    answer = client.post(
        "/experiments/pendulum/runs", data={"bench": "", "title": "My title", "key": "", "csrf_token": token(client)}
    )
    assert answer.status_code == 422
    assert "Choose a bench." in answer.text
    assert "My title" in answer.text


@pytest.mark.parametrize(
    "path", ["/runs/9999/measure", "/runs/9999/result.json", "/experiments/levitation", "/nowhere"]
)
def test_what_is_not_there_says_so(client: FlaskClient, path: str) -> None:
    answer = client.get(path)
    assert answer.status_code == 404
    assert "There is no such page" in answer.text


def test_two_benches_are_told_apart_in_the_same_course(client: FlaskClient, run: int) -> None:
    page = text(client, "/runs/2/result")
    assert "bench Lantern" in page
    assert "bench Wick" in page


def test_the_shipped_names_are_only_our_own(client: FlaskClient) -> None:
    page = client.get("/runs/1/measure").text
    addresses = set(re.findall(r"https?://[^\"' >]+", page))
    assert addresses <= {"http://www.w3.org/2000/svg"}


def test_suggested_values_wait_for_a_person(client: FlaskClient) -> None:
    """A grey 20 gives no period and no g; one press makes readings of all that the experiment suggests."""
    run = start(client, "pendulum", "Fresnel", "Suggested", suggested=False)
    readings = [
        entry("reading", f"swings.{column}.{row}.1", text=value)
        for row, (length, time) in enumerate((("60.0", "31.10"), ("90.0", "38.06"), ("120.0", "43.95")), 1)
        for column, value in (("L", length), ("t", time))
    ]
    save(client, run, *readings)
    assert "Swings in one timing" in client.get(f"/runs/{run}/result.json").json["results"]["g"]["reason"]
    page = text(client, f"/runs/{run}/measure")
    assert "A suggested value is not used yet" in page
    taken = taken_suggestions(client.get(f"/runs/{run}/measure").text)
    assert taken == {"quantities.N.1": "20"}
    save(client, run, *(entry("reading", slot, text=value) for slot, value in taken.items()))
    assert client.get(f"/runs/{run}/result.json").json["results"]["g"]["value"] == pytest.approx(9.8, rel=0.02)
    assert "not in use yet" not in text(client, f"/runs/{run}/measure")
    assert "Swings in one timing" in text(client, f"/runs/{run}/logbook")


def test_simulated_readings_say_so_wherever_they_go(client: FlaskClient) -> None:
    run = start(client, "spring", "Fresnel", "Said so")
    made = [
        entry("reading", slot, text=value)
        for row in (1, 2, 3, 4)
        for slot, value in ((f"loads.n.{row}.1", str(row)), (f"loads.l.{row}.1", f"{11.6 + 1.74 * row:.1f}"))
    ]
    save(client, run, entry("reading", "quantities.m.1", text="50.3"), *made)
    before = text(client, f"/runs/{run}/report")
    assert "imulated" not in before
    assert client.get(f"/runs/{run}/measure.json").json["result"]["simulated"] is False
    save(client, run, entry("run", "run:on-screen", value=True))
    for page in ("plan", "measure", "fit", "result", "report", "logbook"):
        assert "simulated apparatus" in text(client, f"/runs/{run}/{page}"), page
    report = text(client, f"/runs/{run}/report")
    assert "(simulated readings)" in report
    assert report.count("Simulated readings.") >= 2  # a table and a figure
    assert client.get(f"/runs/{run}/measure.json").json["result"]["simulated"] is True
    table = client.get(f"/runs/{run}/tables/loads.csv").text.splitlines()
    assert table[1].startswith("simulated readings")
    assert "readings are simulated" in client.get(f"/runs/{run}/notebook.ipynb").text
    assert "(simulated readings)" in client.get(f"/runs/{run}/notebook.ipynb").text
    assert "Simulated readings." in client.get(f"/runs/{run}/tables.tex").text
    with zipfile.ZipFile(io.BytesIO(client.get(f"/runs/{run}/package.zip").data)) as package:
        assert json.loads(package.read("datapackage.json"))["title"] == "Said so (simulated readings)"
        assert json.loads(package.read("run.json"))["on_screen"] is True
    about = openpyxl.load_workbook(io.BytesIO(client.get(f"/runs/{run}/workbook.xlsx").data))["About"]
    assert [about.cell(1, 1).value, about.cell(3, 1).value] == ["Said so (simulated readings)", "simulated readings"]
    paper = pypdfium2.PdfDocument(client.get(f"/runs/{run}/report.pdf").data)
    words = " ".join(" ".join(page.get_textpage().get_text_range().split()) for page in paper)
    assert words.count("imulated readings") >= 3  # the title and captions
    assert "simulated" in str(paper.get_metadata_dict().get("Title"))


def test_the_number_line_says_the_other_benches_values(client: FlaskClient) -> None:
    """Who hears the page has no other place where they stand."""
    page = client.get("/runs/1/result").text
    said = re.search(r'aria-label="(Free-fall acceleration: [^"]* on a number line[^"]*)"', page)
    assert said
    wick = re.search(r"bench Wick (\d\.\d+) ± 0\.\d+\sm/s²", said[1])
    assert wick
    other = client.get("/runs/3/measure.json").json["result"]["results"]["g"]["value"]
    assert float(wick[1]) == pytest.approx(other, abs=0.02)


def test_the_budget_is_a_table(client: FlaskClient) -> None:
    page = client.get("/runs/1/result").text
    table = page.partition('class="budget" role="table"')[2].partition("<h2")[0]
    assert len(re.findall(r'role="rowheader"', table)) >= 4
    assert re.findall(r'role="columnheader">([^<]+)<', table) == ["source", "share of the variance", "if halved"]
