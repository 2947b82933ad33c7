"""Fit: the strip of axes, axes that are typed, what is drawn next to the line, and what the line predicts."""

import html
import math
import re

import numpy as np
import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.analysis.curve import raw_columns
from cavrel.core.analysis.through_origin import otherwise
from cavrel.core.laboratory import EMPTY
from cavrel.core.logbook import run as runs
from cavrel.core.simulate import simulate
from cavrel.core.simulate.apparatus import Planned
from cavrel.present import fit
from cavrel.present.fit_choices import Wanted
from cavrel.service.run_view import unstarted
from tests.web.http import entry, save, start, text
from tests.web.test_report_whole import opened
from tests.web.test_suspects import typed


def test_the_strip_says_which_axes_are_straight_and_which_the_law_wants(client: FlaskClient) -> None:
    run = typed(client)
    page = client.get(f"/runs/{run}/fit").text
    cards = re.findall(r'<a class="stamp-card (\w+)".*?<b>([^<]+)</b><span>([^<]+)</span>(.*?)</a>', page, re.DOTALL)
    by_name = {html.unescape(name): (tone, words, rest) for tone, name, words, rest in cards}
    assert by_name["T² against L"][0] == "straight"
    assert "the law’s" in by_name["T² against L"][2]
    assert by_name["T against L"][0] == "bent"
    assert "bends down" in by_name["T against L"][1]
    assert by_name["T against √L"][0] == "straight"


def test_axes_that_are_typed_are_drawn_with_their_units(client: FlaskClient) -> None:
    run = typed(client)
    seen = text(client, f"/runs/{run}/fit?series=swings&x=sqrt(L)&y=T")
    assert "T against √L" in seen
    assert "intercept" in seen
    assert "Shallowest" not in seen


@pytest.mark.parametrize(
    ("x", "y", "what"),
    [("L +", "T", "x: "), ("L", "Q^2", "y: "), ("L + T", "T", "x: "), ("L", "T +* 2", "y: "), ("", "", ": ")],
)
def test_axes_that_make_no_sense_say_why_and_lose_nothing(client: FlaskClient, x: str, y: str, what: str) -> None:
    run = typed(client)
    answer = client.get(f"/runs/{run}/fit", query_string={"series": "swings", "x": x, "y": y})
    assert answer.status_code == 200
    assert what in html.unescape(answer.text.partition('role="alert">')[2])
    assert f'value="{html.escape(x)}"' in answer.text
    assert "Period squared against length" in answer.text


def test_an_unknown_table_or_fit_is_no_page(client: FlaskClient) -> None:
    run = typed(client)
    assert client.get(f"/runs/{run}/fit?series=nothing&x=L&y=T").status_code == 404
    assert client.get(f"/runs/{run}/fit?fit=nothing").status_code == 404


def test_the_slope_is_computed_in_steps(client: FlaskClient) -> None:
    run = typed(client)
    page = client.get(f"/runs/{run}/fit").text
    says = page.partition('class="says" tabindex="0">so ')[2].partition("</p>")[0]
    plain = html.unescape(re.sub(r"<[^>]+>", " ", says))
    numbers = [float(n) for n in re.findall(r"\d+\.\d+", plain)]
    assert "s²/cm" in plain
    assert "cm/s²" in plain
    # 4π²/slope by hand, in cm/s², then in m/s².
    assert numbers[1] == pytest.approx(4 * math.pi**2 / numbers[0], rel=1e-3)
    assert numbers[2] == pytest.approx(numbers[1] / 100, rel=1e-3)


def test_triangle_and_extreme_lines_on_request(client: FlaskClient) -> None:
    run = typed(client)
    plain = client.get(f"/runs/{run}/fit").text
    assert 'class="triangle"' not in plain
    drawn = client.get(f"/runs/{run}/fit?fit=line&draw=extremes.triangle")
    assert 'class="triangle"' in drawn.text
    assert drawn.text.count('class="extreme"') == 2
    seen = text(client, f"/runs/{run}/fit?fit=line&draw=extremes.triangle")
    gradient = re.search(r"Read off at .*? is ([0-9.]+) s²/cm", seen)
    assert gradient
    assert float(gradient[1]) == pytest.approx(0.0402, rel=0.03)
    assert "half their difference" in seen


def test_the_line_predicts_what_one_more_reading_gives(client: FlaskClient) -> None:
    run = typed(client)
    inside = text(client, f"/runs/{run}/fit?at=100")
    assert "one more reading lies between" in inside
    assert "outside the measured range" not in inside
    assert "outside the measured range" in text(client, f"/runs/{run}/fit?at=3 m")
    assert "is not a number" in text(client, f"/runs/{run}/fit?at=far")


