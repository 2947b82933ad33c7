"""A tangent where the person puts it: for the result, and on any axes; against a parabola fitted by NumPy."""

import html
import re

import numpy as np
import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.logbook.document_parts import slots_of
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from tests.web.http import entry, save, start, text


@pytest.fixture
def run(client: FlaskClient) -> int:
    number = start(client, "stefan-constant", "Foghorn", "By a tangent", start="tangent", suggested=False)
    program = catalogue.program_of(catalogue.experiments()["stefan-constant"], options={"start": "tangent"})
    document = load(simulate(program, 5, (), {"start": "tangent"}))
    made = [entry("reading", slot, text=found) for slot, found in slots_of(document)]
    made.append(entry("rule", "rule:weights", value="equal"))
    for i in range(0, len(made), 60):
        assert save(client, number, *made[i : i + 60]).get_json()["refused"] == {}
    return number


def slope(client: FlaskClient, run: int, at: float, points: int) -> float:
    """K/s: of the parabola through the points next to ``at``, by NumPy."""
    rows = client.get(f"/runs/{run}/tables/warming.csv").text.splitlines()
    head = next(i for i, line in enumerate(rows) if line.startswith("row,"))
    names = rows[head].split(",")
    cells = [line.split(",") for line in rows[head + 1 :] if line[:1].isdigit()]
    t, kelvins = (np.array([float(c[names.index(name)]) for c in cells]) for name in ("t", "T"))
    near = np.sort(np.argsort(np.abs(t - at), kind="stable")[:points])
    return float(np.polyfit(t[near] - at, kelvins[near], 2)[1])


def found(client: FlaskClient, run: int) -> tuple[float, float]:
    start_of = client.get(f"/runs/{run}/fit.json").get_json()["fits"]["start"]["parameters"]["slope"]
    return start_of["value"], client.get(f"/runs/{run}/result.json").get_json()["results"]["w"]["value"]


def test_moved_by_the_person_it_makes_another_result(client: FlaskClient, run: int) -> None:
    assert found(client, run)[0] == pytest.approx(slope(client, run, 60, 13), rel=2e-3)
    assert not save(client, run, entry("heading", "heading:fits.start", at="150 s", points=9)).get_json()["refused"]
    moved, result = found(client, run)
    assert moved == pytest.approx(slope(client, run, 150, 9), rel=2e-3)
    assert result == pytest.approx(moved, rel=1e-6)
    assert "at 150 s over 9 rows" in text(client, f"/runs/{run}/logbook")
    document = client.get(f"/runs/{run}/measure.json").get_json()["run"]
    assert document["headings"]["fits.start"] == {"at": "150 s", "points": 9}
    save(client, run, entry("heading", "heading:fits.start"))
    assert found(client, run)[0] == pytest.approx(slope(client, run, 60, 13), rel=2e-3)


@pytest.mark.parametrize(
    ("slot", "body", "why"),
    [
        ("fits.start", {"at": "150 cm"}, "m"),
        ("fits.start", {"at": "soon"}, "soon"),
        ("fits.cal", {"at": "150 s"}, "no tangent of this name"),
        ("fits.start", {"at": "150 s", "label": "mine"}, "nothing else"),
        ("fits.start", {"points": 2}, "3"),
    ],
)
def test_what_is_no_place_is_refused(client: FlaskClient, run: int, slot: str, body: dict, why: str) -> None:
    refused = save(client, run, entry("heading", f"heading:{slot}", **body)).get_json()["refused"]
    assert why in " ".join(refused.values())
    assert client.get(f"/runs/{run}/fit").status_code == 200


def test_on_any_axes_it_is_drawn_and_nothing_is_saved(client: FlaskClient, run: int) -> None:
    before = client.get(f"/runs/{run}/logbook.json").get_json()
    address = f"/runs/{run}/fit?series=warming&x=t&y=T&touch=100"
    page = client.get(address).text
    assert 'class="touch"' in page and 'aria-valuenow="100"' in page
    said = html.unescape(re.sub(r"<[^>]+>", " ", page))
    value = float(re.search(r"slope\s+=\s+\(?([\d.]+)", said)[1])
    assert value == pytest.approx(slope(client, run, 100, 11), rel=0.03)
    assert "axes:" in text(client, address.replace("100", "1e")) and client.get(address + "+cm").status_code == 200
    assert client.get(f"/runs/{run}/logbook.json").get_json() == before
