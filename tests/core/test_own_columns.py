"""Columns of one's own: a formula in the words of the table, its unit checked, its uncertainty propagated."""

import math

import numpy as np
import pytest

from cavrel import catalogue
from cavrel.core import definition as definitions
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition.headings import Heading, meets_rows
from cavrel.core.document.notebook import notebook
from cavrel.core.errors import DefinitionError
from cavrel.core.logbook.run import load
from tests.core.test_notebook import held, run

LENGTHS = ["60.0", "80.0", "100.0", "120.0"]
TIMES = [["31.10", "31.04"], ["35.88", "35.94"], ["40.10", "40.16"], ["43.94", "43.90"]]


def analysed(headings: dict[str, dict[str, str]], **more: object) -> Analysis:
    document = load(
        {
            "format": "cavrel-run/1",
            "experiment": "pendulum",
            "series": {"swings": {"L": LENGTHS, "t": TIMES}},
            "headings": {f"swings.{name}": body for name, body in headings.items()},
            **more,
        }
    )
    definition = catalogue.experiments()["pendulum"]
    program = catalogue.program_of(definition, None, None, None, document.headings)
    return analyse(program, document)


def test_a_length_seen_from_the_other_end() -> None:
    found = analysed({"w": {"formula": "150[cm] - L", "unit": "cm"}})
    values = found.values["swings.w"]
    assert values.unit.text == "cm"
    assert values.value == pytest.approx([0.9, 0.7, 0.5, 0.3])
    assert values.u == pytest.approx(found.values["swings.L"].u)  # the sign changes, the size does not


def test_the_ratio_to_the_row_above_takes_both_rows_own_uncertainty() -> None:
    rules = {"rules": {"pool": "never", "repeats": "sem"}}
    found = analysed({"q": {"formula": "T/above(T)"}}, **rules)
    period, ratio = found.values["swings.T"], found.values["swings.q"]
    assert math.isnan(ratio.value[0])
    assert ratio.value[1:] == pytest.approx(period.value[1:] / period.value[:-1])
    relative = np.asarray(period.u) / np.asarray(period.value)
    alone = np.asarray(ratio.value[1:]) * np.hypot(relative[1:], relative[:-1])
    # What both rows share, such as the clock's rate, cancels: the ratio is known a little better than that, and no worse.
    assert (np.asarray(ratio.u[1:]) <= alone * (1 + 1e-9)).all()
    assert (np.asarray(ratio.u[1:]) > 0.7 * alone).all()


def test_a_row_left_out_is_passed_over() -> None:
    found = analysed({"q": {"formula": "T - above(T)"}}, excluded={"swings": {"2": "a draught"}})
    period, step = found.values["swings.T"].value, found.values["swings.q"].value
    assert step[2] == pytest.approx(period[2] - period[0])
    assert step[1] == pytest.approx(period[1] - period[0])


def test_one_column_may_rest_on_another() -> None:
    found = analysed({"q": {"formula": "T/first(T)"}, "k": {"formula": "ln(q)"}})
    assert found.values["swings.k"].value == pytest.approx(np.log(found.values["swings.q"].value))


@pytest.mark.parametrize(
    ("name", "body", "said"),
    [
        ("q", {"formula": "T + L"}, r"cannot add 'T' \(s\) and 'L' \(m\)"),
        ("q", {"formula": "L", "unit": "s"}, "'L' is in m, where s is needed"),
        ("q", {"formula": "zz*T"}, "unknown name 'zz'"),
        ("q", {"formula": "T/"}, "cannot read 'T/'"),
        ("q", {"formula": "3"}, "one number alone says nothing"),
        ("q", {"formula": "above(g_local)*T"}, "takes a column"),
        ("T", {"formula": "L"}, "uses the letter T already"),
        ("g", {"formula": "L"}, "uses the letter g already"),
        ("pi", {"formula": "L"}, "uses the letter pi already"),
        ("g_local", {"formula": "L"}, "uses the letter g_local already"),
        ("theta", {"formula": "L"}, "uses the letter theta already"),
        ("sin", {"formula": "L"}, "uses the letter sin already"),
    ],
)
def test_what_cannot_be_a_column_is_refused_with_its_reason(name: str, body: dict[str, str], said: str) -> None:
    definition = catalogue.experiments()["pendulum"]
    with pytest.raises(DefinitionError, match=said):
        catalogue.program_of(definition, None, None, None, {f"swings.{name}": Heading(**body)})


def test_a_definition_may_ship_one_switched_off() -> None:
    document = catalogue.experiments()["pendulum"].document()
    document["series"]["swings"]["columns"]["T"]["off"] = True
    assert definitions.load(document).series["swings"].columns["T"].off
    document["series"]["swings"]["columns"]["L"]["off"] = True
    with pytest.raises(DefinitionError, match="only a derived column can be switched off"):
        definitions.load(document)


def test_a_notebook_computes_them_again() -> None:
    found = analysed({"q": {"formula": "T/above(T)"}})
    names = run(notebook(found))
    assert held("pendulum", names) >= 1
    ours = found.values["swings.q"]
    theirs = names["values"]["swings.q"]
    assert [value.nominal_value for value in theirs[1:]] == pytest.approx(list(ours.value[1:]))
    assert [value.std_dev for value in theirs[1:]] == pytest.approx(list(ours.u[1:]), rel=1e-3)


@pytest.mark.parametrize(
    ("formula", "meets"),
    [
        ("T/above(T)", True),
        ("T - mean(T)", True),
        ("T/first(T)", True),
        ("max(T)", True),
        ("max(T, t)", False),
        ("ln(T)", False),
    ],
)
def test_whether_it_meets_other_rows(formula: str, meets: bool) -> None:
    assert meets_rows(Heading(formula=formula)) is meets
