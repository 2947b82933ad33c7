"""Instruments of the shared list in definitions and runs: their figures, and where these come from."""

import pytest

from cavrel import catalogue
from cavrel.core import definition as definitions
from cavrel.core.definition.sources import source_of
from cavrel.core.errors import DefinitionError


def test_every_instrument_that_ships_says_where_its_figures_come_from() -> None:
    bare = [
        (name, chosen, key)
        for name, definition in catalogue.experiments().items()
        for chosen in ({}, *catalogue.combinations(definition))
        for key, instrument in definitions.choose(definition, chosen).instruments.items()
        if not instrument.source
    ]
    assert bare == []


@pytest.mark.parametrize(
    ("own", "said"),
    [
        ({}, "a data sheet"),
        ({"placement": "1 mm"}, "a data sheet"),
        ({"placement": "2 mm"}, "positioning here; otherwise a data sheet"),
        ({"zero": "1 mm", "class": "2"}, "zero, class here; otherwise a data sheet"),
        ({"zero": "1 mm", "source": "certificate 7"}, "certificate 7"),
        ({"label": "the long one"}, "a data sheet"),
    ],
)
def test_what_is_stated_otherwise_is_said_by_whom(own: dict[str, str], said: str) -> None:
    assert source_of({"placement": "1 mm", "source": "a data sheet"}, own, "here") == said


def test_without_a_list_only_what_is_stated_is_said() -> None:
    assert source_of({}, {"zero": "1 mm"}, "here") == "zero here"
    assert source_of({}, {}, "here") == ""


def test_an_instrument_that_a_choice_puts_in_is_filled_from_the_list() -> None:
    scale = definitions.choose(catalogue.experiments()["free-fall"], {"record": "strobe"}).instruments["scale"]
    assert (scale.least_count, scale.zero, scale.placement) == ("1 mm", "0.3 mm", "1 mm")
    body = catalogue.experiments()["free-fall"].document()
    body["options"]["record"]["choices"]["strobe"]["set"]["instruments.scale"] = {"kind": "yardstick"}
    with pytest.raises(DefinitionError, match="unknown instrument 'yardstick'") as caught:
        definitions.load(body, catalogue.instruments())
    assert caught.value.place == "options.record.choices.strobe.set.instruments.scale.kind"


def test_a_run_that_takes_another_instrument_says_so() -> None:
    definition = catalogue.experiments()["pendulum"]
    program = catalogue.program_of(definition, {"rule": {"kind": "tape"}})
    assert program.definition.instruments["rule"].source == catalogue.instruments()["tape"]["source"]
    stated = catalogue.program_of(definition, {"rule": {"zero": "2 mm"}})
    assert stated.definition.instruments["rule"].source.startswith("zero as stated for the run; otherwise positioning")
