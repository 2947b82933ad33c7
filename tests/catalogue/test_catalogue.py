"""The experiments that ship: each simulated, analysed, and held to its truth; accepted values against their sources."""

import json

import numpy as np
import pytest
from click.testing import CliRunner
from scipy import constants

from cavrel import catalogue
from cavrel.catalogue.constants import EDITION
from cavrel.cli import main
from cavrel.core.errors import DefinitionError
from cavrel.core.formula.published import nagaoka, sound_speed, water_density
from cavrel.core.simulate import simulate, truth
from tests.thorough import some
from tools.coverage import cover

RUNS = 60


@pytest.mark.parametrize("experiment", some(list(catalogue.experiments())))
def test_simulated_runs_hold_their_truth(experiment: str) -> None:
    """A sample of what ``./run coverage`` counts; so many samples are taken that one in ten thousand must be let pass. Hardly any clean
    run is remarked on."""
    found = cover(experiment, RUNS, first_seed=10_000)
    assert found
    for held in found:
        assert held.chance > 2e-5, (held.result, held.one, held.wide)
        assert held.flagged <= 3


def test_one_seed_gives_one_run() -> None:
    program = catalogue.program_of(catalogue.experiments()["spring"])
    assert simulate(program, 3) == simulate(program, 3)
    assert simulate(program, 3) != simulate(program, 4)
    assert truth(program, 3)["k"] == pytest.approx(28.4)


def test_simulate_on_the_command_line_gives_a_run_that_analyses() -> None:
    done = CliRunner().invoke(main, ["simulate", "resonance-tube", "--seed", "5"])
    assert done.exit_code == 0
    result = json.loads(CliRunner().invoke(main, ["analyse", "-"], input=done.stdout).stdout)
    assert result["results"]["v"]["value"] == pytest.approx(343.5, rel=0.03)
    unknown = CliRunner().invoke(main, ["simulate", "levitation"])
    assert unknown.exit_code == 2
    assert unknown.stderr.count("\n") == 1


def test_an_experiment_without_a_stand_in_says_so() -> None:
    definition = catalogue.experiments()["spring"].model_copy(update={"simulate": None})
    with pytest.raises(DefinitionError, match="no simulation"):
        simulate(catalogue.program_of(definition), 1)


def test_accepted_values_are_those_of_the_installed_edition() -> None:
    """CODATA through scipy.constants; the edition is named in SciPy's own documentation of the module."""
    assert EDITION.replace("CODATA ", "") in (constants.__doc__ or "") + (constants._codata.__doc__ or "")
    listed = CliRunner().invoke(main, ["accepted"]).stdout
    for name in ("h_planck", "mu_0", "g_local", "sigma_stefan"):
        assert name in listed
    assert catalogue.accepted()["h_planck"].value == constants.h
    assert catalogue.accepted()["G_newton"].u == constants.physical_constants["Newtonian constant of gravitation"][2]


@pytest.mark.parametrize(("celsius", "density"), [(3.98, 999.975), (20, 998.207), (25, 997.047)])
def test_density_of_water(celsius: float, density: float) -> None:
    """Tanaka et al., Metrologia 38 (2001) 301, table 1."""
    assert water_density(np.array(celsius + 273.15)) == pytest.approx(density, abs=6e-4)


def test_water_outside_its_range() -> None:
    assert np.isnan(water_density(np.array([-1.0, 41.0]) + 273.15)).all()


def test_speed_of_sound() -> None:
    """Kaye and Laby: 343.2 m/s in dry air at 20 °C."""
    assert sound_speed(np.array(293.15)) == pytest.approx(343.2, abs=0.05)


def test_factor_of_short_coils() -> None:
    """Nagaoka 1909 in Grover's tables for diameter = length; Wheeler's formula (1928) within his half percent for l > 0.8 r."""
    assert nagaoka(np.array(1.0)) == pytest.approx(0.688423, abs=1e-6)
    shapes = np.linspace(0.01, 2.0, 50)
    assert nagaoka(shapes) == pytest.approx(1 / (1 + 0.45 * shapes), rel=6e-3)
