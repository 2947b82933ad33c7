"""The drawings: one for every experiment, in the classes that the themes colour, with symbols that its definition knows."""

import re
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest

from cavrel import catalogue
from cavrel.catalogue import pictures
from cavrel.core.formula.nodes import Member, Name, walk
from cavrel.core.formula.parse import parse_law
from cavrel.core.formula.text import symbol
from tools.circuits import CIRCUITS, circuit

CLASSES = {"apparatus", "circuit", "solid", "copper", "bob", "thin", "dash"}
_SPARE = {"N", "S", "A", "V", "b", "k", "n", "x", "e", "F", "G", "I", "B", "T", "L", "R", "a", "θ", "v"}
"""Letters that stand for a part rather than a reading: poles, meters, an unread quantity of the drawing."""


def names(experiment: str) -> set[str]:
    definition = catalogue.experiments()[experiment]
    known = set(definition.quantities) | set(definition.results)
    for series in definition.series.values():
        known |= set(series.columns)
    if definition.law:
        for side in parse_law(definition.law):
            known |= {n.name for n in walk(side) if isinstance(n, Name | Member)}
    return {symbol(name)[0] for name in known}


def test_every_experiment_has_its_drawing() -> None:
    drawn = {path.stem.partition(".")[0] for path in (catalogue.HERE / "drawings").glob("*.svg")}
    assert drawn == set(catalogue.experiments())


@pytest.mark.parametrize("path", sorted((catalogue.HERE / "drawings").glob("*.svg")), ids=lambda path: path.stem)
def test_drawings_are_in_the_classes_and_symbols_of_their_experiment(path: Path) -> None:
    text, experiment = path.read_text(encoding="utf-8"), path.stem.partition(".")[0]
    root = ET.fromstring(text)
    assert root.get("viewBox") == "0 0 200 176"
    assert len(root.get("aria-label") or "") > 15
    used = {name for element in root.iter() for name in (element.get("class") or "").split()}
    assert used <= CLASSES
    for colour in ("fill", "stroke", "style"):
        assert not any(element.get(colour) for element in root.iter()), colour
    letters = [element.text or "" for element in root.iter() if element.tag == "text"]
    assert letters
    assert set(letters) <= names(experiment) | _SPARE, experiment


def test_no_two_drawings_are_alike() -> None:
    found = [path.read_text(encoding="utf-8") for path in (catalogue.HERE / "drawings").glob("*.svg")]
    assert len(set(found)) == len(found)


@pytest.mark.parametrize("path", sorted((catalogue.HERE / "circuits").glob("*.svg")), ids=lambda path: path.stem)
def test_circuits_are_those_that_the_tool_draws(path) -> None:
    assert path.stem in CIRCUITS
    assert path.stem.partition(".")[0] in catalogue.experiments()
    text = path.read_text(encoding="utf-8")
    assert text == circuit(path.stem)
    assert set(re.findall(r'class="([^"]+)"', text)) <= {"apparatus circuit", "solid"}


@pytest.mark.parametrize("folder", ["drawings", "circuits"])
def test_the_drawing_follows_the_convention_chosen(folder: str) -> None:
    """Every file of a choice names an option and a choice that its experiment has, and is what that choice shows."""
    own = [path for path in (catalogue.HERE / folder).glob("*.svg") if "." in path.stem]
    assert own
    for path in own:
        experiment, _, chosen = path.stem.partition(".")
        option, _, choice = chosen.partition("-")
        assert choice in catalogue.experiments()[experiment].options[option].choices
        assert pictures.drawing(experiment, {option: choice}, folder) == path.read_text(encoding="utf-8")
        assert pictures.drawing(experiment, {}, folder) != path.read_text(encoding="utf-8")
    assert pictures.drawing("pendulum", {"swing": "corrected"}) == pictures.drawing("pendulum", {})
    assert pictures.drawing("no-such-thing", {}) is None
