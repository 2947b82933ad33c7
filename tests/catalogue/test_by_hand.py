"""Each experiment on readings without noise that are computed here, from the physics and from values outside the project, never from
its own definition or simulation: the constant put in must come out."""

import math
from typing import Any

import numpy as np
import pytest
from scipy import constants, special

from tests.catalogue.test_check_values import analysed, shown

G = 9.81
RULES = {"g": G}


def texts(values: Any) -> list[str]:
    return [f"{float(v):.12g}" for v in values]


def trials(values: Any) -> list[list[str]]:
    return [[text] for text in texts(values)]


def test_pendulum_at_a_wide_swing() -> None:
    """Complete elliptic integral: the period at 15° is 1.00430 of the small one (REFERENCES); the series of the option reaches it to 1e-5.
    Uncorrected, what swings of 1° to 5° change is allowed for: 3 parts in 10 000."""
    lengths, angle = np.linspace(0.4, 1.8, 8), math.radians(15)
    factor = 2 / math.pi * special.ellipk(math.sin(angle / 2) ** 2)
    assert factor == pytest.approx(1.00430, abs=5e-6)
    times = 20 * 2 * np.pi * np.sqrt(lengths / G) * factor
    series = {"swings": {"L": texts(100 * lengths), "t": trials(times)}}
    found = {
        swing: analysed("pendulum", options={"swing": swing}, quantities={"theta": "15"}, series=series)
        for swing in ("small", "corrected")
    }
    assert shown(found["corrected"], "g") == pytest.approx(G, rel=3e-5)
    assert shown(found["small"], "g") == pytest.approx(1.0003 * G / factor**2, rel=1e-6)
    assert shown(found["small"], "p") == pytest.approx(0.5, abs=1e-6)


@pytest.mark.parametrize(("landing", "drop"), [("level", 0.0), ("lower", 0.8)])
def test_projectile(landing: str, drop: float) -> None:
    angles, speed = np.radians([30, 37, 45, 52, 60]), 4.2
    across, up = speed * np.cos(angles), speed * np.sin(angles)
    flight = (up + np.sqrt(up**2 + 2 * G * drop)) / G
    series = {"phi": texts(np.degrees(angles)), "v_0": texts([speed] * 5), "s": texts(100 * across * flight)}
    analysis = analysed(
        "projectile-range", options={"landing": landing}, quantities={"h": f"{100 * drop}"}, series={"shots": series}
    )
    assert shown(analysis, "g") == pytest.approx(0.995 * G, rel=1e-6)  # what the air leaves a steel ball


def test_cart_and_hanger() -> None:
    hanging, whole, rest = np.array([0.01, 0.02, 0.03, 0.04]), 0.5, np.array([0.4, 0.5, 0.7, 1.0])
    force = {"m_h": texts(1e3 * hanging), "m_c": texts(1e3 * (whole - hanging)), "a": texts(hanging * G / whole)}
    mass = {"m": texts(1e3 * rest), "a": texts(0.03 * G / rest)}
    analysis = analysed(
        "newton-second-law", rules=RULES, quantities={"m_hB": "30"}, series={"force": force, "mass": mass}
    )
    assert shown(analysis, "m_A") == pytest.approx(500, rel=1e-6)
    assert shown(analysis, "F_net") == pytest.approx(0.03 * G, rel=1e-6)
    assert shown(analysis, "p") == pytest.approx(-1, abs=1e-6)


