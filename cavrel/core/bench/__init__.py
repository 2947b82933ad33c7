"""The apparatus of a run that answers reading by reading, as a bench on the screen needs it."""

from cavrel.core.bench.apparatus import Bench, Found, NotYet, Shown, instrument_faults, truths

__all__ = ["Bench", "Found", "NotYet", "Shown", "instrument_faults", "truths"]
