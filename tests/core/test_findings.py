"""What is said of readings, lines and results, and where nothing is said."""

import re

import pytest

from cavrel import catalogue
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.findings import findings_of
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.verdict import checked_verdict, verdict_of
from cavrel.core.logbook import run as runs
from tests.core.machine import program, run


def of(experiment: str, **parts: object) -> Analysis:
    body = {"format": "cavrel-run/1", "experiment": experiment, **parts}
    return analyse(catalogue.program_of(catalogue.experiments()[experiment]), runs.load(body))


def said(analysis: Analysis) -> dict[str, Finding]:
    meanings = catalogue.meanings_of(analysis.program.definition)
    return {finding.code: finding for finding in findings_of(analysis, meanings)}


RULER = program(
    instruments={
        "rule": {"label": "rule", "least_count": "1 mm", "placement": "1 mm"},
        "watch": {"label": "watch", "least_count": "0.01 s", "reaction": "0.1 s"},
    },
    quantities={
        "h": {"label": "Height", "unit": "cm", "instrument": "rule", "repeats": 3},
        "t": {"label": "Time", "unit": "s", "instrument": "watch", "repeats": 3},
    },
)


@pytest.mark.parametrize(
    ("texts", "at"),
    [
        ({"h": ["62.0", "62.0", "6.0"]}, "quantities.h"),
        ({"h": ["62.0", "6.0"]}, "quantities.h"),
        ({"t": ["24.10", "24.12", "21.70"]}, "quantities.t"),
    ],
)
def test_two_or_three_readings_are_held_against_their_instrument(texts: dict[str, list[str]], at: str) -> None:
    found = {finding.code: finding for finding in findings_of(run(RULER, quantities=texts))}
    assert found["stands-apart"].at == at


@pytest.mark.parametrize(
    "texts", [{"h": ["62.0", "62.3", "61.8"]}, {"h": ["62.0", "62.4"]}, {"t": ["24.10", "24.35", "23.90"]}]
)
def test_readings_as_they_scatter_are_left_alone(texts: dict[str, list[str]]) -> None:
    assert [finding.code for finding in findings_of(run(RULER, quantities=texts)) if finding.level != "note"] == []


def test_a_unit_mistaken_for_a_whole_column_is_said_first() -> None:
    """Edges of a block in centimetres where millimetres stand: the density comes out a thousand times too large."""
    made = program(
        quantities={"a": {"label": "a", "unit": "mm"}, "m": {"label": "m", "unit": "g"}},
        results={
            "rho": {
                "label": "Density",
                "formula": "m/a^3",
                "unit": "g/cm^3",
                "accepted": "0.93[g/cm^3]",
                "below": "It floats",
                "above": "It sinks",
                "range": "0.1[g/cm^3] <= rho <= 25[g/cm^3]",
            }
        },
    )
    wrong = run(made, quantities={"a": "3.10 ± 0.01", "m": "27.7 ± 0.1"})
    found = {finding.code: finding for finding in findings_of(wrong)}["power-of-ten"]
    assert "10³ times too large" in found.say
    assert found.at == "results.rho"
    cork = run(made, quantities={"a": "31.0 ± 0.1", "m": "3.00 ± 0.01"})
    assert "power-of-ten" not in {finding.code for finding in findings_of(cork)}
    right = run(made, quantities={"a": "31.0 ± 0.1", "m": "27.7 ± 0.1"})
    assert "power-of-ten" not in {finding.code for finding in findings_of(right)}


def test_a_result_outside_its_range_is_asked_about() -> None:
    analysis = of("speed-of-sound")
    assert "implausible-result" not in said(analysis)
    made = program(
        quantities={"a": {"label": "a", "unit": "m"}},
        results={"r": {"label": "Length", "formula": "a", "range": "1[m] <= r <= 2[m]"}},
    )
    found = {finding.code for finding in findings_of(run(made, quantities={"a": "3.3 ± 0.1"}))}
    assert found == {"implausible-result"}


def test_a_verdict_that_disagrees_is_a_finding_like_any_other() -> None:
    made = program(
        quantities={"a": {"label": "a", "unit": "m"}},
        results={"r": {"label": "Length", "formula": "a", "accepted": "2[m]"}},
    )
    analysis = run(made, quantities={"a": "1.50 ± 0.01"})
    found = {finding.code: finding for finding in findings_of(analysis)}["disagrees"]
    assert (found.level, found.at) == ("caution", "results.r")
    assert verdict_of(analysis, analysis.results["r"]).text == found.say
    assert findings_of(run(made, quantities={"a": "2.00 ± 0.01"})) == ()


