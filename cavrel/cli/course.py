"""Commands for courses: begun, listed, their benches added, renamed and taken out."""

from collections.abc import Callable
from typing import TYPE_CHECKING, TypeVar
from uuid import uuid4

import click

from cavrel.cli.shared import main, refuse, with_database
from cavrel.core.errors import CavrelError
from cavrel.core.words import counted

if TYPE_CHECKING:
    from cavrel.store.courses import Bench, Course
    from cavrel.store.pool import Connection

_Found = TypeVar("_Found")


@main.group("course")
def course() -> None:
    """Begin a course, list courses, change their benches."""


def _inside(act: "Callable[[Connection], _Found]") -> _Found:
    """What ``act`` makes in one transaction of the database, brought up to date before; a fault is said in one line."""
    from cavrel.serve import prepare
    from cavrel.store.pool import open_pool, transaction

    def done(url: str) -> _Found:
        prepare(url)
        with open_pool(url, size=2) as pool, transaction(pool) as connection:
            return act(connection)

    try:
        return with_database(done)
    except CavrelError as fault:
        refuse("course", fault)
        raise AssertionError from fault


@course.command("new")
@click.argument("title")
@click.option("--place", default="", help="Where it is held.")
@click.option("--begins", default="", metavar="DAY", help="Its first day, such as 2026-09-01.")
@click.option("--ends", default="", metavar="DAY", help="Its last day.")
@click.option(
    "--zone", default="", metavar="ZONE", help="Its time zone, such as Europe/London; the server's by default."
)
@click.option("--bench", "benches", multiple=True, metavar="NAME", help="A bench; once for each.")
@click.option("--benches", "many", default="6", show_default=True, help="How many, where none is named.")
@click.option(
    "--rules", "preset", default="careful", show_default=True, help="House rules: first, careful, university."
)
@click.option("--g", default="", metavar="NUMBER", help="Free-fall acceleration here in m/s²; else by the place.")
@click.option("--latitude", default="", help="In degrees, north positive.")
@click.option("--height", default="", help="Above the sea in metres.")
@click.option(
    "--instrument", "instruments", multiple=True, metavar="KIND[=COUNT]", help="In the laboratory; once for each."
)
def new(benches: tuple[str, ...], many: str, instruments: tuple[str, ...], g: str, **said: str) -> None:
    """Begin the course TITLE with its benches, house rules and instruments."""
    from cavrel import catalogue
    from cavrel.core.laboratory.begin import key_of
    from cavrel.service import courses

    typed = {**said, "many": many, "naming": "own" if benches else "numbers", "names": "\n".join(benches), "g": g}
    typed |= {"g-by": "number" if g else "place"}
    for one in instruments:
        kind, _, count = one.partition("=")
        if kind not in catalogue.instruments():
            known = ", ".join(sorted(catalogue.instruments()))
            refuse("--instrument", CavrelError("", f"there is no kind '{kind}'; there are {known}"))
        typed |= {f"instrument-{key_of(kind)}": "yes", f"count-{key_of(kind)}": count}
    made = _inside(lambda connection: courses.make(connection, courses.read_new(typed), uuid4()))
    click.echo(f"begun: {made.title}, at /courses/{made.slug}/")


@course.command("list")
def list_() -> None:
    """Every course with its benches."""
    from cavrel.store import courses as store

    def found(connection: "Connection") -> "list[tuple[Course, list[Bench]]]":
        return [(one, store.all_benches(connection, one.id)) for one in store.courses(connection)]

    for one, benches in _inside(found):
        days = f", {one.begins or '…'} to {one.ends or '…'}" if one.begins or one.ends else ""
        click.echo(f"{one.slug}: {one.title}{f', {one.place}' if one.place else ''}{days}")
        for bench in benches:
            click.echo(f"  {bench.name}, {counted(bench.runs, 'run')}{', taken out' if bench.away else ''}")


@course.command("bench")
@click.argument("course")
@click.argument("act", type=click.Choice(["add", "rename", "remove"]))
@click.argument("bench")
@click.argument("name", required=False, default="")
def bench_command(course: str, act: str, bench: str, name: str) -> None:
    """Add BENCH to COURSE, call it NAME, or take it out of the list; its runs stay."""
    from cavrel.service import courses
    from cavrel.store import courses as store

    def done(connection: "Connection") -> str:
        one = store.by_slug(connection, course)
        if one is None:
            known = ", ".join(c.slug for c in store.courses(connection)) or "none yet"
            raise CavrelError("", f"there is no course '{course}'; there is {known}")
        if act == "add":
            return f"{courses.add_bench(connection, one, bench).name} is a bench of {one.title}"
        found = next((b for b in store.all_benches(connection, one.id) if b.name == bench), None)
        if found is None:
            raise CavrelError("", f"there is no bench '{bench}' in {one.title}")
        if act == "rename":
            courses.rename_bench(connection, one, found, name)
            return f"{bench} is called {name} now"
        courses.take_out_bench(connection, one, found)
        return f"{bench} is taken out of the list; what it measured stays"

    click.echo(_inside(done))
