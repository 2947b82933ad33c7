"""What commands share: the group they belong to, files read, faults said in one line."""

import json
import sys
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any, TypeVar

import click

from cavrel import __version__
from cavrel.core.errors import CavrelError

_Found = TypeVar("_Found")


_OF = {
    "cavrel.cli.course": ("course",),
    "cavrel.cli.documents": ("analyse", "check", "forecast", "simulate", "accepted"),
    "cavrel.cli.export": ("export", "report"),
    "cavrel.cli.server": ("sensor", "serve", "demo", "migrate", "backup", "restore", "import"),
}
"""Which module holds which commands."""


class _Commands(click.Group):
    """Loads the module of the command that is asked for, and no other: the computation takes a second to load."""

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        for module, names in _OF.items():
            if cmd_name in names:
                import_module(module)
        return super().get_command(ctx, cmd_name)

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(name for names in _OF.values() for name in names)


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__)
def main() -> None:
    """Cavrel, the bench book of a physics teaching laboratory."""


def refuse(file: str, fault: CavrelError) -> None:
    click.echo(f"{file}: {fault}".replace("\n", " "), err=True)
    sys.exit(2)


def read_text(file: str) -> str:
    try:
        return sys.stdin.read() if file == "-" else Path(file).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as fault:
        what = fault.strerror if isinstance(fault, OSError) else "is not UTF-8 text"
        refuse(file, CavrelError("", f"cannot be read: {what}"))
        raise AssertionError from fault


def read_json(text: str) -> Any:
    """Raises CavrelError."""
    try:
        return json.loads(text)
    except (json.JSONDecodeError, RecursionError) as fault:
        raise CavrelError("", f"not readable as JSON: {fault}") from fault


def with_database(act: Callable[[str], _Found]) -> _Found:
    """What ``act`` makes with the database's URL, whether a Cavrel serves from it now or not; what stands in the way is said in one line."""
    from cavrel import serve
    from cavrel.store.backup import BackupError

    try:
        with serve.database(alongside=True) as url:
            return act(url)
    except (serve.CannotServe, BackupError) as fault:
        click.echo(f"cavrel: {fault}", err=True)
        sys.exit(1)
