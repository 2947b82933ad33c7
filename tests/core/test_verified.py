"""A meter compared with a standard, row by row."""

import numpy as np
import pytest

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.definition import load as load_definition
from cavrel.core.definition.program import compile_program
from cavrel.core.errors import CavrelError
from cavrel.core.findings.verdict import verdict_of
from cavrel.core.laboratory import EMPTY
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from cavrel.present.drafts import parts
from cavrel.present.standard_check import held
from cavrel.service.run_view import unstarted

METER = catalogue.experiments()["galvanometer-conversion"]
READ = [
    ("quantities.n.1", "30"),
    ("quantities.V.1", "3"),
    *((f"verify.theta.{i}.1", text) for i, text in enumerate(["5", "10", "20", "30"], 1)),
    *((f"verify.V_2.{i}.1", text) for i, text in enumerate(["0.50", "1.01", "1.97", "3.45"], 1)),
]


def test_each_row_says_how_far_apart_and_whether_both_least_counts_cover_it() -> None:
    found = held(unstarted(METER, EMPTY, {}, READ))[0]
    assert found.unit == "V"
    assert found.limit.startswith("both least counts together, 0.110")  # V/n + 0.01 V
    assert [row[5] for row in found.rows] == ["within", "within", "within", "beyond"]
    assert [row[4] for row in found.rows] == ["0", "0.99", "−1.5", "13"]
    assert found.rows[3][1:4] == ("3.450 ± 0.012", "3.00 ± 0.02", "0.45 ± 0.02")
    assert "1 row of 4 differs by more than both least counts together" in found.says


def test_the_difference_carries_its_uncertainty() -> None:
    program = catalogue.program_of(METER)
    analysis = analyse(program, load(simulate(program, 3)))
    verified = analysis.verified[0]
    errors = analysis.values["verify.err"]
    assert verified.differ == pytest.approx(errors.value, nan_ok=True)
    assert verified.u == pytest.approx(errors.u, nan_ok=True)
    assert np.allclose(verified.standard - verified.value, verified.differ, equal_nan=True)
    assert verified.within == pytest.approx(np.full(len(verified.differ), 3 / 30 + 0.01))


def test_rows_left_out_and_not_read_are_not_judged() -> None:
    assert held(unstarted(METER, EMPTY, {})) == []
    few = held(unstarted(METER, EMPTY, {}, [*READ[:4], ("verify.V_2.2.1", "1.0")]))[0]
    assert [row[0] for row in few.rows] == ["2"]
    assert few.says.startswith("It agrees within")


def test_every_convention_has_its_own_limit() -> None:
    other = {"meter": "ammeter"}
    if "ammeter" not in METER.options["meter"].choices:
        other = {"meter": next(c for c in METER.options["meter"].choices if c != METER.options["meter"].default)}
    program = catalogue.program_of(METER, options=other)
    document = simulate(program, 3, (), other)
    verified = analyse(program, load(document)).verified[0]
    assert (verified.within > 0).all() and (verified.within < 0.2).all()


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"series": "nowhere"}, "unknown series"),
        ({"value": "theta"}, "plain number"),
        ({"within": "3[A]"}, "A"),
    ],
)
def test_a_verification_that_does_not_fit_is_refused(change: dict[str, str], says: str) -> None:
    document = METER.document()
    document["verify"][0] |= change
    with pytest.raises(CavrelError, match=says):
        catalogue.program_of(catalogue.resolve(document))


def test_a_check_that_fails_outside_its_limits_is_said_and_is_no_agreement() -> None:
    opened = unstarted(METER, EMPTY, {}, READ)
    (said,) = [f for f in opened.findings if f.code == "verification"]
    assert said.say.startswith("1 row of 4 differs from the standard by more than both least counts together, 0.11 V")
    assert opened.verdict(opened.analysis.results["q"]).kind != "agrees"
    passed = [*READ[:-1], ("verify.V_2.4.1", "3.05")]
    assert not [f for f in unstarted(METER, EMPTY, {}, passed).findings if f.code == "verification"]


