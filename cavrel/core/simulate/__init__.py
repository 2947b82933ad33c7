"""The simulation for the real apparatus: run documents drawn from a definition's truths."""

from cavrel.core.simulate.apparatus import simulate
from cavrel.core.simulate.truths import truth

__all__ = ["simulate", "truth"]
