"""Formulas: read, check for dimensions, evaluate over a batch, print as text, as MathML.

One tree (`nodes`) serves all; `parse` makes it, `dimension` types it, `evaluate` runs it, `text` and `mathml` print it.
"""

from cavrel.core.formula.nodes import Node
from cavrel.core.formula.parse import parse, parse_law

__all__ = ["Node", "parse", "parse_law"]
