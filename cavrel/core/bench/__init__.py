"""The apparatus of a run that answers reading by reading, as a bench on the screen needs it."""

from cavrel.core.bench.apparatus import Bench
from cavrel.core.bench.faults import instrument_faults
from cavrel.core.bench.hidden import truths
from cavrel.core.bench.shown import Found, NotYet, Shown

__all__ = ["Bench", "Found", "NotYet", "Shown", "instrument_faults", "truths"]
