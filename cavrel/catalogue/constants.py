"""Accepted values by name: CODATA's through SciPy, g of the place, and handbook values from ``accepted.toml``."""

import tomllib
from collections.abc import Mapping
from pathlib import Path

from scipy import constants

from cavrel.core.definition.reference import ReferenceValue, local_gravity, normal_gravity
from cavrel.core.quantity import units

EDITION = "CODATA 2022"
"""The adjustment that the pinned SciPy ships; a test holds it against SciPy's own word."""

_HANDBOOK = Path(__file__).resolve().parent / "accepted.toml"

_CODATA = {
    "h_planck": ("Planck constant", "J s", "Planck constant"),
    "e_charge": ("elementary charge", "C", "elementary charge"),
    "c_light": ("speed of light in vacuum", "m/s", "speed of light in vacuum"),
    "mu_0": ("vacuum mag. permeability", "N/A^2", "magnetic constant"),
    "m_electron": ("electron mass", "kg", "electron mass"),
    "m_proton": ("proton mass", "kg", "proton mass"),
    "e_over_m": ("electron charge to mass quotient", "C/kg", "charge to mass of the electron"),
    "G_newton": ("Newtonian constant of gravitation", "m^3/(kg s^2)", "gravitational constant"),
    "sigma_stefan": ("Stefan-Boltzmann constant", "W/(m^2 K^4)", "Stefan-Boltzmann constant"),
    "R_rydberg": ("Rydberg constant", "1/m", "Rydberg constant"),
    "R_gas": ("molar gas constant", "J/(mol K)", "molar gas constant"),
}


def table() -> Mapping[str, ReferenceValue]:
    """All named accepted values; ``g_local`` stands here for 45° at sea level and is replaced by what the house rules say."""
    found = {"g_local": local_gravity(normal_gravity(45.0, 0.0), 45.0, 0.0)}
    for name, (codata, unit, label) in _CODATA.items():
        value, _, u = constants.physical_constants[codata]
        # The electron's charge is negative; what a school compares is its size.
        found[name] = ReferenceValue(abs(value), u, unit, label, f"{EDITION}, through scipy.constants")
    for name, entry in tomllib.loads(_HANDBOOK.read_text(encoding="utf-8")).items():
        value, unit_of = units.quantity(entry["value"])
        found[name] = ReferenceValue(
            value, units.quantity(entry["u"])[0], unit_of.text, entry["label"], entry["source"]
        )
    return found