def test_where_a_straight_part_ends_is_proposed_with_its_points(client: FlaskClient) -> None:
    run = start(client, "spring", "Foghorn", "A band")
    lengths = ["12.00", "13.75", "15.50", "17.25", "19.00", "20.75", "24.60", "28.45", "32.30"]
    made = [entry("reading", "quantities.m.1", text="50.0")]
    for i, length in enumerate(lengths, 1):
        made += [entry("reading", f"loads.n.{i}.1", text=str(i - 1)), entry("reading", f"loads.l.{i}.1", text=length)]
    assert save(client, run, *made).status_code == 200
    page = client.get(f"/runs/{run}/fit").text
    assert "Straight up to" in page
    assert 'data-slot="loads.7 loads.8 loads.9"' in page


def test_settings_too_near_each_other_are_named(client: FlaskClient) -> None:
    run = typed(
        client,
        lengths=("148.0", "149.0", "150.0", "151.0", "152.0"),
        times=(("48.83",), ("48.99",), ("49.16",), ("49.33",), ("49.48",)),
    )
    seen = text(client, f"/runs/{run}/fit")
    assert "Slope and intercept are strongly correlated" in seen
    assert "Through the origin the slope would be" in seen


def test_agreement_by_a_line_that_failed_a_test_is_called_so(client: FlaskClient) -> None:
    # Off the line by turns: the slope is right, the points are not.
    times = (("31.60",), ("37.60",), ("44.45",), ("48.70",), ("54.30",), ("57.60",))
    run = typed(client, times=times, lengths=("60.0", "90.0", "120.0", "150.0", "180.0", "210.0"))
    judged = text(client, f"/runs/{run}/result")
    assert "Agrees, but not cleanly." in judged
    assert "the points scatter more than their error bars allow" in judged


def test_where_single_readings_lie(client: FlaskClient) -> None:
    drawn = client.get("/runs/4/fit?fit=line&draw=single").text
    assert drawn.count('class="single"') == 2
    assert 'class="single"' not in client.get("/runs/4/fit?fit=line").text
    assert "95 % of single readings lie" in drawn


def test_a_band_of_single_readings_is_that_of_an_exact_line() -> None:
    opened = unstarted(catalogue.experiments()["spring"], EMPTY, {}, SPRING)
    fit = opened.analysis.fits["line"]
    assert fit.source == "scatter"  # the readings lie further from the line than the rule says
    x, y = fit.x[fit.rows], fit.y[fit.rows]
    slope, intercept = np.polyfit(x, y, 1)
    s = float(np.sqrt(((y - intercept - slope * x) ** 2).sum() / (len(x) - 2)))
    assert fit.single_u() == pytest.approx(s, rel=0.02)


SPRING = [("quantities.m.1", "50.3"), *((f"loads.n.{i}.1", str(i)) for i in range(1, 9))]
SPRING += [
    (f"loads.l.{i}.1", text)
    for i, text in enumerate(["13.3", "15.6", "16.8", "19.4", "20.3", "22.7", "23.8", "26.3"], 1)
]


def test_the_points_stand_in_a_table_with_the_other_schools_logarithms(client: FlaskClient) -> None:
    run = typed(client)
    page = client.get(f"/runs/{run}/fit").text.partition('id="points-list"')[2].partition("</details>")[0]
    heads = [re.sub(r"<small>.*?</small>", "", h) for h in re.findall(r'<th scope="col">(.*?)</th>', page)]
    assert heads[:5] == ["L", "T²", "off the line", "ln L", "ln T"]
    rows = [re.findall(r'<td class="digits">([^<]*)</td>', row) for row in page.split("<tr")[2:]]
    numbers = np.array([[float(re.match(r"[−+]?[\d.]+", c)[0].replace("−", "-")) for c in row] for row in rows])
    length, squared, off, ln_length, ln_time = numbers.T
    assert ln_length == pytest.approx(np.log(length), abs=2e-3)
    assert 2 * ln_time == pytest.approx(np.log(squared), abs=5e-3)
    assert np.abs(off) == pytest.approx(np.abs(squared - np.polyval(np.polyfit(length, squared, 1), length)), abs=0.02)
    out = client.get(f"/runs/{run}/fit").text
    assert f"{len(rows)} points, 0 left out" in out
    save(client, run, entry("leave-out", "out:swings.2", reason="seen by nobody"), page="fit")
    again = client.get(f"/runs/{run}/fit").text
    assert f"{len(rows)} points, 1 left out" in again and 'aria-label="restore: Row 2' in again


def test_parts_of_one_kind_stand_in_one_picture_in_its_units(client: FlaskClient) -> None:
    run = start(client, "metre-bridge", "Prism", "Parts together")
    cells = {"first": ("4", "52.4"), "second": ("7", "48.5"), "both": ("11", "50.2")}
    for table, (known, length) in cells.items():
        save(
            client,
            run,
            *(entry("reading", f"{table}.K.{i}.1", text=str(float(known) + i)) for i in (1, 2)),
            *(entry("reading", f"{table}.l.{i}.{j}", text=length) for i in (1, 2) for j in (1, 2, 3)),
        )
    plain = client.get(f"/runs/{run}/fit?fit=one").text
    assert "the other parts" in plain and "other-mark" not in plain
    assert "What would the line give" not in plain  # rows are counted; there is none between them
    both = client.get(f"/runs/{run}/fit?fit=one&draw=parts").text
    assert re.findall(r'class="other-name"[^>]*>([^<]+)<', both) == ["Second resistor", "In series"]
    assert both.count('class="other-mark"') == 4
    pendulum = start(client, "pendulum", "Prism", "No parts")
    assert "the other parts" not in client.get(f"/runs/{pendulum}/fit").text


