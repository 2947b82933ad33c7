"""Falls, collisions, circuits, lenses, gases and mixtures, each computed from the physics and from nothing else of the house."""

import math

import numpy as np
from scipy.integrate import solve_ivp
from scipy.optimize import minimize_scalar

from tests.physics.bench import Array, Bench, G
from tests.physics.fields import CHARGE, LIGHT, PLANCK

Truth = dict[str, float]


def free_fall(b: Bench) -> Truth:
    """A steel ball of 16 mm with the drag and the lift of the air, integrated; the magnet lets go late."""
    mass, wide = 16.7e-3, 16.0e-3
    drag = 0.47 * 1.2 * math.pi * wide**2 / (8 * mass)
    down = G * (1 - 1.2 / 7850)

    def falls(time: float, speed: float = 0.0) -> Array:
        found = solve_ivp(lambda _, y: [y[1], down - drag * y[1] ** 2], (0, time), [0.0, speed], rtol=1e-10, atol=1e-12)
        return np.asarray(found.y[:, -1])

    if b.options["record"] == "strobe":
        flash = b.set("drops.n", b.suggested("drops.n"))
        b.read("drops.s", np.array([0.032 + (falls(n / 20, 0.21)[0] if n else 0.0) for n in flash]))
        return {"g": G, "t_0": 0.21}
    height = b.set("drops.h", b.suggested("drops.h"))

    def time(high: float) -> float:
        lands = lambda _, y: y[0] - high  # noqa: E731
        lands.terminal = True  # type: ignore[attr-defined]
        way = solve_ivp(
            lambda _, y: [y[1], down - drag * y[1] ** 2], (0, 3), [0.0, 0.0], events=lands, rtol=1e-10, atol=1e-12
        )
        return float(way.t_events[0][0])

    b.read("drops.t", np.array([time(h) for h in height]) + 6.5e-3, scatter=0.6e-3)
    return {"g": G, "t_0": 6.5e-3}


def collisions(b: Bench) -> Truth:
    """Carts without friction: they stick, or part with the relative speed they met with."""
    first, second = b.set("runs.m_1", b.suggested("runs.m_1")), b.set("runs.m_2", b.suggested("runs.m_2"))
    speed = 0.62 + 0.1 * b.draw.normal(size=len(first))
    b.read("runs.v", speed)
    if b.options["kind"] == "stick":
        b.read("runs.w", first * speed / (first + second))
    else:  # seen from their common centre of mass both turn round
        centre = first * speed / (first + second)
        b.read("runs.w", 2 * centre - speed)
        b.read("runs.x", 2 * centre)
    return {"q": 1.0, "s": 1.0}


def wire(b: Bench) -> Truth:
    """A uniform wire and clips in series."""
    metal = b.options["metal"]
    rho = 0.49e-6 if metal == "unknown" else b.accepted(f"resistivity_{metal}")
    wide, clips = 0.37e-3, 0.06
    b.quantity("d", wide)
    long = b.set("lengths.l", b.suggested("lengths.l"))
    current = 0.45 + 0.01 * b.draw.normal(size=len(long))
    b.read("lengths.I", current)
    b.read("lengths.U", current * (rho * long / (math.pi * wide**2 / 4) + clips))
    return {"rho": rho, "R_0": clips}


def cell(b: Bench) -> Truth:
    """An e.m.f. behind a resistance, read by a voltmeter of 10 MΩ."""
    force, inner = 1.562, 0.74
    b.quantity("U_0", force * 10e6 / (10e6 + inner))
    current = b.set("loads.I", b.suggested("loads.I"))
    b.read("loads.U", force - inner * current, scatter=1e-3)
    return {"E": force, "r": inner, "I_s": force / inner}


def discharge(b: Bench) -> Truth:
    """The charge of a capacitor integrated as it leaves through resistor and meter."""
    farads, ohms, meter = 31.4e-6, 998e3, 10.0e6
    b.quantity("R", ohms)
    b.quantity("R_m", meter)
    time = b.set("fall.t", b.suggested("fall.t"))
    way = solve_ivp(
        lambda _, q: -(q / farads) * (1 / ohms + 1 / meter),
        (0, time[-1]),
        [9.72 * farads],
        t_eval=time,
        rtol=1e-10,
        atol=1e-15,
    )
    b.read("fall.U", way.y[0] / farads)
    return {"C": farads, "tau": farads / (1 / ohms + 1 / meter)}


def half_deflection(b: Bench) -> Truth:
    """Currents by Kirchhoff: the shunt that leaves half of what went through the coil."""
    coil, step, volts = 96.4, 19.86e-6, 1.516
    b.quantity("E", volts)
    series = b.set("halves.R", b.suggested("halves.R"))
    b.read("halves.theta", volts / (series + coil) / step)
    # Half the current: volts/(R + GS/(G + S)) * S/(G + S) = volts/(R + G)/2, so that S = R G/(R + G).
    b.read("halves.S", series * coil / (series + coil))
    return {"G": coil, "k": step}


def lens(b: Bench) -> Truth:
    """Rays near the axis through two surfaces of a lens so thin that its thickness does not show."""
    index, outer = 1.5168, 0.153594
    focal = 1 / ((index - 1) * 2 / outer)
    if b.options["way"] == "conjugate":
        away = b.set("images.u", b.suggested("images.u"))
        first = 1 / ((index - 1) / outer - 1 / away)  # the image by the first surface, times the index
        b.read("images.v", 1 / (1 / first + (index - 1) / outer))
        return {"f": focal, "q": -1.0}
    whole = b.set("images.D", b.suggested("images.D"))
    root = np.sqrt(whole**2 / 4 - whole * focal)
    b.read("images.x_1", whole / 2 - root)
    b.read("images.x_2", whole / 2 + root)
    return {"f": focal}


