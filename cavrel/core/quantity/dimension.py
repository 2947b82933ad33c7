"""Dimensions: exponents of the base quantities, and the coherent unit of each."""

from dataclasses import dataclass
from fractions import Fraction

_BASE_ORDER = ("[mass]", "[length]", "[time]", "[current]", "[temperature]", "[substance]", "[luminosity]")
BASE_UNIT = {
    "[mass]": "kg",
    "[length]": "m",
    "[time]": "s",
    "[current]": "A",
    "[temperature]": "K",
    "[substance]": "mol",
    "[luminosity]": "cd",
}


@dataclass(frozen=True, slots=True)
class Dimension:
    """Exponents of the base quantities, as sorted pairs ``(name, exponent)``; none for a plain number."""

    powers: tuple[tuple[str, Fraction], ...] = ()

    def __mul__(self, other: "Dimension") -> "Dimension":
        total = dict(self.powers)
        for name, power in other.powers:
            total[name] = total.get(name, Fraction(0)) + power
        return Dimension(tuple(sorted((n, p) for n, p in total.items() if p)))

    def __pow__(self, exponent: Fraction) -> "Dimension":
        return Dimension(tuple((n, p * exponent) for n, p in self.powers if p * exponent))

    def __truediv__(self, other: "Dimension") -> "Dimension":
        return self * other ** Fraction(-1)

    @property
    def plain(self) -> bool:
        """True for a pure number."""
        return not self.powers

    def si(self) -> str:
        """The coherent SI unit of this dimension as a text this module reads, e.g. ``s^2/m``; empty for a number."""
        powers = dict(self.powers)
        over = [_power(BASE_UNIT[n], powers[n]) for n in _BASE_ORDER if powers.get(n, 0) > 0]
        under = [_power(BASE_UNIT[n], -powers[n]) for n in _BASE_ORDER if powers.get(n, 0) < 0]
        if not under:
            return " ".join(over)
        below = under[0] if len(under) == 1 else f"({' '.join(under)})"
        return f"{' '.join(over) or '1'}/{below}"

    def named(self) -> str:
        """The same with the names that units have: ``N`` for ``kg m/s^2``. What may be an energy or a torque is ``N m``."""
        return _NAMED_SI.get(self.si(), self.si())

    def words(self) -> str:
        """For error messages: ``m/s^2``, or ``a plain number``."""
        return self.si() or "a plain number"


PLAIN = Dimension()
_NAMED_SI = {
    "kg m/(s^2 A)": "N/A",
    "s^2/kg": "m/N",
    "kg m/s^2": "N",
    "kg m^2/s^2": "N m",
    "kg m^2/s^3": "W",
    "kg/(m s^2)": "Pa",
    "kg m^2/(s^3 A)": "V",
    "kg m^2/(s^3 A^2)": "Ω",
    "kg m^2/(s^2 A^2)": "H",
    "kg/(s^2 A)": "T",
    "kg/s^2": "N/m",
    "s^3 A^2/(kg m^2)": "1/Ω",
}


def _power(unit: str, power: Fraction) -> str:
    return unit if power == 1 else f"{unit}^{power}"
