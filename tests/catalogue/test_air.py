"""A light ball in air: the closed form that the experiment uses against the equations of motion, integrated."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from cavrel import catalogue
from cavrel.catalogue.programs import alternatives, program_of
from cavrel.core.analysis import analyse
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from cavrel.core.slips import find

SHOTS = catalogue.experiments()["projectile-range"]
AIR = {"landing": "air"}
G = 9.81


def flown(speed: float, angle: float, k: float) -> float:
    """How far a ball flies whose drag is ``k`` times its speed squared, m."""

    def motion(_: float, state: np.ndarray) -> list[float]:
        _, _, across, up = state
        fast = np.hypot(across, up)
        return [across, up, -k * fast * across, -G - k * fast * up]

    def lands(t: float, state: np.ndarray) -> float:
        return state[1] if t > 1e-6 else 1.0

    lands.terminal, lands.direction = True, -1
    start = [0.0, 0.0, speed * np.cos(angle), speed * np.sin(angle)]
    return float(solve_ivp(motion, [0, 5], start, events=lands, rtol=1e-9, atol=1e-11).y_events[0][0][0])


@pytest.mark.parametrize(("mass", "wide"), [(2.7, 40.0), (13.0, 25.0), (8.4, 12.7)])
def test_distances_without_air_are_those_of_the_equations_of_motion(mass: float, wide: float) -> None:
    k = 0.47 * 1.2 * np.pi * (wide / 1000) ** 2 / (8 * mass / 1000)
    angles = [20.0, 30.0, 45.0, 60.0, 70.0]
    distances = [flown(3.9, np.radians(angle), k) for angle in angles]
    document = {
        "format": "cavrel-run/1",
        "experiment": "projectile-range",
        "quantities": {"m_b": str(mass), "d_b": str(wide)},
        "options": AIR,
        "series": {
            "shots": {
                "phi": [str(angle) for angle in angles],
                "v_0": ["3.90"] * 5,
                "s": [f"{100 * distance:.3f}" for distance in distances],
            }
        },
    }
    analysis = analyse(program_of(SHOTS, options=AIR), load(document))
    free = 3.9**2 * np.sin(2 * np.radians(angles)) / G
    assert analysis.values["shots.s_0"].value == pytest.approx(free, rel=0.005)
    assert np.array(distances)[2] < (0.9 if mass < 5 else 0.999) * free[2]


def test_a_light_ball_taken_for_a_heavy_one_is_seen() -> None:
    document = simulate(program_of(SHOTS, options=AIR), 4)
    document["quantities"] = {}
    run = load(document)
    found = find(analyse(program_of(SHOTS), run), alternatives(SHOTS, run))
    # The air is named, as the convention that counts it or as the cause that this one leaves out: they say the same.
    first = found.suspects[0]
    assert first.chooses == "air" or any("the air slows" in say for say, _ in first.causes or ((first.say, 1.0),))
    assert "physical" in {place.at for place in found.places[:2]}
