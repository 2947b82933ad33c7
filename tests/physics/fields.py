"""Waves, light, electricity, heat and matter at the bench, each computed from the physics and from nothing else of the house."""

import math

import numpy as np
from scipy.integrate import quad, solve_ivp
from scipy.optimize import brentq
from scipy.special import ellipe, ellipk

from tests.physics.bench import Array, Bench, G

Truth = dict[str, float]
PLANCK, LIGHT, CHARGE, ELECTRON = 6.62607015e-34, 299792458.0, 1.602176634e-19, 9.1093837139e-31
MU_0, BOLTZMANN = 1.25663706127e-6, 1.380649e-23
AIR = 1.2  # kg/m³


def sound(celsius: float, damp: float) -> float:
    """Speed of sound in moist air at 101.3 kPa, m/s: an ideal mixture of diatomic air and water vapour; ``damp``: relative humidity."""
    kelvin = celsius + 273.15
    vapour = damp * 610.94 * math.exp(17.625 * celsius / (celsius + 243.04)) / 101325
    molar = (1 - vapour) * 0.0289655 + vapour * 0.0180153
    heat = (1 - vapour) * 3.4996 + vapour * 4.04  # cp over R
    return math.sqrt(heat / (heat - 1) * 8.314462618 * kelvin / molar)


def speed_of_sound(b: Bench) -> Truth:
    """Claps along a line, in a room of 30 to 70 % humidity."""
    celsius = 21.4
    speed = sound(celsius, b.draw.uniform(0.3, 0.7))
    b.quantity("theta", celsius + 273.15)
    away = b.set("claps.d", b.suggested("claps.d"))
    b.read("claps.t", away / speed, scatter=0.03e-3)
    return {"v": speed}


def resonance_tube(b: Bench) -> Truth:
    """A tube over water: damp air, the drag of the wall on the wave (Kirchhoff), the end of an open tube (0.6133 radii)."""
    celsius, radius = 20.4, 17.35e-3
    free = sound(celsius, b.draw.uniform(0.6, 1.0))
    b.quantity("theta", celsius + 273.15)
    b.quantity("r_t", radius)
    tone = b.set("tones.f", b.suggested("tones.f"))
    wall = np.sqrt(1.51e-5 / (2 * 2 * math.pi * tone)) / radius * (1 + 0.4 / math.sqrt(0.71))
    b.read("tones.l", free * (1 - wall) / (4 * tone) - 0.6133 * radius)
    return {"e": 0.6133 * radius}


def oscillating_mass(b: Bench) -> Truth:
    """A heavy spring: waves run along it, and x tan x is its mass over the load's."""
    stiff, heavy = 27.5, 0.063
    load = b.set("bounces.m", b.suggested("bounces.m"))
    b.quantity("m_spring", heavy)

    def period(mass: float) -> float:
        x = brentq(lambda z: z * math.tan(z) - heavy / mass, 1e-6, 1.5)
        return 2 * math.pi * math.sqrt(heavy / stiff) / x

    periods = np.array([period(m) for m in load])
    b.read("bounces.t", 20 * periods)
    slope, intercept = np.polyfit(
        load, periods**2, 1
    )  # what swings along grows as the load shrinks: the mean over these loads
    return {"k": stiff, "m_s": float(intercept / slope)}


def string_waves(b: Bench) -> Truth:
    """A limp string between fixed ends."""
    line, long, hung, piece = 1.86e-3, 1.264, 0.4032, 3.12
    for name, value in (("l", long), ("M", hung), ("l_piece", piece), ("m_piece", line * piece)):
        b.quantity(name, value)
    loops = b.set("loops.n", b.suggested("loops.n"))
    b.read("loops.f", loops * math.sqrt(hung * G / line) / (2 * long), scatter=0.3)
    return {"mu": line}


