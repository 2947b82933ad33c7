"""Levers, springs, wheels, carts, swings and flights, each computed from the physics and from nothing else of the house."""

import math

import numpy as np
from scipy.integrate import solve_ivp
from scipy.special import ellipk

from tests.physics.bench import Array, Bench, G

Truth = dict[str, float]
AIR = 1.2  # kg/m³


def pendulum(b: Bench) -> Truth:
    """A steel bob of 1 cm radius on a thread: period by the elliptic integral, the bob's own inertia and the air's lift counted."""
    angle = math.radians(8.0)
    if b.options["swing"] == "small":
        angle = math.radians(3.0)
    bob, lift = 0.01, AIR / 7850
    lengths = b.set("swings.L", b.suggested("swings.L"))
    small = 2 * math.pi * np.sqrt((lengths**2 + 0.4 * bob**2) / (lengths * G * (1 - lift)))
    period = small * 2 / math.pi * ellipk(math.sin(angle / 2) ** 2)
    b.quantity("theta", angle)
    b.read("swings.t", 20 * period)
    return {"g": G, "p": 0.5, "g_p": G}


def balanced_rule(b: Bench) -> Truth:
    """Moments about the pivot of load and rule."""
    rule, centre, hung = 0.1183, 0.5024, 0.030
    load = b.set("loads.m", b.suggested("loads.m"))
    b.quantity("c", centre)
    b.quantity("x_0", hung)
    b.quantity("M_w", rule)
    b.read("loads.p", (load * hung + rule * centre) / (load + rule))
    return {"M": rule}


def rule_equilibrium(b: Bench) -> Truth:
    """Three balances of a rule with two clamps of one mass."""
    rule, clamp, centre, unknown = 0.1216, 0.0182, 0.4982, 0.1875
    b.quantity("c", centre)
    b.quantity("m_cc", 2 * clamp)
    b.quantity("M_w", rule)
    m1, x1 = 0.1002, 0.08
    b.quantity("m_1", m1)
    b.quantity("x_1", x1)
    b.quantity("p_1", ((m1 + clamp) * x1 + rule * centre) / (m1 + clamp + rule))
    pivot, left, at, right = 0.46, 0.2001, 0.15, 0.1503
    b.quantity("p_2", pivot)
    b.quantity("m_a", left)
    b.quantity("x_a", at)
    b.quantity("m_b", right)
    turning = (left + clamp) * (pivot - at) - rule * (centre - pivot)
    b.quantity("x_b", pivot + turning / (right + clamp))
    b.quantity("m_known", 0.1503)
    b.quantity("x_known", 0.17)
    b.quantity("x_u", centre + (0.1503 + clamp) * (centre - 0.17) / (unknown + clamp))
    b.quantity("m_uw", unknown)
    return {"M": rule, "tau_sum": 0.0, "tau_one": G * (left + clamp) * (pivot - at), "m_u": unknown}


def spring(b: Bench) -> Truth:
    """A spring within its limit; its own weight only shifts the length without load."""
    stiff, bare, weight = 28.4, 0.116, 0.0503
    b.quantity("m", weight)
    if b.takes("l_1"):
        b.quantity("l_1", bare)
    number = b.set("loads.n", b.suggested("loads.n"))
    b.read("loads.l", bare + number * weight * G / stiff)
    return {"k": stiff, "l_0": bare}


def young(b: Bench) -> Truth:
    """A wire that obeys Hooke's law, read long after each load."""
    material = b.options["material"]
    known = {
        "steel": "E_steel",
        "copper": "E_copper",
        "brass": "E_brass",
        "nylon": "E_nylon",
        "aluminium": "E_aluminium",
    }
    modulus = b.accepted(known[material]) if material in known else 2.9e9
    wide = {"unknown": 0.74e-3, "nylon": 0.74e-3, "aluminium": 0.40e-3}.get(material, 0.30e-3)
    long, start = 2.124, 0.014
    b.quantity("l0", long)
    b.quantity("d", wide)
    b.quantity("x0", start)
    key, each = ("loads.F", 1.0) if b.options["set"] == "force" else ("loads.m", G)
    force = b.set(key, b.suggested(key)) * each
    b.read("loads.x", start + long * force / (modulus * math.pi * wide**2 / 4))
    return {"E": modulus}


def conical(b: Bench) -> Truth:
    """A flier that circles level: its string's angle from its length and radius."""
    mass, string, radius = 0.1486, 1.045, 0.618
    angle = math.asin(radius / string)
    lap = 2 * math.pi * math.sqrt(string * math.cos(angle) / G)
    b.quantity("m", mass)
    b.quantity("l", string)
    b.quantity("r", radius)
    b.quantity("t", 10 * lap)
    return {
        "theta_F": angle,
        "theta_r": angle,
        "F_g": mass * G,
        "F_c": mass * G * math.tan(angle),
        "F_T": mass * G / math.cos(angle),
        "T_lap": lap,
    }


