"""Accepted values by name: CODATA's through SciPy, and those that a formula gives."""

from collections.abc import Mapping

from scipy import constants

from cavrel.core.accepted import Accepted, local_gravity, normal_gravity

EDITION = "CODATA 2022"
"""The adjustment that the pinned SciPy ships; a test holds it against SciPy's own word."""

_CODATA = {
    "h_planck": ("Planck constant", "J s", "Planck constant"),
    "e_charge": ("elementary charge", "C", "elementary charge"),
    "c_light": ("speed of light in vacuum", "m/s", "speed of light in vacuum"),
    "mu_0": ("vacuum mag. permeability", "N/A^2", "magnetic constant"),
    "m_electron": ("electron mass", "kg", "electron mass"),
    "G_newton": ("Newtonian constant of gravitation", "m^3/(kg s^2)", "constant of gravitation"),
    "sigma_stefan": ("Stefan-Boltzmann constant", "W/(m^2 K^4)", "Stefan-Boltzmann constant"),
    "R_rydberg": ("Rydberg constant", "1/m", "Rydberg constant"),
}


def table() -> Mapping[str, Accepted]:
    """All named accepted values; ``g_local`` stands here for 45° at sea level and is replaced by what the house rules say."""
    found = {"g_local": local_gravity(normal_gravity(45.0, 0.0), 45.0, 0.0)}
    for name, (codata, unit, label) in _CODATA.items():
        value, _, u = constants.physical_constants[codata]
        found[name] = Accepted(value, u, unit, label, f"{EDITION}, through scipy.constants")
    return found
