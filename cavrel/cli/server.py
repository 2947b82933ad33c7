"""Commands around a server: it is started, a sensor column_role into it, its database is brought up to date, kept and put back."""

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from cavrel.cli.shared import main, refuse, with_database
from cavrel.core.errors import CavrelError
from cavrel.core.words import counted

if TYPE_CHECKING:
    from cavrel.store.backup import Kept
    from cavrel.store.pool import Pool


@main.command("sensor")
@click.argument("run", type=int)
@click.option(
    "--simulation",
    "kind",
    type=click.Choice(["cart", "swing"]),
    default="cart",
    show_default=True,
    help="What it looks at.",
)
@click.option("--server", default="http://127.0.0.1:8090", show_default=True, help="Where Cavrel is served.")
@click.option("--rate", type=click.FloatRange(1, 1000), default=100.0, show_default=True, help="Samples a second.")
@click.option("--seconds", type=click.FloatRange(0.1, 3600), default=60.0, show_default=True, help="How long.")
@click.option(
    "--size",
    type=float,
    default=0.5,
    show_default=True,
    help="Acceleration of the cart in m/s², or width of the swing.",
)
@click.option("--block", type=click.IntRange(1, 1000), default=5, show_default=True, help="Samples sent at a time.")
@click.option(
    "--speed", type=click.FloatRange(0.1, 100), default=1.0, show_default=True, help="How much faster than it would be."
)
@click.option("--seed", type=int, default=0, show_default=True)
def sensor_command(
    run: int, kind: str, server: str, rate: float, seconds: float, size: float, block: int, speed: float, seed: int
) -> None:
    """Send samples into a run as a sensor would, once a page of it listens."""
    from cavrel import sensor

    try:
        samples = sensor.STAND_INS[kind](rate, seconds, size, seed)
        kept = sensor.play(server.rstrip("/"), run, samples, block, speed, lambda words: click.echo(words, err=True))
    except CavrelError as fault:
        refuse("sensor", fault)
        return
    click.echo(f"{kept} samples kept")


@main.command("serve")
def serve_command() -> None:
    """Serve Cavrel. CAVREL_PORT, CAVREL_DATA and DATABASE_URL say where."""
    _serve(None)


@main.command("demo")
def demo_command() -> None:
    """Serve Cavrel with the demonstration course loaded."""
    from cavrel import demo

    _serve(demo.load)


@main.command("migrate")
def migrate_command() -> None:
    """Bring the database up to date and stop."""
    from cavrel import serve

    try:
        with serve.database() as url:
            serve.prepare(url)
    except serve.CannotServe as fault:
        click.echo(f"cavrel: {fault}", err=True)
        sys.exit(1)


def _serve(load: "Callable[[Pool], None] | None") -> None:
    from cavrel import serve

    try:
        serve.serve(load)
    except serve.CannotServe as fault:
        click.echo(f"cavrel: {fault}", err=True)
        sys.exit(1)
    except KeyboardInterrupt:
        pass


@main.command("backup")
@click.argument("file", type=click.Path(path_type=Path))
def backup_command(file: Path) -> None:
    """Write everything in the database to FILE, while people go on working."""
    from cavrel.store import backup

    _said(with_database(lambda url: backup.backup(url, file)), f"kept in {file}")


@main.command("restore")
@click.argument("file", type=click.Path(path_type=Path))
def restore_command(file: Path) -> None:
    """Put a backup into an empty database, and hold every table against what was written."""
    from cavrel.store import backup

    _said(with_database(lambda url: backup.restore(url, file)), f"put back from {file}, every table compared")


@main.command("import")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--course",
    default="",
    metavar="NAME",
    help="Into which course, by its name in addresses; the one of an archive, or the only one, by default.",
)
@click.option("--bench", default="", metavar="NAME", help="For which bench; as the file says by default.")
def import_command(file: Path, course: str, bench: str) -> None:
    """Import a run from a data package or a run document, or every run of a course's archive."""
    from cavrel.core.document import unpack
    from cavrel.serve import prepare
    from cavrel.service import run_import
    from cavrel.store.pool import open_pool

    try:
        body = file.read_bytes()
    except OSError as fault:
        refuse(str(file), CavrelError("", f"cannot be read: {fault.strerror}"))
        return

    def bring(url: str) -> list[int]:
        prepare(url)
        with open_pool(url, size=2) as pool:
            into = course or run_import.begin_course(pool, body)
            return [
                run_import.import_run(pool, one, name, into, bench, "import")
                for name, one in unpack.runs_in(body, file.name).items()
            ]

    try:
        numbers = with_database(bring)
    except CavrelError as fault:
        refuse(str(file), fault)
        return
    click.echo(
        f"{file} is run {numbers[0]} now"
        if len(numbers) == 1
        else f"{len(numbers)} runs of {file}: {numbers[0]} to {numbers[-1]}"
    )


def _said(kept: "Kept", what: str) -> None:
    runs, entries = kept.rows.get("run", 0), kept.rows.get("entry", 0)
    click.echo(f"{counted(runs, 'run')} with {counted(entries, 'entry', 'entries')} of the logbook {what}")
