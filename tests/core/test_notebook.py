"""Notebooks: run from top to bottom, each must find what Cavrel found by code of its own."""

import json
import math
import warnings
from functools import cache
from typing import Any

import nbformat
import pytest
import uncertainties
from nbclient import NotebookClient

from cavrel import catalogue
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.document.notebook import notebook
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from tests.thorough import thorough

BENT = {("projectile-range", "phi_top"): 4e-3}
"""Results whose u is so large that first order and a push by a whole u part by more than 1e-3."""


@cache
def analysed(experiment: str, seed: int, rules: str = "") -> Analysis:
    program = catalogue.program_of(catalogue.experiments()[experiment])
    document = simulate(program, seed)
    if rules:
        name, _, value = rules.partition("=")
        document["rules"] = {name: value}
    return analyse(program, load(document))


def run(made: dict[str, Any]) -> dict[str, Any]:
    code = "\n\n".join("".join(cell["source"]) for cell in made["cells"] if cell["cell_type"] == "code")
    names: dict[str, Any] = {}
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        exec(compile(code, "notebook", "exec"), names)
    return names


def held(experiment: str, names: dict[str, Any]) -> int:
    for name, (value, u, *_) in names["cavrel"].items():
        found = names["results"][name]
        assert math.isclose(uncertainties.nominal_value(found), value, rel_tol=1e-9), name
        if u is not None:
            near = BENT.get((experiment, name), 1e-3)
            assert uncertainties.std_dev(found) == pytest.approx(u, rel=near), name
    return len(names["cavrel"])


@pytest.mark.parametrize("experiment", list(catalogue.experiments()))
def test_every_experiment_is_computed_again(experiment: str) -> None:
    made = notebook(analysed(experiment, 3))
    assert held(experiment, run(made)) >= 1
    assert "taken over" not in str(made)  # every curve that ships is fitted anew


def test_a_tangent_is_fitted_anew() -> None:
    program = catalogue.program_of(catalogue.experiments()["stefan-constant"], options={"start": "tangent"})
    analysis = analyse(program, load(simulate(program, 3, (), {"start": "tangent"})))
    assert "tangent" in {fit.model for fit in program.fits.values()}
    held("stefan-constant", run(notebook(analysis)))


@pytest.mark.parametrize(
    ("experiment", "rules"),
    [
        ("pendulum", "fit_uncertainty=scatter"),
        ("spring", "fit_uncertainty=scatter"),
        ("resonance-tube", "weights=equal"),
        ("oscillating-mass", "abscissae=ignore"),
        ("grating", "fit_uncertainty=propagated"),
        ("current-balance", "combine=plain"),
    ],
)
def test_house_rules_are_followed(experiment: str, rules: str) -> None:
    held(experiment, run(notebook(analysed(experiment, 5, rules))))


def test_rows_left_out_and_values_not_read() -> None:
    program = catalogue.program_of(catalogue.experiments()["pendulum"])
    document = simulate(program, 3)
    document["excluded"] = {"swings": {"2": "a draught"}}
    document["series"]["swings"]["t"][4] = None
    held("pendulum", run(notebook(analyse(program, load(document)))))


def test_a_result_that_waits_is_said() -> None:
    program = catalogue.program_of(catalogue.experiments()["pendulum"])
    document = simulate(program, 3)
    document["series"] = {}
    made = notebook(analyse(program, load(document)))
    assert "has no value yet" in str(made)
    assert run(made)["cavrel"] == {}


def test_a_title_with_quotes_and_slashes_breaks_nothing() -> None:
    program = catalogue.program_of(catalogue.experiments()["spring"])
    made = notebook(analyse(program, load(simulate(program, 1))), 'A "run" \\ """ of ours')
    run(made)
    assert 'A "run"' in made["cells"][0]["source"][0]


def test_it_is_a_good_notebook_and_its_kernel_runs_it() -> None:
    made = nbformat.reads(json.dumps(notebook(analysed("half-life", 3))), as_version=4)
    nbformat.validate(made)
    done = NotebookClient(made, timeout=120, kernel_name="python3").execute()
    said = "".join(output.get("text", "") for output in done.cells[-1].outputs)
    assert "; Cavrel " in said


@thorough
def test_many_sheets() -> None:
    for experiment in catalogue.experiments():
        for seed in range(10, 16):
            held(experiment, run(notebook(analysed(experiment, seed))))