def test_rod_with_sliding_masses() -> None:
    """Energy: m g h = m v²/2 + J v²/(2 r²), so a = g/(1 + J/(m r²)); a thin tube about its centre, Steiner for the rest."""
    m, r, both, rod, length = 0.045, 0.012, 0.15, 0.09, 0.6
    bare = rod * (3 * (0.004**2 + 0.005**2) + length**2) / 12
    far, off = np.array([0.08, 0.12, 0.18, 0.25]), np.array([0.0, 0.05, 0.1, 0.2])

    def fall(inertia: Any) -> Any:
        return G / (1 + inertia / (m * r**2))

    told = {"m": "45", "D": ["24"], "M_s": "150", "M_r": "90", "l_r": "60", "d_i": "8", "d_o": "10"}
    series = {
        "sliders": {"R": texts(100 * far), "a": texts(-fall(bare + both * far**2))},
        "axis": {"d": texts(100 * off), "a": texts(fall(bare + rod * off**2))},
    }
    analysis = analysed("rotating-rod", rules=RULES, quantities=told, series=series)
    assert shown(analysis, "m_s") == pytest.approx(150, rel=1e-6)
    assert shown(analysis, "m_rod") == pytest.approx(90, rel=1e-6)
    assert shown(analysis, "J_0") == pytest.approx(bare, rel=1e-6)
    assert shown(analysis, "J_c") == pytest.approx(analysis.results["J_c"].accepted.value, rel=1e-6)  # type: ignore[union-attr]


def test_rules_in_balance() -> None:
    """Centre of mass: the pivot stands where the weighted marks say."""
    loads, hung, centre, mass = np.array([20.0, 50, 80, 120]), 3.0, 50.2, 118.0
    pivots = (loads * hung + mass * centre) / (loads + mass)
    analysis = analysed(
        "balanced-rule",
        quantities={"c": [f"{centre}"], "x_0": f"{hung}"},
        series={"loads": {"m": texts(loads), "p": trials(pivots)}},
    )
    assert shown(analysis, "M") == pytest.approx(118, rel=1e-6)
    clamp, load = 18.2, 100.0
    pivot = ((load + clamp) * 8 + mass * centre) / (load + clamp + mass)
    told = {"c": [f"{centre}"], "m_cc": "36.4", "M_w": "118", "m_1": "100", "x_1": "8", "p_1": [f"{pivot:.12g}"]}
    assert shown(analysed("rule-equilibrium", quantities=told), "M") == pytest.approx(118, rel=1e-6)


def test_stretched_line() -> None:
    area, length, modulus = math.pi * 0.7e-3**2 / 4, 2.0, 3e9
    loads = np.array([0.2, 0.5, 0.9, 1.4])
    marks = 10 + 1e3 * loads * G * length / (modulus * area)
    told = {"l0": "200", "d": ["0.7"], "x0": "10"}
    series = {"loads": {"m": texts(1e3 * loads), "x": trials(marks)}}
    assert shown(analysed("young-modulus", rules=RULES, quantities=told, series=series), "E") == pytest.approx(
        3, rel=1e-6
    )


def test_torsion_balance() -> None:
    """Torque 2 G M m d/b² on a beam of inertia 2 m d²: the ribbon's stiffness from the period, the mirror doubling the angle."""
    big, near, arm, way, period, small = 1.5, 0.0465, 0.05, 5.0, 500.0, 0.02
    stiffness = 2 * small * arm**2 * (2 * math.pi / period) ** 2
    shift = 2 * 2 * (2 * constants.G * big * small * arm / near**2) / stiffness * way
    times = np.arange(0, 1560, 120.0)
    spot = 0.3 + 0.1 * np.exp(-times / 900) * np.cos(2 * np.pi * times / period + 1)
    told = {"M": "1500", "b": "46.5", "d": "50", "L": "500", "S_1": ["0"], "S_2": [f"{1e3 * shift:.10g}"]}
    analysis = analysed(
        "torsion-balance",
        options={"far": "left"},
        quantities=told,
        series={"swing": {"t": texts(times / 60), "s": texts(1e3 * spot)}},
    )
    assert shown(analysis, "T") == pytest.approx(period, rel=1e-6)
    assert shown(analysis, "G") == pytest.approx(constants.G, rel=1e-5)


def test_quanta() -> None:
    """CODATA's h and e, put in by hand in electronvolts."""
    lam = np.array([405.0, 436, 546, 578])
    volts = constants.h * constants.c / (lam * 1e-9) / constants.e
    tube = analysed("photoelectric", series={"lines": {"lam": texts(lam), "U": trials(volts - 1.9)}})
    assert shown(tube, "h") == pytest.approx(constants.h, rel=1e-6)
    assert shown(tube, "W") == pytest.approx(1.9, rel=1e-5)
    lamps = analysed("led-threshold", series={"lamps": {"lam": texts(lam), "U": trials(volts - 0.2)}})
    assert shown(lamps, "h") == pytest.approx(constants.h, rel=1e-6)