def projectile(b: Bench) -> Truth:
    """The flight integrated with the air's drag: a steel ball, or a table-tennis ball where the definition reckons with the air."""
    landing = b.options["landing"]
    mass, wide, drag = (2.70e-3, 40.0e-3, 0.47) if landing == "air" else (16.7e-3, 16.0e-3, 0.47)
    below = 0.82 if landing == "lower" else 0.0
    if landing == "air":
        drag += 0.03 * b.draw.normal()
    shares = drag * AIR * math.pi * wide**2 / (8 * mass)  # of its speed, on each metre
    if b.options["scale"] == "plumb":
        angles = math.pi / 2 - b.set("shots.psi", b.suggested("shots.psi"))
    else:
        angles = b.set("shots.phi", b.suggested("shots.phi"))
    speeds = 3.9 + 0.04 * b.draw.normal(size=len(angles))

    def reach(angle: float, speed: float) -> float:
        def moves(_: float, state: Array) -> list[float]:
            fast = math.hypot(state[2], state[3])
            return [state[2], state[3], -shares * fast * state[2], -G - shares * fast * state[3]]

        def lands(_: float, state: Array) -> float:
            return float(state[1] + below)

        lands.terminal, lands.direction = True, -1  # type: ignore[attr-defined]
        start = [0.0, 1e-12, speed * math.cos(angle), speed * math.sin(angle)]
        return float(solve_ivp(moves, (0, 5), start, events=lands, rtol=1e-8, atol=1e-10).y_events[0][0][0])

    if below:
        b.quantity("h", below)
    b.read("shots.v_0", speeds)
    b.read("shots.s", np.array([reach(a, v) for a, v in zip(angles, speeds, strict=True)]))
    return {"g": G}


def newton(b: Bench) -> Truth:
    """A cart whose friction is what the convention says: rolling, in proportion to its load; one constant force; or none left by a tilt."""
    whole, hanger = 0.5124, 0.030
    rolling = 0.006 if b.options["friction"] == "rolling" else 0.0
    constant = 0.03 if b.options["friction"] == "carried" else 0.0
    hung = b.set("force.m_h", b.suggested("force.m_h"))
    b.read("force.m_c", whole - hung)
    b.read("force.a", (hung * G - rolling * (whole - hung) * G - constant) / whole)
    b.quantity("m_hB", hanger)
    mass = b.set("mass.m", b.suggested("mass.m"))
    b.read("mass.a", (hanger * G - rolling * (mass - hanger) * G - constant) / mass)
    return {"m_A": whole, "F_net": hanger * G, "p": -1.0}


def rotating_rod(b: Bench) -> Truth:
    """A tube with two cylinders on it that have an inertia of their own, turned by a falling mass over a drum."""
    falling, drum, sliders, rod = 0.0452, 0.01215, 0.1516, 0.0874
    long, inner, outer = 0.586, 0.004, 0.005
    centre = rod * (3 * (inner**2 + outer**2) + long**2) / 12
    own = sliders * (3 * (0.012**2 + 0.005**2) + 0.02**2) / 12  # two cylinders with a bore, about their own middles
    for name, value in (("m", falling), ("D", 2 * drum), ("M_s", sliders), ("M_r", rod), ("l_r", long)):
        b.quantity(name, value)
    b.quantity("d_i", 2 * inner)
    b.quantity("d_o", 2 * outer)

    def falls(inertia: Array) -> Array:
        return np.asarray(G / (1 + inertia / (falling * drum**2)))

    b.read("sliders.a", falls(centre + own + sliders * b.set("sliders.R", b.suggested("sliders.R")) ** 2))
    b.read("axis.a", falls(centre + rod * b.set("axis.d", b.suggested("axis.d")) ** 2))
    return {"m_s": sliders, "J_0": centre + own, "m_rod": rod, "J_c": centre}


def stepped_pulley(b: Bench) -> Truth:
    """A pulley with a constant friction torque, from rest through two turns."""
    inertia, friction = 6.12e-4, 0.9e-3
    mass = b.set("turns.m", b.suggested("turns.m"))
    radius = b.set("turns.D", b.suggested("turns.D")) / 2
    turning = (mass * G * radius - friction) / (inertia + mass * radius**2)  # rad/s²
    b.read("turns.F", mass * (G - radius * turning), scatter=0.004)
    b.read("turns.k", 60 * np.sqrt(2 * 2 * 2 * math.pi / turning))
    return {"J": inertia, "tau": friction}


def torsion_balance(b: Bench) -> Truth:
    """A damped balance with balls that have a size, pulled by near and far balls; the spot's swing from the balance's own equation."""
    big, near, arm, far, small = 1.502, 0.0465, 0.050, 4.86, 0.0075
    gravity, calm = 6.6743e-11, 900.0  # calm: the time in which the swing falls to 1/e, s
    free = 2 * math.pi / 495.0
    pull = 2 * gravity * big * arm / near**2  # for 1 kg of each small ball
    if b.options["far"] == "counted":
        pull -= 2 * gravity * big * arm * near / (near**2 + 4 * arm**2) ** 1.5
    inertia = 2 * (arm**2 + 0.4 * small**2)
    turned = pull / (inertia * free**2)
    first = 0.212
    second = first + 4 * far * turned
    time = b.set("swing.t", b.suggested("swing.t"))
    damped = math.sqrt(free**2 - 1 / calm**2)
    b.read("swing.s", second + 0.14 * np.exp(-time / calm) * np.cos(damped * time + 3.0))
    for name, value in (("M", big), ("b", near), ("d", arm), ("L", far), ("S_1", first), ("S_2", second)):
        b.quantity(name, value)
    if b.takes("r_s"):
        b.quantity("r_s", small)
    return {"G": gravity, "T": 2 * math.pi / damped, "s_rest": second}


MODELS = {
    "pendulum": pendulum,
    "balanced-rule": balanced_rule,
    "rule-equilibrium": rule_equilibrium,
    "spring": spring,
    "young-modulus": young,
    "conical-pendulum": conical,
    "projectile-range": projectile,
    "newton-second-law": newton,
    "rotating-rod": rotating_rod,
    "stepped-pulley": stepped_pulley,
    "torsion-balance": torsion_balance,
}
