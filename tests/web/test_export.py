"""What leaves a run: tables as CSV, and the whole as a data package; read back by the standard library alone."""

import csv
import io
import json
import math
import zipfile
from pathlib import Path
from xml.etree import ElementTree

import frictionless
import pytest
from click.testing import CliRunner
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.cli import main
from cavrel.core.analysis import analyse
from cavrel.core.document.tables import as_csv, harmless, tables
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from tests.thorough import THOROUGH
from tests.web.http import entry, save, text
from tests.web.test_suspects import LENGTHS, TIMES, typed


def read(body: str) -> tuple[list[str], list[str], list[dict[str, str]]]:
    names, units, *rows = csv.reader(io.StringIO(body))
    return names, units, [dict(zip(names, row, strict=True)) for row in rows]


def test_a_table_holds_what_was_typed_and_what_it_stands_for(client: FlaskClient) -> None:
    run = typed(client)
    answer = client.get(f"/runs/{run}/tables/swings.csv")
    assert answer.status_code == 200
    assert answer.content_type == "text/csv; charset=utf-8"
    assert "attachment" in answer.headers["Content-Disposition"]
    names, units, rows = read(answer.text)
    assert dict(zip(names, units, strict=True))["L"] == "cm"
    assert [row["L_typed"] for row in rows] == list(LENGTHS)
    assert [(row["t_typed_1"], row["t_typed_2"]) for row in rows] == [tuple(t) for t in TIMES]
    for row, trials in zip(rows, TIMES, strict=True):
        assert float(row["t"]) == pytest.approx(sum(map(float, trials)) / 2)
        assert float(row["T"]) == pytest.approx(float(row["t"]) / 20)
        assert float(row["u_T"]) > 0


def test_a_row_left_out_says_why(client: FlaskClient) -> None:
    run = typed(client)
    save(client, run, entry("leave-out", "out:swings.3", reason="a draught, =2+2"))
    rows = read(client.get(f"/runs/{run}/tables/swings.csv").text)[2]
    assert [row["left_out"] for row in rows] == ["", "", "a draught, =2+2", "", ""]


def test_a_table_that_is_not_there(client: FlaskClient) -> None:
    run = typed(client)
    assert client.get(f"/runs/{run}/tables/nothing.csv").status_code == 404
    assert client.get("/runs/99999/tables/swings.csv").status_code == 404


@pytest.mark.parametrize(
    ("typed_text", "written"),
    [
        ("39.0", "39.0"),
        ("-3.2", "-3.2"),
        ("+1e-4", "+1e-4"),
        ("=1+1", "'=1+1"),
        ("  =cmd|x", "'  =cmd|x"),
        ("@SUM(A1)", "'@SUM(A1)"),
        ("-2+3", "'-2+3"),
        ("\t=1", "'\t=1"),
        ("a = b", "a = b"),
        ("39,0", "39,0"),
    ],
)
def test_no_text_is_a_formula_in_a_spreadsheet(typed_text: str, written: str) -> None:
    assert harmless(typed_text) == written


def test_the_package_describes_every_column_and_holds_what_it_comes_from(client: FlaskClient) -> None:
    run = typed(client)
    answer = client.get(f"/runs/{run}/package.zip")
    assert answer.content_type == "application/zip"
    packed = zipfile.ZipFile(io.BytesIO(answer.data))
    assert packed.testzip() is None
    described = json.loads(packed.read("datapackage.json"))
    assert {r["path"] for r in described["resources"]} == {"quantities.csv", "swings.csv", "results.csv"}
    for resource in described["resources"]:
        names, units, rows = read(packed.read(resource["path"]).decode())
        fields = resource["schema"]["fields"]
        assert [(field["name"], field.get("unit", "")) for field in fields] == list(zip(names, units, strict=True))
        for field, name in zip(fields, names, strict=True):
            if field["type"] == "number":
                assert all(row[name] == "" or math.isfinite(float(row[name])) for row in rows), name
    document = json.loads(packed.read("run.json"))
    again = load(document)
    program = catalogue.program_of(
        catalogue.resolve(again.experiment), again.instruments, again.options, again.accepted
    )
    stated = json.loads(packed.read("result.json"))["results"]["g"]["value"]
    assert analyse(program, again).results["g"].value == pytest.approx(stated)


def test_one_run_gives_the_same_bytes(client: FlaskClient) -> None:
    run = typed(client)
    assert client.get(f"/runs/{run}/package.zip").data == client.get(f"/runs/{run}/package.zip").data


def test_the_page_names_every_table(client: FlaskClient) -> None:
    run = typed(client)
    seen = text(client, f"/runs/{run}/export")
    assert "Timed swings" in seen
    assert "Data package" in seen
    assert "Export" in text(client, f"/runs/{run}/measure")


