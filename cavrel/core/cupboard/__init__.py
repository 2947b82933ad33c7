"""The laboratory's cupboard: its own instruments, accepted values and house rules."""

from cavrel.core.cupboard.document import EMPTY, FORMAT, Cupboard, OwnInstrument, OwnValue, load
from cavrel.core.cupboard.taken import NOTHING, Taken, taken

__all__ = ["EMPTY", "FORMAT", "NOTHING", "Cupboard", "OwnInstrument", "OwnValue", "Taken", "load", "taken"]
