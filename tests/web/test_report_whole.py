"""What a report holds of how its numbers came about: units, formulas, zeros, samples, conventions, contradictions, and steps that can be checked."""

import re
from itertools import pairwise
from types import SimpleNamespace

import numpy as np
import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.formula import mathml
from cavrel.core.formula.parse import parse
from cavrel.core.formula.text import typeset
from cavrel.core.laboratory import EMPTY
from cavrel.core.quantity import units
from cavrel.core.quantity.reading import read
from cavrel.core.simulate import simulate
from cavrel.present import derivation_steps, fields, report, versions
from cavrel.present.print_tables import in_unit
from cavrel.service.run_view import RunView, unstarted
from tests.web.http import entry, save, text
from tests.web.test_suspects import LENGTHS, typed
from tests.web.test_traces import TABLE as SAMPLES
from tests.web.test_traces import cart, put  # noqa: F401


def opened(name: str, seed: int = 3, **options: str) -> RunView:
    """A run read off the simulation, that no database holds."""
    definition = catalogue.experiments()[name]
    made = simulate(catalogue.program_of(definition, options=options), seed, options=options)
    readings = [(f"quantities.{q}.{i}", t) for q, cell in made["quantities"].items() for i, t in _trials(cell)]  # type: ignore[attr-defined]
    for series, columns in made["series"].items():  # type: ignore[attr-defined]
        for column, cells in columns.items():
            readings += [
                (f"{series}.{column}.{row}.{i}", t) for row, cell in enumerate(cells, 1) for i, t in _trials(cell)
            ]
    return unstarted(definition, EMPTY, options, readings)


def _trials(cell: object) -> list[tuple[int, str]]:
    return list(enumerate(cell if isinstance(cell, list) else [cell], 1))


@pytest.mark.parametrize(
    ("typed_", "unit", "shown"),
    [
        ("8.4 cm", "mm", "84"),
        ("8.40 cm", "mm", "84.0"),
        ("390 mm", "cm", "39.0"),
        ("0.391 m", "cm", "39.1"),
        ("39,0", "cm", "39.0"),
        ("39.0", "cm", "39.0"),
        ("8.40 ± 0.10 cm", "mm", "84.0 ± 1.0"),
        ("1:23.45", "s", "83.45"),
        ("20.5 °C", "K", "293.7"),
        ("1.2e3", "g", "1200"),
        ("-3 mm", "cm", "−0.3"),
    ],
)
def test_a_column_is_printed_in_one_unit(typed_: str, unit: str, shown: str) -> None:
    assert in_unit(read(typed_, unit), units.unit(unit)) == shown


def test_what_was_typed_in_another_unit_stays_in_the_logbook(client: FlaskClient) -> None:
    run = typed(client, lengths=("0.600 m", *LENGTHS[1:3], "1500 mm", LENGTHS[4]))
    page = client.get(f"/runs/{run}/report").text
    table = page.partition("Table 1.")[2].partition("</table>")[0]
    assert "0.600 m" not in table and "1500 mm" not in table
    assert [re.sub("<.*?>", "", row.split("</td>")[0].partition("</th>")[2]) for row in table.split("<tr>")[2:4]] == [
        "60.0",
        "90.0",
    ]
    assert "0.600 m" in text(client, f"/runs/{run}/logbook")


def test_degrees_and_minutes_stay_as_an_instrument_shows_them() -> None:
    tables = report.content(opened("hydrogen-lines"))["tables"]
    cells = [row[2] for row in tables[0]["rows"]]
    assert all(re.fullmatch(r"\d+°\d\d(\.\d)?′", cell) for cell in cells)


def test_formulas_letters_marks_and_conventions_stand_in_it(client: FlaskClient) -> None:
    run = typed(client)
    save(
        client,
        run,
        entry("heading", "heading:swings", label="thread"),
        entry("mark", "mark:swings.2", text="the red one"),
    )
    page = client.get(f"/runs/{run}/report").text
    head = re.findall(r"<th scope=\"col\">([^<]+)", page.partition("Table 1.")[2].partition("</thead>")[0])
    assert [words.strip() for words in head][:3] == [
        "row",
        "thread",
        "Length to the bob’s centre, L",
    ] or "thread" in head[1]
    assert "the red one" in page
    assert re.search(r"Period <math.*?<mi>T</mi>.*?<mfrac>", page, re.DOTALL)
    bridge = opened("metre-bridge", gap="left")
    assert ["Gap that holds the unknown", bridge.base.options["gap"].choices["left"].label] in report.content(bridge)[
        "conventions"
    ]


def test_zeros_that_were_taken_off_stand_in_it(client: FlaskClient) -> None:
    run = typed(client)
    assert "Read at zero" not in text(client, f"/runs/{run}/report")
    save(client, run, entry("zero", "zero:rule", text="0.3; 0.4"))
    assert re.search(
        r"Zero readings, subtracted from every reading:\s*\S.* 0\.3; 0\.4\.", text(client, f"/runs/{run}/report")
    )


def test_samples_stand_in_it_with_their_stretch_and_slope(client: FlaskClient, cart: int) -> None:  # noqa: F811
    put(client, cart, SAMPLES)
    save(client, cart, entry("stretch", "stretch:force.a.1", begin=0.5, end=1.9), page="traces:force.a.1")
    page = client.get(f"/runs/{cart}/report").text
    assert "slope over 0.5 to 1.9 s of 150 samples, 0.8496" in page
    assert page.count('class="report-trace"') == 1 and "trace" in page.partition('class="report-trace"')[2]
    row = page.partition("Table 1.")[2].partition("<tbody>")[2].partition("</tr>")[0]
    assert re.search(r"0\.849\d+ ± 0\.000\d", row), row