@pytest.mark.parametrize("meter", ["voltmeter", "ammeter"])
def test_a_meter_set_wrong_by_its_own_coil_does_not_agree(meter: str) -> None:
    """What to dial stands first, against what was dialled; the check alone is blind to two percent."""
    program = catalogue.program_of(METER, options={"meter": meter})
    for fault, kind in (((), "agrees"), (("forgotten",), "disagrees")):
        document = simulate(program, 6, fault, {"meter": meter})
        analysis = analyse(program, load(document))
        name, result = next(iter(analysis.results.items()))
        assert name == "R"
        assert verdict_of(analysis, result).kind == kind


@pytest.mark.parametrize(
    ("name", "led"),
    [
        ("metre-bridge", ["R_s", "R_p", "R_1", "R_2"]),
        ("pendulum", ["g", "p", "g_p"]),
        ("rule-equilibrium", ["tau_sum", "m_u"]),
    ],
)
def test_the_point_of_an_experiment_leads(name: str, led: list[str]) -> None:
    definition = catalogue.experiments()[name]
    opened = unstarted(definition, EMPTY, {})
    assert list(opened.analysis.results)[: len(led)] == led
    assert opened.result.name == led[0]  # type: ignore[union-attr]
    assert set(opened.analysis.results) == set(definition.results)


def test_the_conclusion_answers_the_whole_aim() -> None:
    bridge = catalogue.experiments()["metre-bridge"]
    made = simulate(catalogue.program_of(bridge), 5)
    readings = [
        (f"{series}.{column}.{row}.{trial}", text)
        for series, columns in made["series"].items()  # type: ignore[attr-defined]
        for column, cells in columns.items()
        for row, cell in enumerate(cells, 1)
        for trial, text in enumerate(cell if isinstance(cell, list) else [cell], 1)
    ]
    readings += [(f"quantities.{name}.1", text) for name, text in made["quantities"].items()]  # type: ignore[attr-defined]
    said = parts(unstarted(bridge, EMPTY, {}, readings))["conclusion"].draft
    assert said.startswith("Both in series is")
    assert "Both in parallel is" in said
    assert "First resistor" not in said


def test_answers_that_are_no_results_are_refused() -> None:
    document = METER.document()
    for answers in (["nothing"], ["R", "R"]):
        with pytest.raises(CavrelError, match="is no result"):
            compile_program(load_definition({**document, "answers": answers}), {})


@pytest.mark.parametrize("meter", ["voltmeter", "ammeter"])
def test_the_limit_may_be_a_class_or_a_percentage(meter: str) -> None:
    program = catalogue.program_of(METER, options={"meter": meter, "limit": "class"})
    verified = analyse(program, load(simulate(program, 3, (), {"meter": meter, "limit": "class"}))).verified[0]
    full = 3.0 if meter == "voltmeter" else 0.3
    assert verified.within == pytest.approx(np.full(len(verified.within), 0.025 * full))
    program = catalogue.program_of(METER, options={"meter": meter, "limit": "percent"})
    verified = analyse(program, load(simulate(program, 3, (), {"meter": meter, "limit": "percent"}))).verified[0]
    assert verified.within == pytest.approx(0.05 * np.abs(verified.standard))


def test_a_limit_that_differs_from_row_to_row_is_said_in_words_alone() -> None:
    opened = unstarted(METER, EMPTY, {"limit": "percent"}, READ)
    table = held(opened)[0]
    assert table.limit == "5 % of what the standard shows"
    assert [row[5] for row in table.rows] == ["within", "within", "within", "beyond"]
    assert table.says == "1 row of 4 differs by more than 5 % of what the standard shows."
    (said,) = [f for f in opened.findings if f.code == "verification"]
    assert "by more than 5 % of what the standard shows; the largest difference is" in said.say
    by_class = held(unstarted(METER, EMPTY, {"limit": "class"}, READ))[0]
    assert by_class.limit.startswith("the limit of its class, 2.5 % of the end of its scale, 0.075")
