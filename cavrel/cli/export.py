"""Commands that write a run, or a whole course, as files: a run is named by its number in the database, or by a file that holds one."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from cavrel.cli.shared import main, refuse, with_database
from cavrel.core.errors import CavrelError
from cavrel.core.words import counted

if TYPE_CHECKING:
    from cavrel.service.run_view import RunView

FORMATS = ["pdf", "html", "package", "xlsx", "ods", "notebook", "tex", "csv", "svg", "json"]


def _opened(run: str) -> "RunView":
    """A run of the database, or of a file. Raises CavrelError."""
    from cavrel.service import run_import
    from cavrel.service.opening import open_run
    from cavrel.store.pool import open_pool

    if run.isascii() and run.isdigit() and not Path(run).exists():

        def find(url: str) -> "RunView | None":
            with open_pool(url, size=2) as pool:
                return open_run(pool, int(run))

        found = with_database(find)
        if found is None:
            raise CavrelError("", f"there is no run {run} in this database")
        return found
    try:
        body = sys.stdin.buffer.read() if run == "-" else Path(run).read_bytes()
    except OSError as fault:
        raise CavrelError("", f"cannot be read: {fault.strerror}") from fault
    return run_import.alone(body)


def _write(run: str, kind: str, form: str, paper: str, table: str, out: str) -> None:
    from cavrel.web import files
    from cavrel.web.app import plain_app

    try:
        opened = _opened(run)
        with plain_app().app_context():
            body = files.made(opened, kind, files.Wish(form=form, paper=paper, table=table))
    except CavrelError as fault:
        refuse(run, fault)
        return
    try:
        with click.open_file(out, "wb") as sink:
            sink.write(body)
    except OSError as fault:
        refuse("--out", CavrelError("", f"cannot write {out}: {fault.strerror}"))


@main.command("report")
@click.argument("run")
@click.option("--format", "kind", type=click.Choice(FORMATS), default="pdf", show_default=True)
@click.option("--form", default="full", show_default=True, help="Of report: full, one-page or exam.")
@click.option("--paper", type=click.Choice(["a4", "letter"]), default="a4", show_default=True)
@click.option("--table", default="", metavar="NAME", help="Which table, with --format csv; which fit, with svg.")
@click.option("--out", metavar="FILE", default="-", show_default=True, help="Where to write it; - for standard output.")
def report_command(run: str, kind: str, form: str, paper: str, table: str, out: str) -> None:
    """Write a run up: RUN is its number, a run document or a data package ('-' reads standard input)."""
    _write(run, kind, form, paper, table, out)


@main.command("export")
@click.argument("run", required=False, default="")
@click.option("--format", "kind", type=click.Choice(FORMATS), default="package", show_default=True)
@click.option("--table", default="", metavar="NAME", help="Which table, with --format csv; which fit, with svg.")
@click.option(
    "--course",
    is_flag=False,
    flag_value="",
    default=None,
    metavar="[NAME]",
    help="A whole course as one archive, instead of a run; by its name where there are several.",
)
@click.option("--out", metavar="FILE", default="-", show_default=True, help="Where to write it; - for standard output.")
def export_command(run: str, kind: str, table: str, course: str | None, out: str) -> None:
    """Write a run's tables and all that they come from: RUN is its number, a run document or a data package."""
    if course is not None:
        _course(course, out)
    elif not run:
        refuse("RUN", CavrelError("", "say which run, by its number or a file; or --course for all of them"))
    else:
        _write(run, kind, "", "a4", table, out)


def _course(name: str, out: str) -> None:
    from cavrel.present import export
    from cavrel.service import archive
    from cavrel.store.pool import open_pool

    if out == "-":
        refuse("--out", CavrelError("", "an archive of a course needs a file to go to"))

    def write(url: str) -> int:
        with open_pool(url, size=2) as pool:
            return archive.course(
                pool, name, Path(out), lambda opened: (f"{export.file_name(opened)}.zip", export.package_of(opened))
            )

    try:
        click.echo(f"{counted(with_database(write), 'run')} in {out}")
    except OSError as fault:
        refuse("--out", CavrelError("", f"cannot write {out}: {fault.strerror}"))
    except CavrelError as fault:
        refuse("export", fault)
