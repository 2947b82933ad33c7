"""Axes: a range, round ticks, and the way from a value to a place on the paper."""

import math
from dataclasses import dataclass

from cavrel.core.quantity.rounding import MINUS, power

STEPS = (1.0, 2.0, 2.5, 5.0, 10.0)
FROM_ZERO = 0.6
"""Data whose smallest value is under this share of the largest are drawn from zero: the eye then sees proportion."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Scale:
    """Values along pixels.

    ``low``: value at ``start``.
    ``high``: value at ``end``.
    ``step``: between ticks.
    ``exponent``: labels are times 10 to this.
    ``start``: pixel.
    ``end``: pixel.
    """

    low: float
    high: float
    step: float
    exponent: int
    start: float
    end: float

    def at(self, value: float) -> float:
        """Where a value stands, in pixels."""
        return self.start + (value - self.low) / (self.high - self.low) * (self.end - self.start)

    def ticks(self) -> list[float]:
        first = math.ceil(self.low / self.step - 1e-9)
        last = math.floor(self.high / self.step + 1e-9)
        return [i * self.step for i in range(first, last + 1)]

    def text(self, value: float) -> str:
        """A tick's label."""
        step = self.step / 10.0**self.exponent
        decimals = max(0, -math.floor(math.log10(step) + 1e-9))
        if abs(step * 10**decimals - round(step * 10**decimals)) > 1e-6:
            decimals += 1
        shown = f"{value / 10.0**self.exponent:.{decimals}f}"
        return "0" if float(shown) == 0 else shown.replace("-", MINUS)

    def unit(self, text: str) -> str:
        """The unit with the power of ten that the labels leave out: ``10⁻³ m``."""
        if not self.exponent:
            return text
        return f"{power(self.exponent).removeprefix(' × ')} {text}".strip()


def nice_step(span: float, ticks: int) -> float:
    """The smallest round step that gives at most ``ticks`` steps over ``span``."""
    rough = span / ticks
    decade = 10.0 ** math.floor(math.log10(rough))
    return next(s * decade for s in STEPS if s * decade >= rough * (1 - 1e-9))


def fit_scale(
    low: float, high: float, start: float, end: float, ticks: int, zero: bool = True, tight: bool = False
) -> Scale:
    """A scale that holds ``low`` to ``high``, widened to whole steps; ``zero`` lets it begin at zero where data reach near it.

    ``tight`` widens by a little instead, for number lines.
    """
    if not (math.isfinite(low) and math.isfinite(high)):
        low, high = 0.0, 1.0
    if zero and low > 0 and low < FROM_ZERO * high:
        low = 0.0
    if zero and high < 0 and high > FROM_ZERO * low:
        high = 0.0
    if high - low <= 1e-12 * max(abs(low), abs(high)):
        middle, half = low, abs(low) * 0.1 or 1.0
        low, high = middle - half, middle + half
    step = nice_step(high - low, ticks)
    if not tight:
        low, high = math.floor(low / step + 1e-9) * step, math.ceil(high / step - 1e-9) * step
    largest = max(abs(low), abs(high))
    decade = math.floor(math.log10(largest))
    exponent = decade if decade >= 5 or decade <= -4 else 0
    return Scale(low=low, high=high, step=step, exponent=exponent, start=start, end=end)
