"""A circuit answers each reading: numbers next to its letters, the slider where the wire was touched."""

import re
from dataclasses import replace
from xml.etree import ElementTree

import pytest

from cavrel import catalogue
from cavrel.catalogue import pictures
from cavrel.core.laboratory import EMPTY
from cavrel.graph.circuit import answered
from cavrel.present.circuits import circuit
from cavrel.service.run_view import RunView, compute, unstarted

BRIDGE = catalogue.experiments()["metre-bridge"]
ROW = [("first.K.1.1", "12"), ("first.l.1.1", "40.00")]


def opened(readings: list[tuple[str, str]], **options: str) -> RunView:
    return unstarted(BRIDGE, EMPTY, options, readings)


def words(drawing: str) -> list[str]:
    return [" ".join("".join(text.itertext()).split()) for text in ElementTree.fromstring(drawing).iter("text")]


def slider(drawing: str) -> float:
    found = re.search(r'd="M ([\d.]+) 106', drawing)
    assert found
    return float(found[1])


def test_it_shows_the_row_that_was_read_last() -> None:
    readings = [*ROW, ("first.K.2.1", "20.0"), ("first.l.2.1", "55.10"), ("first.l.2.2", "55.30")]
    shown = circuit(opened(readings))
    assert shown is not None
    assert shown[0] == "First resistor: known value 2"
    known, unknown, length = words(shown[1])[:3]
    assert (known, length) == ("K20.0 Ω", "l55.2 cm")
    assert float(unknown[1:].removesuffix(" Ω")) == pytest.approx(20 * 44.8 / 55.2, abs=0.01)
    assert slider(shown[1]) == pytest.approx(288 * 0.552, abs=0.06)
    assert "K 20.0 Ω" in shown[1][: shown[1].index("<path")]  # for who does not see it
    corrected = circuit(opened([*readings, ("first.l.1.1", "41.00")]))
    assert corrected is not None
    assert corrected[0] == "First resistor: known value 1"
    assert slider(corrected[1]) == pytest.approx(288 * 0.41, abs=0.06)


def test_it_waits_for_a_reading_and_shows_what_there_is() -> None:
    assert circuit(opened([])) is None
    shown = circuit(opened([("side.K.1.1", "3.5")]))
    assert shown is not None
    assert words(shown[1])[:3] == ["K3.5 Ω", "X", "l"]
    assert slider(shown[1]) == 144
    assert circuit(opened([("side.l.1.1", "near the middle")])) is None


def test_a_reading_left_out_is_not_what_the_circuit_shows() -> None:
    out = unstarted(BRIDGE, EMPTY, {}, [("first.l.1.1", "20.00"), ("first.l.1.2", "40.00")])
    left = compute(
        out.run, BRIDGE, (*out.entries, replace(out.entries[0], id=9, kind="leave-out", body={"reason": "slipped"}))
    )
    shown = circuit(left)
    assert shown is not None
    assert "l40.0 cm" in words(shown[1])


@pytest.mark.parametrize("text", ["-1", "250", "1e80"])
def test_what_is_off_the_wire_does_not_move_the_slider(text: str) -> None:
    shown = circuit(opened([("first.l.1.1", text)]))
    assert shown is not None
    assert slider(shown[1]) == 144


@pytest.mark.parametrize(
    ("known", "length"), [("1e80", "40.00"), ("1e-80", "40.00"), ("123456789012345", "0.01"), ("5", "99.99999999")]
)
def test_far_numbers_do_not_burst_the_drawing(known: str, length: str) -> None:
    shown = circuit(opened([("first.K.1.1", known), ("first.l.1.1", length)]))
    assert shown is not None
    assert all(len(text) < 24 for text in words(shown[1])), words(shown[1])


def test_under_another_convention_it_is_the_circuit_of_that() -> None:
    shown = circuit(opened(ROW, gap="left"))
    assert shown is not None
    unknown, known = words(shown[1])[:2]
    assert known == "K12 Ω"
    assert float(unknown[1:].removesuffix(" Ω")) == pytest.approx(8, abs=0.01)


@pytest.mark.parametrize("path", sorted((catalogue.HERE / "circuits").glob("*.svg")), ids=lambda path: path.stem)
def test_every_circuit_names_what_its_experiment_has(path) -> None:
    experiment, _, convention = path.stem.partition(".")
    options = dict([convention.split("-", 1)]) if convention else {}
    drawing = pictures.drawing(experiment, options, "circuits")
    assert drawing == path.read_text(encoding="utf-8")
    here = unstarted(catalogue.experiments()[experiment], EMPTY, options)
    known = {key.rpartition(".")[2] for key in here.analysis.values}
    named = {name for names in re.findall(r'data-of="([^"]+)"', drawing) for name in names.split()}
    assert named
    assert named <= known
    filled = answered(drawing, lambda name: "1 < 2 V", lambda name: 0.25)
    ElementTree.fromstring(filled)
    assert "1 &lt; 2 V" in filled
