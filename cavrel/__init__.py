"""Cavrel: the bench book of a physics teaching laboratory."""

__version__ = "0.1.0"
