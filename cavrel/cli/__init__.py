"""The command line."""

from cavrel.cli.shared import main as main