def test_lines_of_hydrogen() -> None:
    """The four lines of NIST's Atomic Spectra Database in air give Rydberg's constant of hydrogen to their last digit."""
    air, spacing = np.array([656.28, 486.13, 434.05, 410.17]), 1666.7
    angles = np.degrees(np.arcsin(air / spacing))
    lines = {"n": ["3", "4", "5", "6"], "theta_l": trials(180 - angles), "theta_r": trials(180 + angles)}
    analysis = analysed("hydrogen-lines", quantities={"d": f"{spacing}"}, series={"lines": lines})
    assert shown(analysis, "R") == pytest.approx(10.96776, rel=3e-5)
    assert shown(analysis, "lam_1") == pytest.approx(656.28, abs=0.005)


def test_circles_of_electrons() -> None:
    """m v²/r = e v B and e U = m v²/2; the field at the circle by Biot and Savart, each coil half its radius away, summed over its wire."""
    radius, turns = 0.15, 130
    volts, amps = np.array([160.0, 200, 250, 300]), np.array([1.2, 1.3, 1.5, 1.4])
    around = np.linspace(0, 2 * np.pi, 720, endpoint=False)
    circle = np.full(4, 0.04)
    for _ in range(30):  # the field depends on how far out the circle runs
        out = circle[:, None]
        away = (radius**2 + out**2 - 2 * radius * out * np.cos(around) + radius**2 / 4) ** 1.5
        turn = (
            constants.mu_0 / (4 * np.pi) * 2 * np.pi * np.mean(radius * (radius - out * np.cos(around)) / away, axis=1)
        )
        field = 2 * turns * amps * turn
        circle = np.sqrt(2 * volts * constants.m_e / constants.e) / field
    series = {"circles": {"U": texts(volts), "I": texts(amps), "D": trials(200 * circle)}}
    analysis = analysed("charge-to-mass", quantities={"D_c": ["30"]}, series=series)
    assert shown(analysis, "e_m") == pytest.approx(constants.e / constants.m_e, rel=2e-4)


@pytest.mark.parametrize("axes", ["curve", "logarithm"])
def test_half_life(axes: str) -> None:
    times = np.linspace(0, 300, 7)
    counts = 1e6 * 0.5 ** (times / 68)
    series = {"counts": {"t": texts(times), "c": texts(counts)}}
    analysis = analysed("half-life", options={"axes": axes}, quantities={"b": ["0"]}, series=series)
    assert shown(analysis, "T_half") == pytest.approx(68, rel=1e-5)


def test_waves() -> None:
    """Strings by their wavelength, tubes by a quarter of it, gratings by whole ones, and sound by its way."""
    pull, density, length = 4.0, 1.9e-3, 1.2
    loops = np.array([1, 2, 3, 5])
    tones = math.sqrt(pull / density) / (2 * length / loops)
    string = analysed(
        "string-waves",
        rules=RULES,
        quantities={"l": "120", "M": f"{1e3 * pull / G:.12g}", "m_piece": "1.9", "l_piece": "100"},
        series={"loops": {"n": texts(loops), "f": trials(tones)}},
    )
    assert shown(string, "mu") == pytest.approx(1.9, rel=1e-6)
    forks = np.array([280.0, 320, 426, 512])
    tube = analysed(
        "resonance-tube",
        quantities={"theta": "20"},
        series={"tones": {"f": texts(forks), "l": trials(100 * (343.2 / forks / 4) - 1.0)}},
    )
    assert shown(tube, "v") == pytest.approx(343.2, rel=1e-6)
    assert shown(tube, "e") == pytest.approx(10 + 0.45, rel=1e-5)  # the drag of the wall
    orders, spacing = np.array([1, 2, 3]), 3333.0
    angles = np.degrees(np.arcsin(orders * 632.8 / spacing))
    distances = np.array([1.0, 2.0, 3.0])
    light = analysed(
        "grating",
        options={"light": "sodium"},  # read with a spectrometer
        quantities={"d": "3333", "b": "0.25"},
        series={
            "orders": {"j": texts(orders), "theta_l": trials(-angles), "theta_r": trials(angles)},
            "fringes": {"D": texts(100 * distances), "Y": trials(1e3 * 10 * 632.8e-9 * distances / 0.25e-3)},
        },
    )
    assert shown(light, "lam") == pytest.approx(632.8, rel=1e-6)
    assert shown(light, "lam_B") == pytest.approx(632.8, rel=1e-6)
    claps = {"d": texts(100 * distances), "t": trials(1e3 * distances / 343.2)}
    sound = analysed("speed-of-sound", quantities={"theta": "20"}, series={"claps": claps})
    assert shown(sound, "v") == pytest.approx(343.2, rel=1e-6)
    assert abs(sound.results["v"].accepted.value - 343.2 * 1.0015) < 0.05  # type: ignore[union-attr]


