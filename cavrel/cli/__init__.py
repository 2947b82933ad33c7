"""The command line."""

from cavrel.cli import documents, server
from cavrel.cli.shared import main

__all__ = ["documents", "main", "server"]
