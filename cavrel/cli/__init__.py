"""The command line."""

from cavrel.cli import documents, leaving, server
from cavrel.cli.shared import main

__all__ = ["documents", "leaving", "main", "server"]
