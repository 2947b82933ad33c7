"""Readings that hold each other to account: identities of the catalogue on simulated runs, and against NumPy."""

from copy import deepcopy
from typing import Any

import numpy as np
import pytest
from scipy import stats

from cavrel import catalogue
from cavrel.core import definition as definitions
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.errors import DefinitionError
from cavrel.core.findings import findings_of
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from cavrel.core.slips import find

WITH = [name for name, body in catalogue.experiments().items() if body.identities]


def run_of(name: str, seed: int) -> dict[str, Any]:
    return simulate(catalogue.program_of(catalogue.experiments()[name]), seed)


def analysed(document: dict[str, Any]) -> Analysis:
    run = load(document)
    return analyse(catalogue.program_of(catalogue.resolve(run.experiment)), run)


def test_some_experiments_have_them() -> None:
    assert {"stepped-pulley", "grating", "hydrogen-lines"} <= set(WITH)


@pytest.mark.parametrize("name", WITH)
def test_clean_runs_break_them_as_often_as_chance_does(name: str) -> None:
    chances = []
    for seed in range(40):
        for parity in analysed(run_of(name, seed)).parities:
            chances.append(stats.chi2.sf(parity.chi2, parity.dof))
    assert stats.kstest(chances, "uniform").pvalue > 1e-3


def test_the_residual_is_what_the_readings_give_by_hand() -> None:
    document = run_of("stepped-pulley", 4)
    parity = analysed(document).parities[0]
    table = document["series"]["turns"]
    mass = np.array([float(m) for m in table["m"]]) / 1e3
    radius = np.array([float(d) for d in table["D"]]) / 2e3
    force = np.array([[float(f) for f in row] for row in table["F"]]).mean(axis=1)
    frames = np.array([[float(k) for k in row] for row in table["k"]]).mean(axis=1)
    alpha = 4 * np.pi * 2 * 60**2 / frames**2
    g = analysed(document).accepted["g_local"].value
    assert parity.residual == pytest.approx(mass * g - force - mass * radius * alpha, abs=1e-12)
    assert parity.dof == 12


def test_a_mean_over_the_rows_costs_one_of_them() -> None:
    assert analysed(run_of("grating", 1)).parities[0].dof == 2


def test_a_row_that_breaks_one_is_named_and_a_broken_column_too() -> None:
    document = run_of("stepped-pulley", 4)
    spoilt = deepcopy(document)
    spoilt["series"]["turns"]["F"][4] = [f"{float(t) * 0.8:.2f}" for t in spoilt["series"]["turns"]["F"][4]]
    said = [f for f in findings_of(analysed(spoilt)) if f.code == "parity"]
    assert [f.at for f in said] == ["turns.5"]
    assert said[0].row_out == ("turns", 5)
    assert "accelerates the mass" in said[0].say
    throughout = deepcopy(document)
    throughout["series"]["turns"]["F"] = [
        [f"{float(t) * 0.9:.2f}" for t in row] for row in document["series"]["turns"]["F"]
    ]
    said = [f for f in findings_of(analysed(throughout)) if f.code == "parity"]
    assert [f.at for f in said] == ["series.turns"]
    assert not [f for f in findings_of(analysed(document)) if f.code == "parity"]


def test_a_slip_that_no_line_sees_is_found_by_what_readings_say_of_each_other() -> None:
    """A radius for a diameter in every row leaves the line as straight as ever: only the falling mass knows."""
    document = run_of("stepped-pulley", 4)
    document["series"]["turns"]["D"] = [f"{float(d) / 2:.2f}" for d in document["series"]["turns"]["D"]]
    analysis = analysed(document)
    first = find(analysis).suspects[0]
    assert (first.family, first.at) == ("diameter", "turns.D")


@pytest.mark.parametrize(
    ("change", "place"),
    [
        ({"series": "nowhere", "left": "m", "right": "m", "say": "x."}, "identities.0.series"),
        ({"series": "turns", "left": "m", "right": "F", "say": "x."}, "identities.0.right"),
        ({"series": "turns", "left": "r*F", "right": "J*alpha + tau", "say": "x."}, "identities.0"),
        ({"left": "turns.F", "right": "turns.F", "say": "x."}, "identities.0.left"),
        ({"series": "turns", "left": "F +", "right": "F", "say": "x."}, "identities.0.left"),
        ({"series": "turns", "left": "m > 1[g]", "right": "m", "say": "x."}, "identities.0.left"),
    ],
)
def test_what_is_no_identity_is_refused_with_its_place(change: dict[str, str], place: str) -> None:
    body = catalogue.experiments()["stepped-pulley"].document()
    body["identities"] = [change]
    with pytest.raises(DefinitionError) as fault:
        catalogue.program_of(definitions.load(body))
    assert fault.value.place.startswith(place)


def test_nothing_is_said_before_readings_are_there() -> None:
    document = run_of("stepped-pulley", 4)
    document["series"]["turns"]["k"] = []
    assert analysed(document).parities[0].dof == 0
    assert not [f for f in findings_of(analysed(document)) if f.code == "parity"]