def grating(b: Bench) -> Truth:
    """A grating square to the light, seen on a screen or through a telescope, and two slits."""
    light = {"laser": 632.8e-9, "sodium": 589.29e-9}.get(b.options["light"], 612e-9)
    spacing, slits, middle = 3333e-9, 0.250e-3, math.radians(180.08)
    order = b.set("orders.j", b.suggested("orders.j"))
    b.quantity("b", slits)
    turned = np.arcsin(order * light / spacing)
    if b.options["light"] == "laser":
        b.quantity("n_l", 1 / spacing)
        b.quantity("L", 0.6)
        b.read("orders.x_l", 0.496 - 0.6 * np.tan(turned))
        b.read("orders.x_r", 0.496 + 0.6 * np.tan(turned))
    else:
        b.quantity("d", spacing)
        b.read("orders.theta_l", middle - turned)
        b.read("orders.theta_r", middle + turned)
    away = b.set("fringes.D", b.suggested("fringes.D"))
    # Path differences of whole wavelengths from slits to screen, five fringes to each side.
    lies = away * np.tan(np.arcsin(5 * light / slits))
    b.read("fringes.Y", 2 * lies)
    return {"lam": light, "lam_B": light}


def hydrogen(b: Bench) -> Truth:
    """Orbits of an electron about a proton, seen in air (Ciddor's index at 20 °C, dispersion left to it), through a grating."""
    reduced = ELECTRON / (1 + 1 / 1836.152673)
    rydberg = reduced * CHARGE**4 / (8 * 8.8541878188e-12**2 * PLANCK**3 * LIGHT)
    spacing, middle = 1666.4e-9, math.radians(180.21)
    level = b.set("lines.n", b.suggested("lines.n"))
    vacuum = 1 / (rydberg * (0.25 - 1 / level**2))
    wave2 = (1e-6 / vacuum) ** 2
    index = (
        1 + (0.05792105 / (238.0185 - wave2) + 0.00167917 / (57.362 - wave2)) * 0.982
    )  # standard air at 15 °C, brought to 20 °C
    turned = np.arcsin(vacuum / index / spacing)
    b.quantity("d", spacing)
    b.read("lines.theta_l", middle - turned)
    b.read("lines.theta_r", middle + turned)
    return {"R": rydberg}


def photoelectric(b: Bench) -> Truth:
    """Electrons stopped on the way to a collector whose own work function counts."""
    collector = 1.9 * CHARGE
    light = b.set("lines.lam", b.suggested("lines.lam"))
    b.read("lines.U", (PLANCK * LIGHT / light - collector) / CHARGE, scatter=0.01)
    return {"h": PLANCK, "W": collector}


def led(b: Bench) -> Truth:
    """Diodes that glow one fixed energy before the quantum of their light."""
    spared = 0.18 * CHARGE
    light = b.set("lamps.lam", b.suggested("lamps.lam"))
    b.read("lamps.U", (PLANCK * LIGHT / light - spared) / CHARGE, scatter=0.012)
    return {"h": PLANCK, "W": spared}


def half_life(b: Bench) -> Truth:
    """Decays counted over whole intervals."""
    nuclide = b.options["nuclide"]
    known = {"barium": "half_Ba137m", "protactinium": "half_Pa234m", "radon": "half_Rn220"}
    half = b.accepted(known[nuclide]) if nuclide in known else 68.0
    rate, long, around = math.log(2) / half, 20.0, 9.0
    middle = b.set("counts.t", b.suggested("counts.t", dt=long))
    whole = np.array([quad(lambda t: 45 * math.exp(-rate * t), m - long / 2, m + long / 2)[0] for m in middle])
    b.count("b", np.array([around]))
    b.count("counts.c", around + whole)
    return {"T_half": half}


