"""The slip finder: what may have gone wrong on a sheet, how likely each cause is, and what the result would become."""

from cavrel.core.slips.finder import find
from cavrel.core.slips.records import Alternative, Found, Place, Suspect

__all__ = ["Alternative", "Found", "Place", "Suspect", "find"]
