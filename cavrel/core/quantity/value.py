"""A measured value on its way to a person: number, uncertainty and unit stay numbers until they are written here, once."""

import math
from dataclasses import dataclass

from cavrel.core.quantity.rounding import MINUS, THIN, Rounded, at_decade, in_step, power, significant, with_u
from cavrel.core.quantity.units import Unit


def amount_text(value: float, unit: Unit, figures: int, difference: bool = False) -> str:
    """``0.11 V``: ``value``, SI, in ``unit`` to so many figures. ``difference``: of two readings of its scale, so that 5 K is 5 °C. Every text that
    says an amount without an uncertainty gets number and unit from here, together."""
    own = unit.difference if difference else unit
    return f"{significant(own.from_si(value), figures)} {own.pretty}".strip()


def exact_text(value: float, unit: Unit) -> str:
    """``100 cm``: the same without figures that nobody counted, for what was set, counted or printed on a scale."""
    return f"{unit.from_si(value):.10g} {unit.pretty}".strip()


@dataclass(frozen=True, slots=True, kw_only=True)
class MeasuredValue:
    """A measured value (JCGM 200, 2.10) with its standard uncertainty.

    ``value``: SI.
    ``u``: standard uncertainty, SI; NaN where none is known.
    ``unit``: to write it in.
    ``dof``: effective degrees of freedom of ``u``.
    ``rule``: the house rule of rounding.
    """

    value: float
    u: float
    unit: Unit
    dof: float = math.inf
    rule: str = "one_or_two"

    @property
    def number(self) -> float:
        """The value in ``unit``."""
        return self.unit.from_si(self.value)

    def _rounded(self) -> Rounded:
        return in_step(self.number, self.u / self.unit.factor, self.rule)

    def _with_unit(self, body: str) -> str:
        return (f"{body}{THIN}{self.unit.pretty}" if self.unit.text and body else body).replace("-", MINUS)

    def text(self, ascii_only: bool = False) -> str:
        """``9.79 ± 0.04 m/s²``; empty where there is no value."""
        return with_u(self.number, self.u / self.unit.factor, self.unit.text, self.rule, ascii_only)

    def bare(self) -> str:
        """``9.79 ± 0.04``, ``(5.7 ± 0.2) × 10⁻⁸``: the text without its unit."""
        return with_u(self.number, self.u / self.unit.factor, "", self.rule)

    def value_text(self, spread: float | None = None) -> str:
        """``9.79 m/s²``: the value alone, rounded in step with its uncertainty, or with how far it spreads, SI."""
        found = self.digits(spread)
        return self._with_unit(found) if found else ""

    def digits(self, spread: float | None = None) -> str:
        """The same without its unit."""
        found = self._rounded() if spread is None else in_step(self.number, spread / self.unit.factor, self.rule)
        return f"{found.value}{power(found.exponent)}".replace("-", MINUS) if found.value else ""

    def uncertainty(self, u: float | None = None) -> str:
        """``± 0.04 m/s²``, ``± 0.09 × 10⁻⁸ W``: this value's uncertainty, or another one for this value, SI."""
        found = in_step(self.number, (self.u if u is None else u) / self.unit.factor, self.rule)
        return self._with_unit(f"± {found.u}{power(found.exponent)}") if found.u else ""

    def interval(self, low: float, high: float) -> str:
        """``9.71 to 9.87 m/s²``, ``(5.4 to 5.9) × 10⁻⁸ W``: two values, SI, on the scale and to the last figure of this one."""
        if not (math.isfinite(low) and math.isfinite(high)):
            return ""
        ends = self.unit.from_si(low), self.unit.from_si(high)
        # Where no u says how far to write, a hundredth of the interval does.
        u = self.u / self.unit.factor
        found = in_step(
            self.number if math.isfinite(self.number) else ends[0], u if u > 0 else abs(ends[1] - ends[0]) / 4
        )
        first, second = (at_decade(end, found.last, found.exponent) for end in ends)
        body = f"{first} to {second}"
        return self._with_unit(f"({body}){power(found.exponent)}" if found.exponent else body)
