"""What goes wrong with the simulations, and whether Cavrel sees it: each fault made, most of them remarked on."""

import json

import pytest
from click.testing import CliRunner

from cavrel import catalogue
from cavrel.cli import main
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.definition import load
from cavrel.core.errors import DefinitionError
from cavrel.core.findings import findings_of
from cavrel.core.findings.verdict import verdict_of
from cavrel.core.logbook import run as runs
from cavrel.core.simulate import simulate

EVERY = [(e, f) for e, d in catalogue.experiments().items() if d.simulate for f in d.simulate.faults]


def spoilt(experiment: str, fault: str, seed: int) -> Analysis:
    program = catalogue.program_of(catalogue.experiments()[experiment])
    return analyse(program, runs.load(simulate(program, seed, [fault])))


def said(analysis: Analysis) -> set[str]:
    """Codes of the remarks that are more than notes, and the kinds of verdicts."""
    meanings = catalogue.meanings_of(analysis.program.definition)
    codes = {finding.code for finding in findings_of(analysis, meanings) if finding.level != "note"}
    return codes | {verdict_of(analysis, result).kind for result in analysis.results.values()}


@pytest.mark.parametrize(("experiment", "fault"), EVERY)
def test_every_fault_can_be_made(experiment: str, fault: str) -> None:
    program = catalogue.program_of(catalogue.experiments()[experiment])
    clean, with_it = simulate(program, 4), simulate(program, 4, [fault])
    assert clean != with_it
    assert analyse(program, runs.load(with_it)).sheet.faults == ()


def test_every_experiment_has_a_fault_to_find() -> None:
    assert {e for e, _ in EVERY} == set(catalogue.experiments())


@pytest.mark.parametrize(
    ("experiment", "fault", "code"),
    [
        ("pendulum", "miscount", "miscount"),
        ("pendulum", "brushing", "intercept"),
        ("pendulum", "wide", "disagrees"),
        ("balanced-rule", "twice", "apart"),
        ("balanced-rule", "loop", "intercept"),
        ("rule-equilibrium", "clamps", "apart"),
        ("block-density", "edge", "stands-apart"),
        ("charge-to-mass", "radius", "disagrees"),
        ("coil-inductance", "leads", "intercept"),
        ("conical-pendulum", "decimal", "apart"),
        ("conical-pendulum", "laps", "apart"),
        ("current-balance", "tare", "apart"),
        ("current-balance", "untared", "intercept"),
        ("density-buoyancy", "bubbles", "apart"),
        ("grating", "spaces", "apart"),
        ("hydrogen-lines", "tilted", "parity"),
        ("grating", "askew", "parity"),
        ("metre-bridge", "swapped", "scatter"),
        ("newton-second-law", "tilted", "implausible"),
        ("newton-second-law", "friction", "apart"),
        ("projectile-range", "lower", "disagrees"),
        ("projectile-range", "swapped", "off-line"),
        ("resonance-tube", "third", "implausible"),
        ("rotating-rod", "edge", "disagrees"),
        ("spring", "digits", "off-line"),
        ("speed-of-sound", "soft", "stands-apart"),
        ("stefan-constant", "air", "disagrees"),
        ("stepped-pulley", "at_rest", "scatter"),
        ("string-waves", "stuck", "apart"),
        ("torsion-balance", "settled", "disagrees"),
        ("half-life", "background", "scatter"),
        ("led-threshold", "coated", "off-line/scatter"),
        ("photoelectric", "leak", "off-line/scatter"),
    ],
)
def test_a_fault_is_seen(experiment: str, fault: str, code: str) -> None:
    codes = set(code.split("/"))
    seen = sum(bool(codes & said(spoilt(experiment, fault, seed))) for seed in range(100, 110))
    assert seen >= 8


def test_a_short_lap_missed_is_often_seen() -> None:
    """A bounce takes half a second and a thumb errs by a tenth: a quarter of the miscounts stand clear of chance, 26 % of 200."""
    seen = sum("miscount" in said(spoilt("oscillating-mass", "miscount", seed)) for seed in range(120, 180))
    assert seen >= 9


def test_faults_on_the_command_line() -> None:
    done = CliRunner().invoke(main, ["simulate", "spring", "--seed", "2", "--fault", "digits"])
    assert done.exit_code == 0
    assert json.loads(done.stdout)["experiment"] == "spring"
    unknown = CliRunner().invoke(main, ["simulate", "spring", "--fault", "gremlins"])
    assert unknown.exit_code == 2
    assert "it has hanger, digits" in unknown.stderr
    chosen = CliRunner().invoke(main, ["simulate", "metre-bridge", "--option", "gap=left"])
    result = json.loads(CliRunner().invoke(main, ["analyse", "-"], input=chosen.stdout).stdout)
    assert result["results"]["R_1"]["value"] == pytest.approx(4.42, rel=0.02)


def test_a_fault_says_something() -> None:
    document = catalogue.experiments()["spring"].document()
    document["simulate"]["faults"]["digits"] = {"label": "nothing at all"}
    with pytest.raises(DefinitionError, match="says what is read instead"):
        load(document)