def test_an_intercept_of_few_rows_is_said_in_words_of_degree() -> None:
    """Five rows by scatter alone: about ten standard uncertainties, which Student's t lets happen once in five hundred times."""
    series = {
        "swings": {
            "L": ["60.0", "80.0", "100.0", "120.0", "140.0"],
            "t": [["31.86"], ["36.55"], ["40.63"], ["44.39"], ["47.85"]],
        }
    }
    found = said(of("pendulum", series=series, rules={"fit_uncertainty": "scatter", "weights": "equal"}))
    assert found.keys() & {"intercept", "intercept-perhaps"}


def test_two_null_readings_that_cannot_be_one_resistor_are_said() -> None:
    analysis = of("metre-bridge", series={"first": {"K": ["5", "5"], "l": [["46.5"], ["49.5"]]}})
    finding = said(analysis)["scatter"]
    assert finding.at == "fits.one"
    assert "differ by more than they should" in finding.title


def test_rules_do_not_speak_on_an_empty_sheet() -> None:
    for name in catalogue.experiments():
        assert [f.code for f in findings_of(of(name)) if f.code.startswith("check")] == [], name


def test_what_is_missing_is_named() -> None:
    half = of("balanced-rule", series={"loads": {"m": ["20.0", "40.0"], "p": [["43.3"], ["38.3"]]}})
    result = half.results["M"]
    assert result.reason
    assert "“" in result.reason
    compared = of("rule-equilibrium")
    assert compared.results["M"].reason.startswith("it waits for “")


def test_a_second_way_that_is_not_measured_yet_is_waited_for() -> None:
    made = program(
        quantities={"a": {"label": "Length by rule", "unit": "m"}, "b": {"label": "Length by tape", "unit": "m"}},
        results={"r": {"label": "r", "formula": "a", "accepted": "b"}},
    )
    analysis = run(made, quantities={"a": "1.00 ± 0.01"})
    verdict = verdict_of(analysis, analysis.results["r"])
    assert verdict.kind == "none"
    assert "needs “Length by tape”" in verdict.text
    assert "%" not in verdict.text


def test_counting_columns_are_not_held_to_their_scatter() -> None:
    made = program(
        series={"s": {"label": "S", "columns": {"c": {"label": "c", "role": "measured", "count": True, "repeats": 3}}}}
    )
    assert [f for f in findings_of(run(made, series={"s": {"c": [["100", "90", "108"]]}})) if f.level != "note"] == []


def test_agreement_waits_for_what_is_open() -> None:
    """An implausible reading that a result rests on, and nobody answered, leaves no green verdict; one of another result does not touch it."""
    made = program(
        instruments={"rule": {"least_count": "1 mm"}},
        quantities={
            n: {"label": n, "unit": "m", "instrument": "rule", "range": f"0.1[m] <= {n} <= 1[m]"} for n in ("a", "b")
        },
        results={
            "one": {"label": "one", "formula": "a", "unit": "m", "accepted": "2.000[m]"},
            "two": {"label": "two", "formula": "b", "unit": "m", "accepted": "0.500[m]"},
        },
    )
    analysis = run(made, quantities={"a": "2.000", "b": "0.500"})
    found = findings_of(analysis)
    assert [f.code for f in found] == ["implausible"]
    open_, quiet = (checked_verdict(analysis, analysis.results[name], found) for name in ("one", "two"))
    assert verdict_of(analysis, analysis.results["one"]).kind == "agrees"
    assert (open_.kind, open_.head) == ("doubtful", "Check first.")
    assert "outside the usual range" in open_.text
    assert quiet.kind == "agrees"


def test_zero_within_its_uncertainty_is_no_proof_that_it_is_small() -> None:
    made = program(
        instruments={"rule": {"least_count": "1 mm", "placement": "9 cm"}},
        quantities={"a": {"label": "a", "unit": "m", "instrument": "rule"}},
        results={"r": {"label": "r", "formula": "a", "unit": "m", "accepted": "0[m]"}},
    )
    analysis = run(made, quantities={"a": "0.100"})
    verdict = verdict_of(analysis, analysis.results["r"])
    assert verdict.head == "Zero within its uncertainty."
    assert "mean something" not in verdict.text


