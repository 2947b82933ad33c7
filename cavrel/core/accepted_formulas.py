"""Accepted values that a published formula gives."""


def water_density(celsius: float) -> float:
    """Density of air-free water at 101 325 Pa in kg/m³ from 0 to 40 °C: Tanaka, Girard, Davis, Peuto, Bignell, Metrologia 38 (2001) 301, eq. 1.

    Raises ValueError outside that range.
    """
    if not 0 <= celsius <= 40:
        raise ValueError(f"the density of water is known from 0 to 40 °C, not at {celsius:g} °C")
    return 999.974950 * (1 - (celsius - 3.983035) ** 2 * (celsius + 301.797) / (522528.9 * (celsius + 69.34881)))


def sound_speed(celsius: float) -> float:
    """Speed of sound in dry air in m/s, as of an ideal gas: 331.3·sqrt(1 + t/273.15) (Kaye and Laby, 2.4.1)."""
    return float(331.3 * (1 + celsius / 273.15) ** 0.5)