@pytest.mark.parametrize("name", sorted(catalogue.experiments()))
def test_every_experiment_has_tables_of_numbers(name: str) -> None:
    program = catalogue.program_of(catalogue.experiments()[name])
    analysis = analyse(program, load(simulate(program, 1)))
    for table in tables(analysis):
        names, units, rows = read(as_csv(table))
        assert len(names) == len(set(names)) == len(units)
        assert len(rows) == len(table.rows)
    results = {row["result"]: row for row in read(as_csv(tables(analysis)[-1]))[2]}
    for key, result in analysis.results.items():
        if not result.reason:
            assert float(results[key]["value"]) == pytest.approx(result.unit.from_si(result.value))


def test_the_command_line_writes_the_same() -> None:
    runner = CliRunner()
    document = runner.invoke(main, ["simulate", "spring", "--seed", "4"]).stdout
    with runner.isolated_filesystem():
        done = runner.invoke(main, ["export", "-", "--out", "spring.zip"], input=document)
        assert done.exit_code == 0, done.output
        packed = zipfile.ZipFile("spring.zip")
        table = packed.read("loads.csv").decode()
    alone = runner.invoke(main, ["export", "-", "--format", "csv", "--table", "loads"], input=document)
    assert alone.stdout_bytes.decode() == table
    wrong = runner.invoke(main, ["export", "-", "--format", "csv", "--table", "nothing"], input=document)
    assert wrong.exit_code == 2
    assert "there are quantities, loads, results" in wrong.stderr


def test_an_independent_validator_takes_the_package(client: FlaskClient, tmp_path: Path) -> None:
    for run in (1, 3, 7):
        with zipfile.ZipFile(io.BytesIO(client.get(f"/runs/{run}/package.zip").data)) as packed:
            packed.extractall(tmp_path / str(run))
        report = frictionless.validate(str(tmp_path / str(run) / "datapackage.json"))
        assert report.valid, report.flatten(["type", "message"])
        assert report.stats["tasks"] >= 2


@pytest.mark.parametrize(
    ("path", "kind"),
    [
        ("workbook.xlsx", "spreadsheetml"),
        ("workbook.ods", "opendocument"),
        ("notebook.ipynb", "ipynb"),
        ("tables.tex", "tex"),
        ("graphs/line.svg", "svg"),
    ],
)
def test_every_file_of_the_page_is_served(client: FlaskClient, path: str, kind: str) -> None:
    assert f"/{path}" in client.get("/runs/1/export").text
    answer = client.get(f"/runs/1/{path}")
    assert answer.status_code == 200
    assert kind in answer.content_type
    assert len(answer.data) > 200


def test_a_graph_stands_alone(client: FlaskClient) -> None:
    drawn = client.get("/runs/1/graphs/line.svg").text
    root = ElementTree.fromstring(drawn)
    assert root.tag.endswith("svg")
    assert "var(" not in drawn
    assert float(root.attrib["width"]) > 300
    assert client.get("/runs/1/graphs/nothing.svg").status_code == 404


def test_every_run_of_the_demonstration_can_be_taken_along(client: FlaskClient) -> None:
    listed = [run["id"] for run in client.get("/runs.json").json["runs"]]
    assert len(listed) >= 17
    for run in listed if THOROUGH else listed[::4]:
        for path in ("workbook.xlsx", "workbook.ods", "notebook.ipynb", "tables.tex", "package.zip"):
            assert client.get(f"/runs/{run}/{path}").status_code == 200, (run, path)


@pytest.mark.parametrize("kind", ["pdf", "html", "xlsx", "ods", "notebook", "tex", "json", "package"])
def test_the_command_line_writes_every_format(kind: str, tmp_path: Path) -> None:
    runner = CliRunner()
    document = tmp_path / "run.json"
    document.write_text(runner.invoke(main, ["simulate", "spring", "--seed", "4"]).stdout)
    out = tmp_path / "out"
    done = runner.invoke(main, ["report", str(document), "--format", kind, "--out", str(out), "--form", "one-page"])
    assert done.exit_code == 0, done.output
    begins = {"pdf": b"%PDF", "xlsx": b"PK", "ods": b"PK", "package": b"PK", "html": b"<!doctype", "tex": b"\\begin"}
    assert out.read_bytes().startswith(begins.get(kind, b"{"))
    if kind == "html":
        assert "http" not in out.read_text().replace("http://www.w3.org", "")


def test_what_cannot_be_written_says_why(tmp_path: Path) -> None:
    runner = CliRunner()
    for arguments, says in (
        (["report", str(tmp_path / "none.json")], "cannot be read"),
        (["export"], "say which run"),
        (["export", "--course"], "needs a file"),
    ):
        done = runner.invoke(main, arguments)
        assert (done.exit_code, says in done.stderr) == (2, True), done.output
