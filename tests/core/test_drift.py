"""A swing about a rest point that drifts: named where chance does not explain it, and fitted where that is asked for."""

import re

import numpy as np
import pytest

from cavrel.core.findings import findings_of
from tests.core.machine import curve, texts

T = np.arange(0.0, 26.0)
U = 0.5


def swing(seed: int, drift: float, model: str = "damped"):
    y = 60 * np.exp(-T / 20) * np.cos(2 * np.pi * T / 9 + 0.4) + 100 + drift * T
    y = y + np.random.default_rng(seed).normal(0, U, len(T))
    return curve(
        model, [f"{t:.6f} ± 1e-9" for t in T], texts(y, U), {"fit_uncertainty": "scatter", "abscissae": "ignore"}
    )


@pytest.mark.parametrize("drift", [0.4, -0.4])
def test_a_drift_is_named_with_its_direction_and_size(drift: float) -> None:
    (said,) = [f for f in findings_of(swing(3, drift)) if f.code == "drift"]
    moved = re.search(r"by about (\u2212?[\d.]+)", said.say)
    assert moved
    assert float(moved[1].replace("\u2212", "-")) == pytest.approx(25 * drift, abs=1.2)
    assert said.at == "fits.f"


def test_chance_is_hardly_ever_taken_for_a_drift() -> None:
    """One in a thousand by the test's own border: of 150 steady swings at most two."""
    assert sum(any(f.code == "drift" for f in findings_of(swing(seed, 0.0))) for seed in range(150)) <= 2


def test_the_drifting_curve_gives_the_truth_back_and_leaves_nothing_to_name() -> None:
    off = []
    for seed in range(40):
        analysis = swing(seed, 0.4, "drifting")
        fit = analysis.fits["f"]
        truths = {"T": 9.0, "c": 100.0, "r": 0.4, "tau": 20.0}
        off.append([(fit.parameters[n].value - t) / fit.parameters[n].u for n, t in truths.items()])
        assert not [f for f in findings_of(analysis) if f.code == "drift"]
    off = np.array(off)
    assert abs(off.mean(axis=0)).max() < 0.6
    assert 0.85 <= float(np.mean(abs(off) < 2.1)) <= 1.0


def test_a_steady_curve_misses_what_a_drift_does_to_the_rest_point() -> None:
    steady, drifting = (swing(5, 0.4, model).fits["f"].parameters["c"].value for model in ("damped", "drifting"))
    assert steady == pytest.approx(100 + 0.4 * 12.5, abs=1.5)
    assert drifting == pytest.approx(100, abs=1.0)


@pytest.mark.parametrize("few", [5, 6, 7, 9])
def test_few_readings_say_nothing_of_a_drift(few: int) -> None:
    y = 60 * np.exp(-T / 20) * np.cos(2 * np.pi * T / 9 + 0.4) + 100 + 0.4 * T
    analysis = curve("damped", [f"{t:.6f} ± 1e-9" for t in T[:few]], texts(y[:few], U), {"abscissae": "ignore"})
    assert not [f for f in findings_of(analysis) if f.code == "drift"]
