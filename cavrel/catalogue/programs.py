"""Programs compiled from definitions with a run's own instruments, conventions, values and headings; planners that try its plans."""

from collections.abc import Mapping
from dataclasses import replace
from functools import lru_cache

from cavrel.catalogue.lists import accepted, families, instruments
from cavrel.core import definition as definitions
from cavrel.core.definition import Definition
from cavrel.core.definition.headings import Heading, headed
from cavrel.core.definition.program import compile_program
from cavrel.core.definition.rules import HouseRules
from cavrel.core.definition.sources import source_of
from cavrel.core.definition.steps import EarlierGauge, Program
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.laboratory import EMPTY, Laboratory
from cavrel.core.laboratory.selection import CourseValue
from cavrel.core.logbook.run import EarlierText, RunDocument
from cavrel.core.plan.improvements import Family, Planner
from cavrel.core.remember import by_identity
from cavrel.core.slips import Alternative
from cavrel.core.words import within


@by_identity(512)
def program_of(
    definition: Definition,
    overrides: Mapping[str, Mapping[str, str]] | None = None,
    options: Mapping[str, str] | None = None,
    own_values: Mapping[str, CourseValue] | None = None,
    headings: Mapping[str, Heading] | None = None,
    earlier: Mapping[str, tuple[EarlierText, ...]] | None = None,
) -> Program:
    """The compiled program, kept for the next call; ``overrides`` are a run's own instrument fields, ``options`` its conventions,
    ``own_values`` the laboratory's accepted values, ``headings`` what its table calls its columns, ``earlier`` the instruments that others took
    the place of.

    Raises DefinitionError.
    """
    if definition.options or options:
        definition = definitions.choose(definition, options or {})
    if headings:
        definition = headed(definition, headings)
    own = tuple(sorted((name, tuple(sorted(fields.items()))) for name, fields in (overrides or {}).items()))
    text = definition.model_dump_json(by_alias=True)
    values = tuple(sorted((own_values or {}).items(), key=lambda item: item[0]))
    program = _program(text, own, values)
    if not earlier:
        return program
    gauges: dict[str, tuple[EarlierGauge, ...]] = {}
    for name, before in earlier.items():
        if name not in program.gauges:
            raise DefinitionError(f"taken_with.{name}", "the experiment has no such instrument")
        others = tuple(one for one in own if one[0] != name)
        gauges[name] = tuple(
            EarlierGauge(
                gauge=_program(text, (*others, (name, fields)) if fields else others, values).gauges[name],
                zero=zero,
                places=frozenset(places),
            )
            for fields, zero, places in before
        )
    return replace(program, earlier=gauges)


@lru_cache(maxsize=256)
def _program(
    text: str,
    overrides: tuple[tuple[str, tuple[tuple[str, str], ...]], ...],
    own_values: tuple[tuple[str, CourseValue], ...],
) -> Program:
    document = Definition.model_validate_json(text).document()
    for name, fields in overrides:
        if name not in document.get("instruments", {}):
            raise DefinitionError(f"instruments.{name}", "the experiment has no such instrument")
        own = dict(fields)
        kind = own.get("kind", "")
        # Another kind of the list is another instrument: nothing of the one it stands in for is left. Any other is only a name.
        usual = {**instruments()[kind], "kind": kind} if kind in instruments() else document["instruments"][name]
        document["instruments"][name] = {**usual, **own, "source": source_of(usual, own, "as stated for the run")}
    known = dict(accepted())
    for name, value in own_values:
        try:
            known[name] = value.reference()
        except CavrelError as fault:
            raise DefinitionError(f"accepted.{name}", fault.what) from fault
        for result in value.results:
            if result not in document.get("results", {}):
                raise DefinitionError(f"accepted.{name}.results", f"the experiment has no result '{result}'")
            # Under a name of its own: the experiment may call something else by the laboratory's name for it.
            known[f"course_{name}"] = known[name]
            document["results"][result]["accepted"] = f"course_{name}"
    return compile_program(definitions.load(document), known)


@by_identity(128)
def planner(
    definition: Definition,
    options: Mapping[str, str] | None = None,
    rules: HouseRules | None = None,
    own_values: Mapping[str, CourseValue] | None = None,
    laboratory: Laboratory = EMPTY,
    headings: Mapping[str, Heading] | None = None,
) -> Planner:
    """Tries plans of an experiment under its conventions and house rules, with what the laboratory has. Raises DefinitionError where it has
    no simulation."""
    return Planner(
        lambda others: program_of(definition, others, options, own_values, headings),
        instruments(),
        at_hand(laboratory),
        rules,
    )


def at_hand(laboratory: Laboratory) -> Mapping[str, Family]:
    """What can stand in for what, by kind, or by the label of the laboratory's own. Where it owns any of a family, only those are offered."""
    shipped = families()
    own = {
        i.label: replace(shipped[i.kind], fields=i.fields())
        for i in laboratory.instruments.values()
        if i.kind in shipped
    }
    owned = {family.name for family in own.values()}
    return {**{k: f if f.name not in owned else replace(f, offered=False) for k, f in shipped.items()}, **own}


def alternatives(definition: Definition, run: RunDocument) -> tuple[Alternative, ...]:
    """The same readings under every other choice of one convention that changes what apparatus shows: a law, a side, a sign. Those that only
    change how readings are evaluated are no slips."""
    chosen = {name: run.options.get(name, option.default) for name, option in definition.options.items()}
    found = []
    for name, option in definition.options.items():
        for choice, body in option.choices.items():
            told = {*body.set, *option.choices[chosen[name]].set}
            shows = any(path.startswith("simulate.read") for path in told)
            fitted = any(path.startswith("fits.") for path in told)
            if choice == chosen[name] or not (shows or (not fitted and any(p.startswith("simulate.") for p in told))):
                continue
            try:
                program = program_of(
                    definition, run.instruments, {**chosen, name: choice}, run.accepted, run.headings, run.earlier()
                )
            except CavrelError:
                continue
            found.append(
                Alternative(
                    at=f"options.{name}",
                    choice=choice,
                    say=f"the run is one of “{body.label}”, not of “{option.choices[chosen[name]].label}”",
                    do=f"choose “{body.label}” for {within(option.label)}",
                    program=program,
                )
            )
    return tuple(found)