def charge_to_mass(b: Bench) -> Truth:
    """Circles in the true field of two coils, which falls off towards the circle; the elliptic integrals of a loop."""
    ratio, coil, turns = CHARGE / ELECTRON, 0.151, 130
    b.quantity("D_c", 2 * coil)
    volts = b.set("circles.U", b.suggested("circles.U"))
    amps = b.set("circles.I", b.suggested("circles.I"))

    def along_axis(out: float, up: float) -> float:
        """Axial field of one turn with 1 A at the distance ``out`` from the axis and ``up`` from its plane, T."""
        m = 4 * coil * out / ((coil + out) ** 2 + up**2)
        near = (coil - out) ** 2 + up**2
        inner = ellipk(m) + (coil**2 - out**2 - up**2) / near * ellipe(m)
        return MU_0 / (2 * math.pi) * inner / math.sqrt((coil + out) ** 2 + up**2)

    def radius(volt: float, amp: float) -> float:
        speed = math.sqrt(2 * ratio * volt)
        return float(brentq(lambda r: r - speed / (ratio * 2 * turns * amp * along_axis(r, coil / 2)), 1e-3, 0.12))

    b.read("circles.D", np.array([2 * radius(u, i) for u, i in zip(volts, amps, strict=True)]))
    return {next(iter(b.definition.results)): ratio}


def coil_inductance(b: Bench) -> Truth:
    """Current sheets of finite length (Lorenz): the elliptic integrals, whatever formula the bench takes."""
    turns = b.set("coils.N", b.suggested("coils.N"))
    long = b.set("coils.l", b.suggested("coils.l"))
    wide = b.set("coils.D", b.suggested("coils.D"))
    m = wide**2 / (wide**2 + long**2)
    k = np.sqrt(m)
    sheet = (
        MU_0 * turns**2 * wide**3 / (3 * long**2) * ((2 * m - 1) / k**3 * ellipe(m) + (1 - m) / k**3 * ellipk(m) - 1)
    )
    b.quantity("L_0", 0.64e-6)
    b.read("coils.L_m", 0.64e-6 + sheet)
    return {"mu": MU_0}


def current_balance(b: Bench) -> Truth:
    """A wire across an even field; the magnet is pushed back."""
    field, part, current = 41.5e-3, 0.084, 1.04
    b.quantity("l_A", part)
    b.quantity("I_B", current)
    b.read("currents.m", field * b.set("currents.I", b.suggested("currents.I")) * part / G)
    b.read("lengths.m", field * current * b.set("lengths.l", b.suggested("lengths.l")) / G)
    return {"B": field, "B_A": field, "B_B": field}


def galvanometer(b: Bench) -> Truth:
    """A circuit of one loop, or of two branches."""
    step, coil = 19.86e-6, 96.4
    b.quantity("k", step)
    b.quantity("G", coil)
    points = b.set("verify.theta", b.suggested("verify.theta"))
    if b.options["meter"] == "voltmeter":
        wanted = 3 / (30 * step) - coil
        b.quantity("R_box", wanted)
        b.read("verify.V_2", points * step * (wanted + coil))
        return {"R": wanted, "q": 1.0, "V_0": 0.0}
    wanted = 30 * step * coil / (0.3 - 30 * step)
    b.quantity("R_box", wanted)
    b.read("verify.V_2", points * step * (1 + coil / wanted))
    return {"R": wanted, "q": 1.0, "V_0": 0.0}


def metre_bridge(b: Bench) -> Truth:
    """A wire of even resistance whose soldered ends are as long as a millimetre and a half of it, unlike on both sides."""
    gap = b.options["gap"]
    one, two = 4.42, 6.68
    truth = {"R_1": one, "R_2": two, "R_s": one + two, "R_p": one * two / (one + two)}
    tables = {"first": one, "second": two, "both": truth["R_s"], "side": truth["R_p"]}
    ends = (0.0015, 0.0009) if gap == "swapped" else (0.0, 0.0)
    for table, unknown in tables.items():
        known = b.set(f"{table}.K", b.suggested(f"{table}.K", R_1=one, R_2=two))

        def null(left: Array | float, right: Array | float) -> Array:
            return np.asarray((1 + sum(ends)) * left / (left + right) - ends[0])

        b.read(f"{table}.l", null(unknown, known) if gap == "left" else null(known, unknown))
        if gap == "swapped":
            b.read(f"{table}.w", null(unknown, known))
    return truth