def prism(b: Bench) -> Truth:
    """Snell's law at both faces, the incidence varied until the deviation is least."""
    angle, middle = math.radians(60.05), math.radians(179.92)

    def index(lam: float) -> float:
        return 1.6032 + 0.00912e-12 / lam**2

    def least(lam: float) -> float:
        n = index(lam)

        def deviation(incident: float) -> float:
            inside = math.asin(math.sin(incident) / n)
            return incident + math.asin(n * math.sin(angle - inside)) - angle

        return float(minimize_scalar(deviation, bounds=(0.6, 1.3), method="bounded", options={"xatol": 1e-9}).fun)

    b.quantity("alpha_l", middle - angle)  # a mirror turned by the angle of the prism turns light by twice as much
    b.quantity("alpha_r", middle + angle)
    light = b.set("lines.lam", b.suggested("lines.lam"))
    turned = np.array([least(lam) for lam in light])
    b.read("lines.theta_l", middle - turned)
    b.read("lines.theta_r", middle + turned)
    return {"n_D": index(589.29e-9), "a": 1.6032, "b": 0.00912e-12}


def specific_heat(b: Bench) -> Truth:
    """Metal and water that exchange heat while the vessel loses some to the room, integrated from before to after."""
    metal = b.options["metal"]
    heat = 640.0 if metal == "unknown" else b.accepted(f"c_{metal}")
    water, vessel = b.accepted("c_water"), b.accepted("c_aluminium")
    mass, empty, full, hot, moment, start, room = 0.4126, 0.0584, 0.2637, 372.75, 180.0, 291.35, 293.15
    for name, value in (("m", mass), ("m_c", empty), ("m_wc", full), ("theta_h", hot), ("t_m", moment)):
        b.quantity(name, value)
    bath, piece, loss = (full - empty) * water + empty * vessel, mass * heat, 0.03  # J/K, J/K, W/K
    before = b.set("before.t", b.suggested("before.t"))
    b.read("before.theta", room + (start - room) * np.exp(-loss / bath * before))
    after = b.set("after.t", b.suggested("after.t"))
    at = room + (start - room) * math.exp(-loss / bath * moment)

    def flows(_: float, y: Array) -> list[float]:
        given = 90.0 * (y[0] - y[1])
        return [-given / piece, (given - loss * (y[1] - room)) / bath]

    way = solve_ivp(flows, (moment, after[-1]), [hot, at], t_eval=after, rtol=1e-9, max_step=1.0)
    b.read("after.theta", way.y[1])
    return {"c": heat}


def gas_excitation(b: Bench) -> Truth:
    """Electrons that lose one quantum after the other, shifted by the contact potential; recorded as bells on a current that grows by the power
    three halves, each row with the stretch from dip to dip."""
    quantum = PLANCK * LIGHT / b.accepted("line_Hg_uv") if b.options["gas"] == "mercury" else b.accepted("E_neon")
    number = b.set("peaks.n", b.suggested("peaks.n"))
    if b.options["reading"] == "recorder":
        step, rise = quantum / CHARGE, 0.5
        b.quantity("r", rise)
        b.quantity("U_0", 0.0)
        t = np.arange(0.0, (2.1 + 6.5 * step) / rise, 0.05)
        current = 0.08 * (t * rise / 2.1) ** 1.5
        for n in range(1, 7):
            current = current + (n + 0.5) * np.exp(-(((t * rise - 2.1 - n * step) / (0.16 * step)) ** 2))
        current = current + b.draw.normal(size=len(t)) * (0.0 if b.quiet else 0.03)
        for n in number:
            middle, half = (2.1 + n * step) / rise, step / rise / 2
            b.trace("peaks.t", t, current, "nA", middle - half, middle + half)
        return {"E": quantum, "U_c": 2.1}
    b.read("peaks.U", number * quantum / CHARGE + 2.1)
    return {"E": quantum, "U_c": 2.1}


def boyle(b: Bench) -> Truth:
    """A gas with van der Waals's corrections for air."""
    amount, kelvin, tube = 0.741e-3, 293.75, 1.1e-6
    b.quantity("theta", kelvin)
    volume = b.set("strokes.V", b.suggested("strokes.V")) + tube
    b.read("strokes.p", amount * 8.314462618 * kelvin / (volume - amount * 3.64e-5) - 0.1358 * (amount / volume) ** 2)
    return {"C": amount * 8.314462618 * kelvin, "V_0": tube, "n": amount}


def polarisers(b: Bench) -> Truth:
    """Amplitudes of a wave behind two real polarisers that let a little of the crossed wave through, and stray light."""
    along, across, stray = 0.8, 0.012, 2.0
    angle = b.set("angles.phi", b.suggested("angles.phi"))
    passed = (
        800
        * ((along**2 * along**2 + across**4) * np.cos(angle) ** 2 + 2 * along**2 * across**2 * np.sin(angle) ** 2)
        / 2
    )
    b.read("angles.I", passed + stray)
    crossed = 800 * 2 * along**2 * across**2 / 2 + stray
    whole = 800 * (along**4 + across**4) / 2 + stray - crossed
    return {"I_0": whole, "I_b": crossed, "q": crossed / whole}


MODELS = {
    "free-fall": free_fall,
    "collisions": collisions,
    "wire-resistivity": wire,
    "cell": cell,
    "capacitor-discharge": discharge,
    "half-deflection": half_deflection,
    "thin-lens": lens,
    "prism": prism,
    "specific-heat": specific_heat,
    "gas-excitation": gas_excitation,
    "boyle": boyle,
    "polarisers": polarisers,
}
