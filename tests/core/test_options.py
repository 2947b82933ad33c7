"""Conventions, and series that repeat another."""

import numpy as np
import pytest

from cavrel.core import definition as definitions
from cavrel.core.definition.program import compile_program
from cavrel.core.errors import DefinitionError
from tests.core.machine import columns, definition, run

RNG = np.random.default_rng(5)


BRIDGE = {
    "quantities": {"R": {"label": "Known", "unit": "ohm", "exact": True}},
    "series": {
        "first": columns(l="cm"),
        "second": {"label": "Second", "like": "first", "columns": {"l": {"label": "other null"}}},
    },
    "results": {"X": {"label": "Unknown", "formula": "R*(100[cm] - mean(first.l))/mean(first.l)", "unit": "ohm"}},
    "options": {
        "gap": {
            "label": "Gap of the unknown",
            "default": "right",
            "choices": {
                "right": {"label": "right"},
                "left": {"label": "left", "set": {"results.X.formula": "R*mean(first.l)/(100[cm] - mean(first.l))"}},
            },
        }
    },
}


def test_an_option_changes_a_formula() -> None:
    made = definition(**BRIDGE)
    for choice, expected in (("right", 5 * 53.5 / 46.5), ("left", 5 * 46.5 / 53.5)):
        chosen = compile_program(definitions.choose(made, {"gap": choice}), {})
        assert run(chosen, quantities={"R": "5"}, series={"first": {"l": ["46.5"]}}).results[
            "X"
        ].value == pytest.approx(expected)
    with pytest.raises(DefinitionError, match="none of its choices"):
        definitions.choose(made, {"gap": "middle"})
    with pytest.raises(DefinitionError, match="no such option"):
        definitions.choose(made, {"gaps": "left"})


def test_an_option_that_leads_nowhere_names_its_path() -> None:
    broken = {**BRIDGE, "options": {"gap": {**BRIDGE["options"]["gap"], "default": "left"}}}
    broken["options"]["gap"]["choices"] = {
        "left": {"label": "l", "set": {"results.Y.formula": "1"}},
        "right": {"label": "r"},
    }
    with pytest.raises(DefinitionError) as caught:
        definitions.choose(definition(**broken), {})
    assert caught.value.place == "options.gap.choices.left.set.results.Y.formula"


def test_a_series_like_another_has_its_columns() -> None:
    made = definition(**BRIDGE)
    assert made.series["second"].label == "Second"
    assert made.series["second"].columns["l"].unit == "cm"
    assert made.series["second"].columns["l"].label == "other null"
    with pytest.raises(DefinitionError, match="no series with columns"):
        definition(series={"a": {"label": "a", "like": "b"}})


def test_two_choices_that_change_one_table_leave_each_other_as_they_are() -> None:
    """What one choice puts in, the next may change; chosen alone afterwards, the first is as it was written."""
    table = {"label": "first", "formula": "a"}
    made = definition(
        quantities={"a": {"label": "a", "unit": "m"}},
        results={"x": {"label": "x", "formula": "a"}},
        options={
            "one": {
                "label": "One",
                "default": "no",
                "choices": {"no": {"label": "no"}, "yes": {"label": "yes", "set": {"results.x": table}}},
            },
            "two": {
                "label": "Two",
                "default": "no",
                "choices": {"no": {"label": "no"}, "yes": {"label": "yes", "set": {"results.x.label": "second"}}},
            },
        },
    )
    assert definitions.choose(made, {"one": "yes", "two": "yes"}).results["x"].label == "second"
    assert definitions.choose(made, {"one": "yes"}).results["x"].label == "first"
    assert table == {"label": "first", "formula": "a"}