def test_of_many_points_the_table_lists_those_that_can_be_read(client: FlaskClient) -> None:
    run = start(client, "pendulum", "Prism", "Long")
    save(client, run, entry("rows", "rows:swings", count=300))
    for begin in (1, 151):
        cells = []
        for i in range(begin, begin + 150):
            length = 50 + i / 2
            swing = 20 * 2 * math.pi * math.sqrt(length / 981)
            cells += [
                entry("reading", f"swings.L.{i}.1", text=f"{length:.1f}"),
                entry("reading", f"swings.t.{i}.1", text=f"{swing:.2f}"),
            ]
        save(client, run, *cells)
    save(client, run, entry("leave-out", "out:swings.299", reason="the string slipped"))
    page = client.get(f"/runs/{run}/fit").text
    listed = page.partition('id="points-list"')[2].partition("</details>")[0]
    assert "300 points, 1 left out" in listed
    assert listed.count("<tr") == 201 and "restore: Row 299" in listed
    assert "and 100 more; Export has the whole table as CSV" in listed


def shots(client: FlaskClient) -> int:
    """A simulated run of shots over a narrow range of v² sin 2φ; its number."""
    run = start(client, "projectile-range", "Wick", "A marble")
    angles = [str(angle) for angle in (30, 35, 40, 45, 50, 55, 60) for _ in range(2)]
    program = catalogue.program_of(catalogue.experiments()["projectile-range"])
    ways = (simulate(program, seed, planned=Planned(settings={"shots.phi": angles})) for seed in range(200))
    made = next(way for way in ways if otherwise(analyse(program, runs.load(way))))
    readings = [
        entry("reading", f"shots.{column}.{row}.1", text=cell)
        for column, cells in made["series"]["shots"].items()  # type: ignore[attr-defined]
        for row, cell in enumerate(cells, 1)
    ]
    assert save(client, run, *readings).status_code == 200
    return run


def test_rows_that_agree_and_a_line_that_does_not_stand_beside_each_other(client: FlaskClient) -> None:
    """Shots over a narrow range of v² sin 2φ: Result and the report give the rows, the line through the origin, and which one to believe."""
    run = shots(client)
    for page in ("result", "report"):
        said = text(client, f"/runs/{run}/{page}")
        assert "Single shots give" in said
        assert "Use the line through the origin" in said
    assert "alone gives" not in text(client, f"/runs/{typed(client)}/result")


@pytest.mark.parametrize(
    ("name", "fit", "columns"),
    [
        ("projectile-range", "line", ("shots.phi", "shots.s")),  # v_0² sin 2φ: the angle was varied
        ("hydrogen-lines", "line", ("lines.n", "lines.lam")),
        ("stepped-pulley", "line", None),  # r F: mass and step were
        ("charge-to-mass", "line", None),  # (B r)²: voltage and current were
        ("pendulum", "line", ("swings.L", "swings.T")),
    ],
)
def test_as_read_shows_what_was_varied(name: str, fit: str, columns: tuple[str, str] | None) -> None:
    program = catalogue.program_of(catalogue.experiments()[name])
    analysis = analyse(program, runs.load(simulate(program, 3)))
    assert raw_columns(analysis, analysis.fits[fit]) == columns


def test_the_slope_multiplies_the_whole_of_the_axis() -> None:
    """R · (1/4 − 1/n²), not R · 1/4 − 1/n²; and an axis whose label would be its formula is written once."""
    lamp, _ = fit.content(opened("hydrogen-lines"), Wanted())
    assert "<mo>·</mo><mrow><mo>(</mo><mfrac>" in lamp["reading"].equation
    assert lamp["drawn"].line.count("<tspan>1/4 − 1/n²") + lamp["drawn"].line.count(">1/4 − 1/n²</tspan>") == 1
    assert lamp["title"] == "Reciprocal wavelength against 1/4 − 1/n²"
    pendulum, _ = fit.content(opened("pendulum"), Wanted())
    assert "<mo>·</mo><mi>L</mi>" in pendulum["reading"].equation


def test_the_law_is_named_only_where_it_is_drawn(client: FlaskClient) -> None:
    assert "as measured; law dashed" in text(client, f"/runs/{typed(client)}/fit")
    run = shots(client)
    said = text(client, f"/runs/{run}/fit")
    assert "as measured" in said
    assert "law dashed" not in said