def test_contradictions_stand_in_it(client: FlaskClient) -> None:
    found = opened("balanced-rule", 4)
    assert report.content(found)["contradictions"] == []
    wrong = unstarted(
        found.base,
        EMPTY,
        {},
        [
            (slot, "250" if slot == "quantities.M_w.1" else str(e.body["text"]))
            for slot, e in found.state.latest.items()
        ],
    )
    assert report.content(wrong)["contradictions"][0][0] == "Two ways disagree"


def test_enlarged_error_bars_are_said_in_the_picture_and_under_it() -> None:
    figures = [
        f
        for name in ("pendulum", "spring", "young-modulus", "grating")
        for f in report.content(opened(name))["figures"]
    ]
    said = [f for f in figures if f["enlarged"]]
    assert said
    assert all(f["enlarged"] in f["drawn"] for f in said)
    assert all("error bars enlarged" not in f["drawn"] for f in figures if not f["enlarged"])


@pytest.mark.parametrize(
    ("formula", "line", "markup"),
    [
        ("tan(phi)^2", "(tan φ)²", "<mo>(</mo>"),
        ("sqrt(L)^2", "√L²", ""),
        ("ln(x)^2", "(ln x)²", "<mo>(</mo>"),
        ("tan(phi)", "tan φ", ""),
    ],
)
def test_a_function_squared_is_not_a_function_of_a_square(formula: str, line: str, markup: str) -> None:
    tree = parse(formula)
    assert typeset(tree) == line
    assert ("<mo>(</mo>" in mathml.row(tree)) == bool(markup)


NUMBER = re.compile(r"<mn>([\d.e+-]+)</mn>")


def test_whoever_reckons_on_with_the_digits_shown_finds_the_value_shown() -> None:
    """1/0.14 is not 7.2: what the air leaves, over the slope that is shown, is the g that is shown; nothing stands there as equal to itself."""
    for name in catalogue.experiments():
        run = opened(name)
        for fit in run.analysis.fits.values():
            for chain, _ in derivation_steps.steps(run, fit):
                sides = [re.sub(r"</?math[^>]*>|<mo[^>]*>=</mo>", "", piece) for piece in chain.split("</math>")]
                assert all(one != next_one for one, next_one in pairwise(sides)), (name, chain)
                assert "<mo>−</mo><mrow><mo>−</mo>" not in chain, (name, chain)
    for seed in range(10):
        run = opened("projectile-range", seed)
        chain, shown = derivation_steps.steps(run, run.analysis.fits["line"])[0]
        number, value = float(NUMBER.findall(chain)[-1]), shown.split(" ")[0]
        assert f"{0.995 / number:.{len(value.partition('.')[2])}f}" == value


def test_a_slope_of_few_figures_is_shown_with_as_many_as_its_inverse_needs() -> None:
    from tests.core.machine import columns, program, run

    made = program(
        series={"s": columns(x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"r": {"label": "r", "formula": "1/f.slope"}},
    )
    x = np.arange(1.0, 6.0)
    analysis = run(made, series={"s": {"x": [f"{v:g}" for v in x], "y": [f"{v * 0.1389 + 2:.4f} ± 0.02" for v in x]}})
    held = type("Held", (), {"analysis": analysis, "definition": made.definition, "program": made})()
    chain, shown = derivation_steps.steps(held, analysis.fits["f"])[0]
    number = NUMBER.findall(chain)[-1]
    decimals = len(re.match(r"[\d.]+", shown)[0].partition(".")[2])  # type: ignore[index]
    assert f"{1 / float(number):.{decimals}f}" == re.match(r"[\d.]+", shown)[0]  # type: ignore[index]


def test_versions_are_compared_by_zeros_rules_conventions_and_definition_too() -> None:
    before = report.content(opened("pendulum"))
    changed = {
        **before,
        "zeros": [["metre rule", "0.3"]],
        "rules": {**before["rules"], "origin": "forced"},
        "definition": "0123456789ab",
    }
    (found,) = versions.differences(before, changed)
    rows = {where: (was, now) for where, was, now in found.rows}
    assert rows == {
        "metre rule, zero reading": ("", "0.3"),
        "A line that should pass through the origin": ("has its intercept fitted and judged", "is forced through it"),
        "Definition of the experiment": (before["definition"], "0123456789ab"),
    }
    older = {key: value for key, value in before.items() if key not in ("zeros", "rules", "definition", "conventions")}
    assert versions.differences(older, before) == []


@pytest.mark.parametrize("kind", ["agrees", "wide", "disagrees"])
@pytest.mark.parametrize(
    ("measured", "said"), [(True, "the value found in another way"), (False, "the accepted value")]
)
def test_a_sentence_names_what_a_result_is_compared_with(kind: str, measured: bool, said: str) -> None:
    run = opened("pendulum")
    verdict = SimpleNamespace(kind=kind, measured=measured)
    held = SimpleNamespace(analysis=run.analysis, verdict=lambda _: verdict)
    sentence = fields.of_result(held, "g", "agrees")
    assert said in sentence
    assert ("not agree" in sentence) == (kind == "disagrees")


def test_an_instruments_figures_say_where_they_come_from(client: FlaskClient) -> None:
    page = client.get("/runs/1/report").get_data(as_text=True)
    table = page[page.index("specification") :].partition("</table>")[0]
    assert table.count("<tr>") >= 2
    assert "reaction 0.1 s, calibration 0.002 %; common practice" in table  # the shared list's own
    assert "; positioning as stated for the run" in table  # what the run says otherwise
