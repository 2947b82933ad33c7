"""Commands on documents: nothing is served, nothing is kept."""

import json

import click

from cavrel import catalogue, interface
from cavrel.cli.shared import main, read_json, read_text, refuse
from cavrel.core.document.forecast import forecast_document, setup_of
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import run as runs
from cavrel.core.quantity import units
from cavrel.core.simulate import simulate


@main.command("analyse")
@click.argument("file", metavar="RUN.json")
@click.option("--monte-carlo", "draws", type=int, metavar="N", help="Propagate distributions too, with N draws.")
@click.option(
    "--definition", "definition_file", metavar="FILE.toml", help="Use this definition instead of the one the run names."
)
def analyse_command(file: str, draws: int | None, definition_file: str | None) -> None:
    """Print the result document of a run document ('-' reads standard input)."""
    text = read_text(file)
    try:
        definition = catalogue.read_toml(read_text(definition_file)) if definition_file else None
        document = interface.analyse(read_json(text), definition, draws)
    except CavrelError as fault:
        refuse(file, fault)
        return
    except ValueError as fault:
        refuse("--monte-carlo", CavrelError("", str(fault)))
        return
    click.echo(json.dumps(document, indent=2, ensure_ascii=False))


@main.command()
@click.argument("file", metavar="FILE.toml")
def check(file: str) -> None:
    """Validate an experiment definition: its keys, names, units, and its results against its law."""
    text = read_text(file)
    try:
        definition = catalogue.read_toml(text)
        meanings = catalogue.validate(definition)
        catalogue.rehearse(definition)
    except CavrelError as fault:
        refuse(file, fault)
        return
    reached = f"; the law explains {', '.join(meanings)}" if meanings else ""
    if not catalogue.solved_in_time(definition):
        reached = "; its law was not solved in time, so that slopes stay unexplained"
    click.echo(f"{file}: {definition.title} is a good definition{reached}")


@main.command("simulate")
@click.argument("experiment", metavar="ID")
@click.option("--seed", type=int, default=0, show_default=True, help="The same seed gives the same run.")
@click.option("--fault", "faults", multiple=True, help="Something that goes wrong, by its name in the definition.")
@click.option("--option", "options", multiple=True, metavar="NAME=CHOICE", help="A convention other than the default.")
@click.option("--hidden", is_flag=True, help="Truths of the seed's own, as the simulated apparatus has them.")
def simulate_command(
    experiment: str, seed: int, faults: tuple[str, ...], options: tuple[str, ...], hidden: bool
) -> None:
    """Print a run document from an experiment's simulation."""
    try:
        definition = catalogue.resolve(experiment)
        chosen = dict(option.partition("=")[::2] for option in options)
        document = simulate(catalogue.program_of(definition, options=chosen), abs(seed), faults, chosen, hidden=hidden)
    except CavrelError as fault:
        refuse(experiment, fault)
        return
    click.echo(json.dumps(document, indent=2, ensure_ascii=False))


@main.command("forecast")
@click.argument("file", metavar="RUN.json")
@click.option(
    "--percent", type=float, default=1.0, show_default=True, help="The precision that 'needed' says how to reach."
)
def forecast_command(file: str, percent: float) -> None:
    """Print what the plan of a run document promises, and what would make it better ('-' reads standard input)."""
    try:
        run = runs.load(read_json(read_text(file)))
        definition = catalogue.resolve(run.experiment)
        planner = catalogue.planner(definition, run.options, run.house_rules(), run.accepted, headings=run.headings)
        document = forecast_document(planner, setup_of(run, planner), percent)
    except CavrelError as fault:
        refuse(file, fault)
        return
    click.echo(json.dumps(document, indent=2, ensure_ascii=False))


@main.command("accepted")
def accepted_command() -> None:
    """List the accepted values that definitions may name, each with its uncertainty and source."""
    for name, value in catalogue.accepted().items():
        unit = units.unit(value.unit)
        shown = f"{unit.from_si(value.value):.10g} +- {value.u / unit.factor:.2g} {value.unit}"
        click.echo(f"{name:22} {shown:42} {value.label}; {value.source}")
