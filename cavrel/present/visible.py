"""What a wavelength of light looks like, and what it is called."""

import numpy as np

_STOPS = [380e-9, 410e-9, 440e-9, 460e-9, 490e-9, 510e-9, 560e-9, 580e-9, 610e-9, 645e-9, 780e-9]
_RED = [0.35, 0.53, 0.20, 0.10, 0.0, 0.0, 0.72, 1.0, 1.0, 1.0, 0.75]
_GREEN = [0.10, 0.18, 0.22, 0.45, 0.85, 0.95, 0.98, 0.90, 0.55, 0.15, 0.05]
_BLUE = [0.45, 0.95, 1.0, 1.0, 0.90, 0.25, 0.10, 0.10, 0.05, 0.08, 0.05]
_NAMES = (
    (430e-9, "violet"),
    (480e-9, "blue"),
    (500e-9, "blue-green"),
    (565e-9, "green"),
    (592e-9, "yellow"),
    (620e-9, "orange"),
)


def name(wave: float) -> str:
    """The usual name of the colour of ``wave``, m."""
    return next((colour for below, colour in _NAMES if wave < below), "red")


def colour(lines: list[tuple[float, float]]) -> str:
    """The colour ``#rrggbb`` on a screen of light made of ``lines`` (wavelength in m, brightness), as bright as a screen shows it."""
    waves, bright = np.array(lines).T
    mixed = np.array([np.interp(waves, _STOPS, part) @ bright for part in (_RED, _GREEN, _BLUE)])
    mixed = mixed / mixed.max()
    return "#" + "".join(f"{round(255 * float(part)):02x}" for part in mixed)
