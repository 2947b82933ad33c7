"""Results held against the law by number, algebra with a deadline, and every combination of conventions."""

import json
import time
from typing import Any

import pytest

from cavrel import bounded, catalogue
from cavrel.catalogue import algebra
from cavrel.core import definition as definitions
from cavrel.core.analysis import analyse
from cavrel.core.definition import choose
from cavrel.core.errors import DefinitionError
from cavrel.core.logbook import run as runs
from cavrel.core.simulate import simulate
from tests.thorough import THOROUGH


def pendulum(formula: str, y: str = "T^2", **results: str) -> definitions.Definition:
    """The pendulum's definition with another formula for g, another y, and further results."""
    body: dict[str, Any] = catalogue.experiments()["pendulum"].document()
    body["series"]["swings"]["columns"]["Q"] = {"label": "Square", "role": "derived", "formula": "T^2"}
    body["fits"] = {"line": {**body["fits"]["line"], "y": y}}
    body["results"] = {name: {"label": name, "formula": text} for name, text in results.items()}
    body["results"]["g"] = {"label": "g", "formula": formula}
    body["options"] = {}
    return definitions.load(body)


@pytest.mark.parametrize(
    ("formula", "y", "results"),
    [
        ("4*pi^2/line.slope", "T^2", {}),
        ("39.4784176/line.slope", "T^2", {}),
        ("4*pi^2*q", "T^2", {"q": "1/line.slope"}),
        ("4*pi^2/line.slope", "Q", {}),
        ("(2*pi)^2/line.slope", "T*T", {}),
    ],
)
def test_a_right_formula_is_taken_however_it_is_written(formula: str, y: str, results: dict[str, str]) -> None:
    catalogue.validate(pendulum(formula, y, **results))


@pytest.mark.parametrize(
    ("formula", "y", "results"),
    [
        ("2*pi^2/line.slope", "T^2", {}),
        ("2*pi^2*q", "T^2", {"q": "1/line.slope"}),
        ("39.4/line.slope", "T^2", {}),
        ("4*pi^2/line.slope", "4*Q", {}),
    ],
)
def test_a_wrong_formula_is_refused_however_it_is_written(formula: str, y: str, results: dict[str, str]) -> None:
    with pytest.raises(DefinitionError, match="does not follow from the law"):
        catalogue.validate(pendulum(formula, y, **results))


def test_a_frequency_read_off_a_slope_that_is_its_inverse() -> None:
    body: dict[str, Any] = {
        "format": "cavrel-experiment/1",
        "id": "beats",
        "title": "Beats",
        "field": "waves",
        "aim": "Find a frequency.",
        "law": "t = n/f0",
        "series": {
            "s": {
                "label": "S",
                "columns": {
                    "n": {"label": "Number", "role": "set", "exact": True},
                    "t": {"label": "Time", "unit": "s", "role": "measured"},
                },
            }
        },
        "fits": {"fit": {"series": "s", "x": "n", "y": "t", "model": "line"}},
        "results": {"f0": {"label": "Frequency", "formula": "1/fit.slope"}},
    }
    catalogue.validate(definitions.load(body))
    body["results"]["f0"]["formula"] = "fit.slope"
    with pytest.raises(DefinitionError, match="the law gives f0 = 1/fit.slope"):
        catalogue.validate(definitions.load(body))


HOSTILE = [
    ("x = sqrt(t)^11", "s = a*t", "sqrt(t)^11", "s^7"),
    ("long products", "s = (a+t+1)^12*(a-t)^12*(s+a)^11", "t", "s"),
    ("sines in sines", "s = sin(a*t + cos(s*t))*exp(sin(s + t))", "t", "s"),
]


@pytest.mark.parametrize(("what", "law", "x", "y"), HOSTILE if THOROUGH else HOSTILE[:1])
def test_algebra_has_a_deadline(what: str, law: str, x: str, y: str) -> None:
    body = definitions.load(
        {
            "format": "cavrel-experiment/1",
            "id": "hostile",
            "title": what,
            "field": "mechanics",
            "aim": "Take long.",
            "law": law,
            "series": {
                "s_": {
                    "label": "S",
                    "columns": {"t": {"label": "t", "role": "set"}, "s": {"label": "s", "role": "measured"}},
                }
            },
            "fits": {"line": {"series": "s_", "x": x, "y": y, "model": "line"}},
            "results": {"a": {"label": "a", "formula": "line.slope"}},
        }
    )
    began = time.monotonic()
    try:
        catalogue.validate(body)
    except DefinitionError as fault:
        assert fault.place == "results.a.formula"
    assert (
        time.monotonic() - began < 12
    )  # a bound against hanging, not a measurement: the deadline is 1.5 s of processor time


