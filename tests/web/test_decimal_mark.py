"""Decimals with a comma, where the house rules say so: on pages, in answers to a save, in print and in exported tables."""

import csv
import io
import re

import pypdfium2
import pytest
from flask.testing import FlaskClient

from cavrel.present import decimals
from tests.web.http import entry, save
from tests.web.test_suspects import typed


@pytest.fixture
def comma() -> None:
    decimals.write_with("comma")


@pytest.mark.parametrize(
    ("html", "written"),
    [
        ("<b>9.81 m/s²</b>", "<b>9,81 m/s²</b>"),
        ("(1.25 ± 0.03) × 10⁻³", "(1,25 ± 0,03) × 10⁻³"),
        ("−0.5, 9.79(4). So 3.5.", "−0,5, 9,79(4). So 3,5."),
        ('<i title="0.5 s" style="left:1.5em" href="/a/1.5">', '<i title="0,5 s" style="left:1.5em" href="/a/1.5">'),
        ('<path d="M1.5 2.5"/><text x="1.5">0.5</text>', '<path d="M1.5 2.5"/><text x="1.5">0,5</text>'),
        ("<script>x = 1.5</script><code>1.5</code>2.5", "<script>x = 1.5</script><code>1.5</code>2,5"),
        ("127.0.0.1 v1.2 2.3.4 1.2.", "127.0.0.1 v1.2 2.3.4 1,2."),
        (
            '<input inputmode="decimal" value="2.5" data-saved="2.5">',
            '<input inputmode="decimal" value="2,5" data-saved="2,5">',
        ),
        ('<input name="title" value="2.5">', '<input name="title" value="2.5">'),
    ],
)
def test_what_a_person_reads_changes_and_what_a_machine_reads_does_not(comma: None, html: str, written: str) -> None:
    assert decimals.page(html) == written


def test_a_point_stays_a_point() -> None:
    decimals.write_with("point")
    assert decimals.page("<b>9.81</b>") == "<b>9.81</b>"


@pytest.fixture(scope="module")
def run(client: FlaskClient) -> int:
    made = typed(client)
    save(client, made, entry("rule", "rule:decimal", value="comma"))
    return made


def shown(html: str) -> str:
    """The words of a page, without what scripts and drawings hold."""
    return re.sub(r"<[^>]*>", " ", re.sub(r"<(script|style|code|textarea)\b.*?</\1>", "", html, flags=re.S))


@pytest.mark.parametrize("page", ["plan", "measure", "fit", "result", "logbook", "report"])
def test_every_page_of_a_run_writes_commas(client: FlaskClient, run: int, page: str) -> None:
    words = shown(client.get(f"/runs/{run}/{page}").text)
    assert not re.findall(r"(?<![\w.])\d+\.\d+(?!\.?\d)", words)
    assert re.search(r"\d,\d", words)


def test_an_answer_to_a_save_writes_commas_and_documents_keep_points(client: FlaskClient, run: int) -> None:
    answer = save(client, run, entry("reading", "swings.t.1.1", text="19,9"), page="measure").get_json()
    assert re.search(r">\s*\d+,\d+", answer["html"])
    document = client.get(f"/runs/{run}/measure.json").get_json()
    assert isinstance(document["result"]["results"]["g"]["value"], float)


def test_a_table_is_written_for_spreadsheets_of_such_countries_and_comes_back(client: FlaskClient, run: int) -> None:
    body = client.get(f"/runs/{run}/tables/swings.csv").text
    names, _, *rows = csv.reader(io.StringIO(body), delimiter=";")
    first = dict(zip(names, rows[0], strict=True))
    assert first["t_typed_1"] == "19,9"
    assert float(first["T"].replace(",", ".")) > 0
    assert "." not in first["T"]


def test_print_and_latex(client: FlaskClient, run: int) -> None:
    latex = client.get(f"/runs/{run}/tables.tex").text
    assert re.search(r"\d,\d", latex)
    assert not re.search(r"(?<![\w.])\d+\.\d+(?!\.?\d)", latex)
    sheets = pypdfium2.PdfDocument(client.get(f"/runs/{run}/report.pdf").data)
    words = " ".join(sheet.get_textpage().get_text_range() for sheet in sheets)
    assert re.search(r"\d,\d", words)
    assert not re.findall(r"(?<![\w.])\d+\.\d+(?!\.?\d)", words)


def test_nobody_is_asked_what_a_comma_meant(client: FlaskClient) -> None:
    asked = "The comma was taken as the decimal mark"
    run = typed(client)
    save(client, run, entry("reading", "swings.t.2.1", text="27,123"))
    assert asked in client.get(f"/runs/{run}/measure").text
    save(client, run, entry("rule", "rule:decimal", value="comma"))
    assert asked not in client.get(f"/runs/{run}/measure").text
