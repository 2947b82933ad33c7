"""Accepted values: what a result is compared with, with an uncertainty and a source; and those that a formula gives."""

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ReferenceValue:
    """An accepted value: ``value`` and standard uncertainty ``u``, SI; ``unit`` for showing; ``label`` and ``source`` for people."""

    value: float
    u: float
    unit: str
    label: str
    source: str


LOCAL_GRAVITY_U = 5e-4
"""m/s². Rock and relief move g about the formula by a few tens of milligal (common practice, no source)."""


def normal_gravity(latitude: float, height: float) -> float:
    """Free-fall acceleration in m/s² at ``latitude`` degrees and ``height`` metres.

    Somigliana's closed formula on the WGS 84 ellipsoid (NIMA TR8350.2, 2000, eq. 4-1 and table 3.4) with the free-air term
    -3.086e-6 per second squared.
    """
    sine2 = math.sin(math.radians(latitude)) ** 2
    surface = 9.7803253359 * (1 + 0.00193185265241 * sine2) / math.sqrt(1 - 0.00669437999013 * sine2)
    return surface - 3.086e-6 * height


def local_gravity(g: float, latitude: float | None, height: float | None) -> ReferenceValue:
    """The accepted value ``g_local``: computed for a place, or as the house gives it when ``latitude`` is None."""
    if latitude is None or height is None:
        return ReferenceValue(g, 0.0, "m/s^2", f"{g:g} m/s², from the house rules", "house rules")
    side = "N" if latitude >= 0 else "S"
    place = f"{abs(latitude):g}° {side}, " + ("sea level" if abs(height) < 0.5 else f"{height:g} m above sea level")
    return ReferenceValue(g, LOCAL_GRAVITY_U, "m/s^2", place, "WGS 84 normal gravity with the free-air term")
