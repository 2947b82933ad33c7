"""The laboratory's laboratory: its own instruments, accepted values and house rules."""

from cavrel.core.laboratory.document import EMPTY, FORMAT, Laboratory, OwnInstrument, OwnValue, load
from cavrel.core.laboratory.selection import NOTHING, Selection, taken

__all__ = ["EMPTY", "FORMAT", "NOTHING", "Laboratory", "OwnInstrument", "OwnValue", "Selection", "load", "taken"]
