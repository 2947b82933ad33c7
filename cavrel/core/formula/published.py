"""Published formulas that a definition may name in its own: NumPy in, NumPy out, NaN outside the range they are published for."""

import numpy as np
from numpy.typing import NDArray
from scipy import special

Array = NDArray[np.float64]


def water_density(kelvin: Array) -> Array:
    """Density of air-free water at 101 325 Pa, kg/m³, from 0 to 40 °C, any shape.

    Tanaka, Girard, Davis, Peuto, Bignell, Metrologia 38 (2001) 301, equation 1.
    """
    celsius = np.asarray(kelvin) - 273.15
    density = 999.974950 * (1 - (celsius - 3.983035) ** 2 * (celsius + 301.797) / (522528.9 * (celsius + 69.34881)))
    return np.asarray(np.where((celsius >= -1e-9) & (celsius <= 40 + 1e-9), density, np.nan))


def sound_speed(kelvin: Array) -> Array:
    """Speed of sound in dry air, m/s, as of an ideal gas: 331.3·sqrt(T/273.15 K) (Kaye and Laby, 2.4.1), any shape."""
    return np.asarray(331.3 * np.sqrt(np.asarray(kelvin) / 273.15))


def nagaoka(shape: Array) -> Array:
    """Nagaoka's factor of a coil of one layer, diameter over length ``shape``, any shape: inductance over that of the long-coil formula.

    Lorenz's formula for a current sheet, as in Nagaoka, J. Coll. Sci. Tokyo 27 (1909) no. 6, with complete elliptic integrals. Below a
    shape of 1e-4 its first-order series 1 - 4·shape/(3π), which there is exact to nine figures.
    """
    shape = np.asarray(shape, float)
    safe = np.where(shape > 1e-4, shape, 1.0)
    m = safe**2 / (1 + safe**2)
    root = np.sqrt(1 + safe**2)
    first, second = special.ellipk(m), special.ellipe(m)
    whole = 4 / (3 * np.pi * safe**2) * (root * (first - second + safe**2 * second) - safe**3)
    factor = np.where(shape > 1e-4, whole, 1 - 4 * shape / (3 * np.pi))
    return np.asarray(np.where(shape >= 0, factor, np.nan))