def block_density(b: Bench) -> Truth:
    """A block cut in halves."""
    density = 934.0
    halved = b.set("pieces.k", b.suggested("pieces.k"))
    edges = (0.0864 / 2**halved, np.full(len(halved), 0.0542), np.full(len(halved), 0.0276))
    for name, edge in zip("abh", edges, strict=True):
        b.read(f"pieces.{name}", edge)
    b.quantity("theta", 19.5 + 273.15)
    if b.takes("m_0"):
        b.quantity("m_0", density * 0.0864 * 0.0542 * 0.0276)
    else:
        b.read("pieces.m", density * edges[0] * edges[1] * edges[2])
    return {"rho": density}


def density_buoyancy(b: Bench) -> Truth:
    """Weighings in air that lifts as well, on a balance adjusted with steel weights in the same air."""
    celsius = 18.5
    water = 998.502  # kg/m³ at 18.5 °C, between 998.596 at 18 °C and 998.405 at 19 °C (Tanaka and others, Metrologia 38, 2001)
    bottle, glass, edges = 50.13e-6, 0.02847, (0.02482, 0.02488, 0.02504)
    liquid = 812.4 if b.options["liquid"] == "unknown" else b.accepted(f"rho_{b.options['liquid']}")
    cube = 8430.0 if b.options["cube"] == "unknown" else b.accepted(f"rho_{b.options['cube']}")
    volume = math.prod(edges)

    def weighs(mass: float, takes: float) -> float:
        return (mass - AIR * takes) / (1 - AIR / 8000)

    b.quantity("theta", celsius + 273.15)
    b.quantity("m_e", weighs(glass, glass / 2500))
    b.quantity("m_w", weighs(glass + water * bottle, glass / 2500 + bottle))
    b.quantity("m_x", weighs(glass + liquid * bottle, glass / 2500 + bottle))
    for name, edge in zip("abh", edges, strict=True):
        b.quantity(name, edge)
    b.quantity("m_1", weighs(cube * volume, volume))
    b.quantity("m_2", (cube * volume - water * volume) / (1 - AIR / 8000))
    b.quantity("m_cup", weighs(water * volume, volume))
    return {"rho_x": liquid, "V_e": volume, "V_b": volume, "rho_e": cube, "rho_b": cube}


def stefan(b: Bench) -> Truth:
    """A black disc under a black dome: the fourth powers integrated, the spot in proportion to the temperature."""
    metal = "c_brass" if b.options["metal"] == "brass" else "c_copper"
    heat, mass, wide, dome, start = b.accepted(metal), 5.84e-3, 0.025, 371.4, 296.4
    constant = 2 * math.pi**5 * BOLTZMANN**4 / (15 * PLANCK**3 * LIGHT**2)
    b.quantity("m", mass)
    b.quantity("D", wide)
    b.quantity("theta_1", dome)
    b.quantity("theta_2", dome)
    bend = 2e-4 if b.options["bend"] == "parabola" else 0.0

    def spot(kelvin: Array) -> Array:
        warm = kelvin - 273.15
        return np.asarray(warm / 0.42e3 * (1 + bend * (warm - 50)))

    b.read("bath.x", spot(b.set("bath.theta", b.suggested("bath.theta"))))
    time = b.set("warming.t", b.suggested("warming.t"))
    rate = constant * math.pi * wide**2 / 4 / (mass * heat)
    warms = solve_ivp(lambda _, kelvin: rate * (dome**4 - kelvin**4), (0, time[-1]), [start], t_eval=time, rtol=1e-9)
    b.read("warming.x", spot(warms.y[0]))
    return {"sigma": constant}


MODELS = {
    "speed-of-sound": speed_of_sound,
    "resonance-tube": resonance_tube,
    "oscillating-mass": oscillating_mass,
    "string-waves": string_waves,
    "grating": grating,
    "hydrogen-lines": hydrogen,
    "photoelectric": photoelectric,
    "led-threshold": led,
    "half-life": half_life,
    "charge-to-mass": charge_to_mass,
    "coil-inductance": coil_inductance,
    "current-balance": current_balance,
    "galvanometer-conversion": galvanometer,
    "metre-bridge": metre_bridge,
    "block-density": block_density,
    "density-buoyancy": density_buoyancy,
    "stefan-constant": stefan,
}