def test_the_crossing_is_said_in_the_unit_that_it_is_shown_in() -> None:
    """Every load 14.6 g too small: the line crosses at 14.6 g, and not at 0.015 of them."""
    loads, rule, centre, hung = (40.0, 60.0, 80.0, 100.0, 120.0), 118.3, 50.24, 3.0
    marks = [((m + 14.6) * hung + rule * centre) / (m + 14.6 + rule) for m in loads]
    found = said(
        of(
            "balanced-rule",
            quantities={"c": "50.24", "x_0": "3.00", "M_w": "118.3"},
            series={"loads": {"m": [f"{m:.1f}" for m in loads], "p": [[f"{p:.2f}"] * 3 for p in marks]}},
        )
    )
    words = found["intercept"].say
    assert re.search(r"It crosses at −1[45](\.\d)? g,", words), words


def test_two_that_differ_are_both_named() -> None:
    found = said(run(RULER, quantities={"h": ["62.0", "6.0"]}))["stands-apart"]
    assert found.say == "62.0 cm and 6.0 cm cannot both be right. Take a third."


@pytest.mark.parametrize(
    ("texts", "title", "say"),
    [
        (
            ["62", "62.0", "62.1"],
            "a decimal is missing",
            "The rule gives one decimal in cm. If you read 62.0, write 62.0.",
        ),
        (["62.00", "62.0", "62.1"], "too many decimals", "The rule gives one decimal in cm; the last digits of 62.00"),
    ],
)
def test_decimals_that_an_instrument_does_not_give(texts: list[str], title: str, say: str) -> None:
    kind = "decimals-fewer" if "missing" in title else "decimals-more"
    found = said(run(RULER, quantities={"h": texts}))[kind]
    assert title in found.title and found.say.startswith(say)
    watch = said(run(RULER, quantities={"t": ["24.1", "24.12", "24.10"]}))["decimals-fewer"]
    assert watch.say.startswith("The watch gives two decimals in s. If you read 24.10")


@pytest.mark.parametrize(
    ("off", "words"),
    [(1, "one swing’s worth. Were 19 swings"), (2, "two swings’ worth. Were 18"), (3, "three swings’ worth")],
)
def test_a_miscounted_timing_says_by_how_many(off: int, words: str) -> None:
    lap = 2.0
    rows = [[f"{20 * lap + d:.2f}" for d in (0.0, 0.03, -0.02, 0.01)] for _ in range(3)]
    rows[1][2] = f"{(20 - off) * lap:.2f}"
    series = {"swings": {"L": ["100.0", "101.0", "102.0"], "t": rows}}
    found = said(of("pendulum", quantities={"N": "20"}, series=series))["miscount"]
    assert words in found.say and found.at == "swings.t.2.3"


def test_intervals_that_overlap_count_twice() -> None:
    analysis = of(
        "half-life",
        series={"counts": {"t": ["0 to 30", "30 to 60", "50 to 80"], "c": ["812", "640", "511"]}},
    )
    assert analysis.values["counts.t"].value[:3] == pytest.approx([15, 45, 65])
    found = said(analysis)["overlap"]
    assert found.at == "counts.t.3.1"
    assert "Rows 2 and 3 overlap" in found.title
    apart = of("half-life", series={"counts": {"t": ["0 to 30", "30 to 60", "60 to 90"], "c": ["812", "640", "511"]}})
    assert "overlap" not in said(apart)


def test_a_vernier_s_line_is_added_to_the_main_scale() -> None:
    analysis = of("block-density", series={"pieces": {"a": ["2.3 + 7"]}})
    entry = next(e for e in analysis.sheet.inputs if "2.3 + 7" in {r.text for r in e.readings.values()})
    assert entry.spec.gauge is not None and entry.spec.gauge.least_count
    assert entry.readings[1, 1].value == pytest.approx(entry.spec.unit.to_si(2.3) + 7 * entry.spec.gauge.least_count)


def test_an_outcome_is_held_against_what_its_row_predicts() -> None:
    pieces = {
        "a": ["86.4", "43.2"],
        "b": ["54.2", "54.2"],
        "h": ["27.6", "27.6"],
        "m": ["116.0", "58.2"],
        "k": ["0", "1"],
    }
    body = {"quantities": {"theta": "20"}, "series": {"pieces": pieces}}
    wrong = said(of("block-density", **body, marks={"pieces": ["floats", "Sinks"]}))["outcome"]
    assert wrong.at == "pieces.2"
    assert "sinks, and floats was predicted" in wrong.title
    assert "outcome" not in said(of("block-density", **body, marks={"pieces": ["floats", "it floated sideways"]}))
    heavy = {**pieces, "m": ["140.0", "70.2"]}
    other = said(
        of("block-density", quantities={"theta": "20"}, series={"pieces": heavy}, marks={"pieces": ["floats"]})
    )
    assert "floats, and sinks was predicted" in other["outcome"].title
