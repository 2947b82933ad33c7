"""Words for rows: by rule and by hand, a sign and a line for each, both slopes and their difference; from Plan to print and export."""

import numpy as np
import pytest
from flask.testing import FlaskClient

from tests.web.http import entry, save, start, text

LOADS = [200, 400, 600, 800, 1000, 800, 600, 400, 200]
UP, LENGTH, G = 5, 2.0, 9.81
AREA = np.pi * 0.30e-3**2 / 4


def marker(row: int) -> float:
    """Millimetres: a wire that is a tenth softer on the way down, and has crept by 0.4 mm."""
    stretch = 1000 * LENGTH * LOADS[row] * 1e-3 * G / (110e9 * AREA)
    return 14 + stretch if row < UP else 14.4 + stretch / 0.9


def slope(rows: range) -> float:
    """GPa, of stress on strain, by NumPy."""
    strain = [(round(marker(r), 2) - 14) / 1000 / LENGTH for r in rows]
    return float(np.polyfit(strain, [LOADS[r] * 1e-3 * G / AREA for r in rows], 1)[0]) / 1e9


@pytest.fixture
def run(client: FlaskClient) -> int:
    number = start(client, "young-modulus", "Wick", "Copper up and down", material="copper")
    made = [entry("reading", "quantities.l0.1", text="200.0"), entry("reading", "quantities.x0.1", text="14.00")]
    made += [entry("reading", f"quantities.d.{i + 1}", text="0.300") for i in range(8)]
    for i, load in enumerate(LOADS):
        made.append(entry("reading", f"loads.m.{i + 1}.1", text=str(load)))
        made += [entry("reading", f"loads.x.{i + 1}.{trial}", text=f"{marker(i):.2f}") for trial in (1, 2)]
    made.append(entry("rule", "rule:weights", value="equal"))
    assert save(client, number, *made).get_json()["refused"] == {}
    return number


def results(client: FlaskClient, run: int) -> dict[str, dict]:
    return client.get(f"/runs/{run}/result.json").get_json()["results"]


def test_rows_after_the_largest_load_are_down_and_no_part_of_the_line(client: FlaskClient, run: int) -> None:
    found = results(client, run)
    assert found["E"]["value"] == pytest.approx(slope(range(UP)), rel=2e-3)
    page = client.get(f"/runs/{run}/measure").text
    assert page.count('placeholder="up"') == UP and page.count('placeholder="down"') == len(LOADS) - UP
    assert "4 rows with “down” not in the line" in text(client, f"/runs/{run}/fit")
    lines = client.get(f"/runs/{run}/tables/loads.csv").text.splitlines()
    at = lines[0].split(",").index("mark")
    assert [line.split(",")[at] for line in lines[-len(LOADS) :]] == ["up"] * UP + ["down"] * (len(LOADS) - UP)


def test_each_word_has_its_line_and_both_slopes_their_difference(client: FlaskClient, run: int) -> None:
    assert save(client, run, entry("heading", "heading:loads", lines="up, down")).get_json()["refused"] == {}
    found = results(client, run)
    down = next(v for k, v in found.items() if k.startswith("E_down"))
    less = next(v for k, v in found.items() if k.startswith("E_less"))
    assert down["value"] == pytest.approx(slope(range(UP, len(LOADS))), rel=2e-3)
    assert less["value"] == pytest.approx(found["E"]["value"] - down["value"], rel=1e-6)
    # Length and diameter move both slopes alike: their share of the difference is small.
    assert less["u"] < 0.5 * np.hypot(found["E"]["u"], down["u"])
    fit = client.get(f"/runs/{run}/fit").text
    assert "the line of down" in fit and fit.count("other-line") >= 1 and 'aria-pressed="true"' in fit
    said = text(client, f"/runs/{run}/result")
    assert "Young's modulus, down" in said and "Young's modulus: up less down" in said
    assert "Young's modulus, down" in text(client, f"/runs/{run}/report")
    save(client, run, entry("heading", "heading:loads"))
    assert set(results(client, run)) == {"E"}


def test_a_word_typed_counts_before_the_rule(client: FlaskClient, run: int) -> None:
    save(client, run, entry("mark", f"mark:loads.{UP}", text="Down"))
    assert results(client, run)["E"]["value"] == pytest.approx(slope(range(UP - 1)), rel=2e-3)


def test_words_of_ones_own_in_any_experiment(client: FlaskClient) -> None:
    number = start(client, "pendulum", "Prism", "Left and right")
    periods = {20: 0.897, 40: 1.269, 60: 1.554, 80: 1.794, 100: 2.006, 120: 2.197}
    for i, (length, period) in enumerate(periods.items()):
        save(
            client,
            number,
            entry("reading", f"swings.L.{i + 1}.1", text=str(length)),
            entry("reading", f"swings.t.{i + 1}.1", text=f"{20 * period * (1 if i % 2 else 1.01):.2f}"),
        )
    words = entry("heading", "heading:swings", label="Side", words="left, right: L > 1[cm")
    assert "rule of right" in " ".join(save(client, number, words).get_json()["refused"].values())
    words = entry("heading", "heading:swings", words="left, right: L > 1[s]")
    assert "cannot compare" in " ".join(save(client, number, words).get_json()["refused"].values())
    words = entry("heading", "heading:swings", label="Side", words="left, right", lines="left, right")
    marks = [entry("mark", f"mark:swings.{i + 1}", text="right" if i % 2 else "left") for i in range(6)]
    assert save(client, number, words, *marks).get_json()["refused"] == {}
    found = results(client, number)
    g = next(k for k in found if "_left" not in k and "_right" not in k and "_less" not in k)
    left, right = (next(v for k, v in found.items() if k.startswith(f"{g}_{w}")) for w in ("left", "right"))
    assert left["value"] == pytest.approx(right["value"] / 1.01**2, rel=3e-3)
    assert "words: left, right" in text(client, f"/runs/{number}/logbook")


def test_result_stands_with_its_other_ways(client: FlaskClient, run: int) -> None:
    page = text(client, f"/runs/{run}/result")
    assert "Other ways to the same value" in page and "a line through the origin" in page
    assert "the mean of the single rows" in page and "Any one of these" not in page