def test_words_are_not_asked_about_again(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []
    answered = algebra.answered

    def counted(question: str) -> dict[str, Any]:
        asked.append(question)
        return answered(question)

    monkeypatch.setattr(algebra, "answered", counted)
    body: dict[str, Any] = pendulum("4*pi^2/line.slope", "T*T*T/T").document()
    meant = catalogue.meanings_of(definitions.load(body))
    body |= {"title": "Otherwise", "id": "otherwise", "steps": [{"do": "Wait."}]}
    body["results"]["g"]["label"] = body["series"]["swings"]["label"] = "Another word"
    assert catalogue.meanings_of(definitions.load(body)) == meant
    assert len(asked) == 1
    body["fits"]["line"]["y"] = "2*T*T"
    body["results"]["g"]["formula"] = "8*pi^2/line.slope"
    assert catalogue.meanings_of(definitions.load(body)) != meant
    assert len(asked) == 2


@pytest.mark.parametrize(("surely", "times"), [(True, 1), (False, 2)])
def test_late_by_the_machine_is_tried_again_late_by_itself_is_not(
    monkeypatch: pytest.MonkeyPatch, surely: bool, times: int
) -> None:
    asked: list[str] = []

    def late(question: str) -> dict[str, Any]:
        asked.append(question)
        raise bounded.Over("late", surely)

    monkeypatch.setattr(algebra, "answered", late)
    law = pendulum("4*pi^2/line.slope", f"T^{3 if surely else 5}/T^{1 if surely else 3}")
    assert catalogue.meanings_of(law) == {}
    assert not catalogue.solved_in_time(law)
    assert len(asked) == times


def test_a_process_of_algebra_that_dies_is_started_anew() -> None:
    assert catalogue.meanings_of(pendulum("4*pi^2/line.slope"))["line"].through_origin
    for child in bounded.pool._children.idle:
        child.process.kill()
    assert catalogue.meanings_of(pendulum("4*pi^2/line.slope", "T*T"))["line"].through_origin


@pytest.mark.parametrize(
    "text",
    [
        ".".join("a" * 20000) + " = 1",
        "a = " + "[" * 5000,
        "a = " + "9" * 150_000,
        "x" * 300_000,
    ],
)
def test_a_hostile_text_costs_nothing(text: str) -> None:
    began = time.monotonic()
    with pytest.raises(DefinitionError):
        catalogue.read_toml(text)
    assert time.monotonic() - began < 2


def test_every_combination_of_conventions_compiles_and_runs() -> None:
    for name, definition in catalogue.experiments().items():
        for chosen in [{}, *catalogue.combinations(definition)]:
            program = catalogue.program_of(definition, options=chosen)
            analysis = analyse(program, runs.load(simulate(program, 1)))
            assert all(not r.reason for r in analysis.results.values()), (name, chosen)


def test_a_definition_whose_conventions_clash_is_refused() -> None:
    body: dict[str, Any] = catalogue.experiments()["pendulum"].document()
    body["options"] = {
        "one": {
            "label": "1",
            "default": "no",
            "choices": {"no": {"label": "no"}, "yes": {"label": "yes", "set": {"fits.line.model": "proportional"}}},
        },
        "two": {
            "label": "2",
            "default": "no",
            "choices": {
                "no": {"label": "no"},
                "yes": {"label": "yes", "set": {"results.z": {"label": "z", "formula": "line.intercept"}}},
            },
        },
    }
    definition = definitions.load(body)
    choose(definition, {"one": "yes", "two": "yes"})
    with pytest.raises(DefinitionError, match="with one = yes and two = yes"):
        catalogue.validate(definition)


def test_the_laws_that_ship_are_what_algebra_gives() -> None:
    shipped = json.loads(algebra.SHIPPED.read_text(encoding="utf-8"))
    laws = catalogue.laws()
    assert shipped.keys() == laws.keys(), "run ./run laws"
    for key, text in laws.items():
        assert shipped[key] == algebra.answered(text), f"{json.loads(text)['law']}: run ./run laws"
        assert "late" not in shipped[key]
