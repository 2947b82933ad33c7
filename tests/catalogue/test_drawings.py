"""The drawings: one for every experiment, in the classes that the themes colour, with symbols that its definition knows."""

import re
import xml.etree.ElementTree as ET

import pytest

from cavrel import catalogue
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


@pytest.mark.parametrize("experiment", list(catalogue.experiments()))
def test_every_experiment_has_its_drawing(experiment: str) -> None:
    text = (catalogue.HERE / "drawings" / f"{experiment}.svg").read_text(encoding="utf-8")
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
    assert len(set(found)) == len(found) == len(catalogue.experiments())


@pytest.mark.parametrize("path", sorted((catalogue.HERE / "circuits").glob("*.svg")), ids=lambda path: path.stem)
def test_circuits_are_those_that_the_tool_draws(path) -> None:
    assert path.stem in CIRCUITS
    assert path.stem in catalogue.experiments()
    text = path.read_text(encoding="utf-8")
    assert text == circuit(path.stem)
    assert set(re.findall(r'class="([^"]+)"', text)) <= {"apparatus circuit", "solid"}
