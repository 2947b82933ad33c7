"""Cavrel: the bench book of a physics teaching laboratory.

For notebooks and scripts: `cavrel.analyse(document)` and `cavrel.fit(x, y, u=...)`, described in `docs/notebooks.md`.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from cavrel.interface import Estimate, Fit, analyse, fit

__version__ = "0.1.0"
__all__ = ["Estimate", "Fit", "__version__", "analyse", "fit"]


def __getattr__(name: str) -> Any:
    """The engine is loaded when it is first asked for: a server that starts has no use for it."""
    if name in ("Estimate", "Fit", "analyse", "fit"):
        from cavrel import interface

        return getattr(interface, name)
    raise AttributeError(f"module 'cavrel' has no attribute '{name}'")
