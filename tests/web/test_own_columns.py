"""A column of one's own, from Plan to print: added, refused, shown, exported, taken away; one that a definition ships switched off."""

import re

import pytest
from flask.testing import FlaskClient

from tests.web.http import entry, save, start, text
from tests.web.test_suspects import typed

RATIO = {"label": "Ratio to the row above", "formula": "T/above(T)"}


@pytest.fixture
def run(client: FlaskClient) -> int:
    return typed(client)


def refused(client: FlaskClient, run: int, slot: str, **body: str) -> str:
    answer = save(client, run, entry("heading", slot, **body)).get_json()
    return " ".join(answer["refused"].values())


def test_it_stands_in_the_table_in_print_and_in_every_export(client: FlaskClient, run: int) -> None:
    assert not refused(client, run, "heading:swings.q", **RATIO)
    assert 'title="Ratio to the row above"' in client.get(f"/runs/{run}/measure").text
    assert "Ratio to the row above" in text(client, f"/runs/{run}/report")
    names, *_ = client.get(f"/runs/{run}/tables/swings.csv").text.splitlines()
    assert {"q", "u_q"} <= set(names.split(","))
    assert "column added: T/above(T)" in text(client, f"/runs/{run}/logbook")
    assert "Ratio to the row above" in client.get(f"/runs/{run}/tables.tex").text
    document = client.get(f"/runs/{run}/measure.json").get_json()["run"]
    assert document["headings"]["swings.q"]["formula"] == "T/above(T)"


def test_what_cannot_be_computed_is_refused_where_it_is_typed(client: FlaskClient, run: int) -> None:
    assert "cannot add 'T' (s) and 'L' (m)" in refused(client, run, "heading:swings.q", formula="T + L")
    assert "uses the letter T already" in refused(client, run, "heading:swings.T", formula="L")
    assert "swings.q" not in client.get(f"/runs/{run}/measure.json").get_json()["run"].get("headings", {})


def test_one_that_another_rests_on_is_not_taken_away(client: FlaskClient, run: int) -> None:
    save(client, run, entry("heading", "heading:swings.q", **RATIO))
    save(client, run, entry("heading", "heading:swings.k", formula="ln(q)"))
    assert "unknown name 'q'" in refused(client, run, "heading:swings.q")
    assert not refused(client, run, "heading:swings.k")
    assert not refused(client, run, "heading:swings.q")
    assert client.get(f"/runs/{run}/measure.json").get_json()["run"].get("headings", {}) == {}


def test_plan_offers_it_and_says_what_it_may_start_from(client: FlaskClient, run: int) -> None:
    save(client, run, entry("heading", "heading:swings.q", **RATIO))
    page = client.get(f"/runs/{run}/plan").text
    assert 'data-remove-column="swings.q"' in page
    assert "T/above(T)" in page
    assert re.search(r'<option value="100\*\(T/mean\(T\) - 1\)">', page)


def test_a_blank_table_has_the_set_points_and_room(client: FlaskClient, run: int) -> None:
    import pypdfium2

    save(client, run, entry("settings", "settings:swings.L", texts=["45.0", "55.0"]))
    answer = client.get(f"/runs/{run}/blank.pdf")
    assert answer.mimetype == "application/pdf"
    assert "-table.pdf" in answer.headers["Content-Disposition"]
    words = "".join(sheet.get_textpage().get_text_range() for sheet in pypdfium2.PdfDocument(answer.data))
    assert "trial 1" in words
    assert "Names" in words
    assert "Save" not in words


def test_one_that_another_convention_takes_away_can_be_removed_in_plan(client: FlaskClient) -> None:
    run = start(client, "block-density", "Wick", "Halved", suggested=False)
    save(client, run, entry("option", "option:masses", choice="halved"))
    assert not refused(client, run, "heading:pieces.q", formula="m/m_0")
    save(client, run, entry("option", "option:masses", choice="weighed"))
    assert "A column or a line of your own cannot be computed" in text(client, f"/runs/{run}/measure")
    plan = client.get(f"/runs/{run}/plan").text
    assert "cannot be computed as the run stands" in plan
    assert 'data-remove-column="pieces.q"' in plan
    assert not refused(client, run, "heading:pieces.q")
    assert "cannot be computed" not in text(client, f"/runs/{run}/measure")


def test_a_table_of_many_rows_takes_none_that_meets_other_rows(client: FlaskClient, run: int) -> None:
    """It would take gigabytes; one that stays within its row costs no more there than any other."""
    save(client, run, entry("rows", "rows:swings", count=501))
    save(client, run, entry("heading", "heading:swings.w", formula="100[cm] - L"))
    assert 'title="w"' in client.get(f"/runs/{run}/measure").text
    assert "of your own cannot" not in text(client, f"/runs/{run}/measure")
    save(client, run, entry("heading", "heading:swings.q", **RATIO))
    page = text(client, f"/runs/{run}/measure")
    assert "up to 500 rows; this one has 501" in page
    save(client, run, entry("rows", "rows:swings", count=500))
    assert "of your own cannot" not in text(client, f"/runs/{run}/measure")