def test_mass_on_a_spring() -> None:
    masses = np.array([0.1, 0.2, 0.3, 0.4])
    times = 20 * 2 * np.pi * np.sqrt((masses + 0.02) / 27.5)
    analysis = analysed(
        "oscillating-mass",
        quantities={"N": "20", "m_spring": "60"},
        series={"bounces": {"m": texts(1e3 * masses), "t": trials(times)}},
    )
    assert shown(analysis, "k") == pytest.approx(27.5, rel=1e-6)
    assert shown(analysis, "m_s") == pytest.approx(20, rel=1e-5)


def test_disc_under_the_dome() -> None:
    """A disc that truly radiates, T⁴ and all, integrated in small steps, starts to warm as Stefan and Boltzmann say."""
    mass, heat, across, dome, start = 5.84e-3, 385.0, 25e-3, 371.4, 296.4
    rate = constants.sigma * math.pi * across**2 / 4 / (mass * heat)
    step, kelvin, seen = 0.05, start, []
    for i in range(int(120 / step) + 1):
        if i % int(10 / step) == 0:
            seen.append(kelvin)
        kelvin += step * rate * (dome**4 - kelvin**4)
    bath = np.linspace(20, 90, 8)
    told = {"m": "5.84", "D": ["25"], "theta_1": f"{dome - 273.15:.6f}", "theta_2": f"{dome - 273.15:.6f}"}
    series = {
        "bath": {"theta": texts(bath), "x": texts(bath / 0.42)},
        "warming": {"t": texts(np.arange(13) * 10), "x": texts((np.array(seen) - 273.15) / 0.42)},
    }
    analysis = analysed("stefan-constant", options={"start": "tangent"}, quantities=told, series=series)
    assert shown(analysis, "sigma") == pytest.approx(constants.sigma, rel=0.01)


def test_bottle_and_cube() -> None:
    """Water at 20 °C is 998.207 kg/m³ (Tanaka 2001), air 1.2 kg/m³: a cube is lighter in water by 14.973 g, and in air by its own air."""
    water, air, lighter = 0.998207, 0.0012, 15 * 0.998207
    told = {"theta": "20", "m_e": "28", "m_w": "77.91035", "m_x": "67.465"}
    cube = {"a": ["25"], "b": ["25"], "h": ["24"], "m_1": ["126"], "m_2": [f"{126 - 15 * 0.998207:.6f}"]}
    analysis = analysed("density-buoyancy", rules=RULES, quantities={**told, **cube})
    assert shown(analysis, "rho_x") == pytest.approx(39.465 / 49.91035 * (water - air) + air, rel=1e-5)
    assert shown(analysis, "V_b") == pytest.approx(lighter * (1 - air / 8) / (water - air), rel=1e-5)
    assert shown(analysis, "rho_b") == pytest.approx(126 / lighter * (water - air) + air, rel=1e-5)
    assert shown(analysis, "F_b") == pytest.approx(14.973105e-3 * G, rel=1e-5)
