"""Definitions: what is refused, where, and why; what the law says of the axes."""

import copy
import tomllib
from typing import Any

import pytest

from cavrel import catalogue
from cavrel.core import definition as definitions
from cavrel.core.definition import Definition
from cavrel.core.definition.program import compile_program
from cavrel.core.errors import CavrelError, DefinitionError
from cavrel.core.findings.line_meanings import meanings
from cavrel.core.formula.text import unparse


@pytest.fixture
def body() -> dict[str, Any]:
    text = (catalogue.HERE / "experiments" / "pendulum.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def compiled(body: dict[str, Any]):
    return compile_program(definitions.load(body, catalogue.instruments()), catalogue.accepted())


def put(body: dict[str, Any], path: str, value: Any) -> dict[str, Any]:
    changed = copy.deepcopy(body)
    *way, last = path.split(".")
    place: Any = changed
    for key in way:
        place = place[int(key)] if isinstance(place, list) else place[key]
    place[int(last) if isinstance(place, list) else last] = value
    return changed


@pytest.mark.parametrize(
    ("path", "value", "place", "what"),
    [
        ("format", "other/1", "format", "cavrel-experiment/1"),
        ("id", "Not An Id", "id", "pattern"),
        ("surprise", 1, "surprise", "unknown key"),
        ("field", "alchemy", "field", "mechanics"),
        ("series.swings.columns.T.formula", "t/n", "series.swings.columns.T.formula", "unknown name 'n'"),
        (
            "series.swings.columns.T.formula",
            "t + L",
            "series.swings.columns.T.formula",
            "cannot add 't' (s) and 'L' (m)",
        ),
        ("series.swings.columns.T.formula", "t/N +", "series.swings.columns.T.formula", "cannot read"),
        (
            "series.swings.columns.T.formula",
            "T*2",
            "series.swings.columns.T.formula",
            "refer to each other in a circle: swings.T -> swings.T",
        ),
        ("series.swings.columns.T.unit", "m", "series.swings.columns.T.formula", "where m is needed"),
        ("series.swings.columns.T.role", "measured", "series.swings.columns.T", "derived column has a formula"),
        ("series.swings.columns.L.unit", "cubits", "series.swings.columns.L.unit", "unknown unit 'cubits'"),
        ("series.swings.columns.L.unit", "s", "series.swings.columns.L.instrument", "cannot read s"),
        (
            "series.swings.columns.L.instrument",
            "sextant",
            "series.swings.columns.L.instrument",
            "unknown instrument 'sextant'",
        ),
        ("instruments.rule.kind", "yardstick", "instruments.rule.kind", "unknown instrument 'yardstick'"),
        ("instruments.rule.placement", "a bit", "instruments.rule.placement", "number with a unit"),
        ("instruments.rule.calibration", "1 mm", "instruments.rule.calibration", "relative"),
        ("fits.line.series", "swing", "fits.line.series", "unknown series"),
        ("fits.line.y", "N", "fits.line.y", "rows of 'swings'"),
        ("fits.line.model", "spline", "fits.line.model", "line"),
        ("results.g.formula", "4*pi^2/line.gradient", "results.g.formula", "has no 'gradient'"),
        ("results.g.formula", "line", "results.g.formula", "is a fit"),
        ("results.g.formula", "swings.L/(1[s^2])", "results.g.formula", "runs over the rows"),
        ("results.g.unit", "s", "results.g.formula", "m/s^2"),
        ("results.g.accepted", "h_plank", "results.g.accepted", "unknown name 'h_plank'"),
        ("results.g.accepted", "h_planck", "results.g.accepted", "is in J s, not in m/s^2"),
        ("checks.0.rule", "theta", "checks.0.rule", "must be a comparison"),
        ("checks.1.rule", "swings.L > 1[m]", "checks.1.rule", "row by row"),
        ("steps.0.fills", ["swings.Q"], "steps.0.fills", "unknown quantity or column"),
        ("suggest.0.for", "swings.Q", "suggest.0.for", "unknown column"),
        ("suggest.0.formula", "linspace(1[s], 2[s], 3)", "suggest.0.formula", "where m is needed"),
        ("quantities.line", {"label": "a clash"}, "fits.line", "stands in quantities already"),
        ("quantities.N.formula", "swings.L/(1[m])", "quantities.N.formula", "fold them"),
    ],
)
def test_faults_are_named_with_their_place(body: dict[str, Any], path: str, value: Any, place: str, what: str) -> None:
    with pytest.raises(DefinitionError) as caught:
        compiled(put(body, path, value))
    assert caught.value.place == place
    assert what in caught.value.what


def test_a_definition_of_another_experiment_needs_no_change_of_the_core(body: dict[str, Any]) -> None:
    """A spring, inline: other names, units and axes through the same machine."""
    spring = {
        "format": "cavrel-experiment/1",
        "id": "little-spring",
        "title": "A spring",
        "field": "mechanics",
        "aim": "Find how stiff it is.",
        "law": "F = k*(l - l_0)",
        "series": {
            "loads": {
                "label": "Loads",
                "columns": {
                    "F": {"label": "Force", "unit": "N", "role": "set"},
                    "l": {"label": "Length", "unit": "cm", "role": "measured"},
                },
            }
        },
        "fits": {"line": {"series": "loads", "x": "F", "y": "l", "model": "line"}},
        "results": {"k": {"label": "Stiffness", "formula": "1/line.slope", "unit": "N/m"}},
    }
    definition = definitions.load(spring)
    assert compile_program(definition, {}).fits["line"].parameters["slope"].text == "cm/N"
    found = meanings(definition.model_dump_json(by_alias=True))["line"]
    assert unparse(found.slope) == "1/k"
    assert unparse(found.intercept) == "l_0"
    assert {name: unparse(node) for name, node in found.constants} == {"k": "1/line.slope", "l_0": "line.intercept"}
    assert not found.through_origin
    spring["results"]["k"] = {"label": "Stiffness", "formula": "line.slope"}
    with pytest.raises(DefinitionError, match="the law gives k = 1/line.slope"):
        catalogue.validate(definitions.load(spring))


def test_a_slope_read_upside_down_is_refused_with_the_right_formula(body: dict[str, Any]) -> None:
    for wrong in ("line.slope/(4*pi^2)", "4*pi/line.slope", "line.slope"):
        changed = put(put(body, "results.g.formula", wrong), "results.g.unit", None)
        del changed["results"]["g"]["unit"]
        definition = definitions.load(changed, catalogue.instruments())
        with pytest.raises(DefinitionError) as caught:
            catalogue.validate(definition)
        assert caught.value.place == "results.g.formula"
        assert "the law gives g = 4*pi^2/line.slope" in caught.value.what


def test_what_slope_and_intercept_of_the_pendulum_mean() -> None:
    found = catalogue.meanings_of(catalogue.experiments()["pendulum"])["line"]
    assert unparse(found.slope) == "4*pi^2/g"
    assert found.through_origin


def test_axes_the_law_does_not_make_straight_have_no_meaning(body: dict[str, Any]) -> None:
    changed = put(body, "fits.line.y", "T")
    changed["results"] = {}
    definition = definitions.load(changed, catalogue.instruments())
    assert meanings(definition.model_dump_json(by_alias=True)) == {}


def test_a_definition_survives_its_own_document(body: dict[str, Any]) -> None:
    first = definitions.load(body, catalogue.instruments())
    again = definitions.load(first.document())
    assert again == first
    assert again.content_hash() == first.content_hash()
    assert (
        definitions.load(put(body, "title", "Another"), catalogue.instruments()).content_hash() != first.content_hash()
    )


@pytest.mark.parametrize("text", ["", "a = ", "format = 1", "[[[", "\x00"])
def test_broken_toml_is_one_error(text: str) -> None:
    with pytest.raises(CavrelError):
        catalogue.read_toml(text)


def test_every_experiment_on_the_shelf_compiles_and_agrees_with_its_law() -> None:
    for definition in catalogue.experiments().values():
        assert isinstance(definition, Definition)
        catalogue.validate(definition)


def test_a_run_may_override_its_instruments() -> None:
    definition = catalogue.experiments()["pendulum"]
    program = catalogue.program_of(definition, {"rule": {"least_count": "5 mm", "label": "long tape"}})
    assert program.gauges["rule"].least_count == pytest.approx(5e-3)
    assert catalogue.program_of(definition).gauges["rule"].least_count == pytest.approx(1e-3)
    with pytest.raises(DefinitionError, match="no such instrument"):
        catalogue.program_of(definition, {"sextant": {"zero": "1 mm"}})
