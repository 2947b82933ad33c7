"""Faces of instruments: what is drawn stands where the value is, and what is said is the reading to half a mark."""

import re

import numpy as np
import pytest

from cavrel.graph import indicators, instrument_faces
from tests.browser.robot import read_label

DRAW = np.random.default_rng(11)


@pytest.mark.parametrize("value", [*DRAW.uniform(0, 100, 30), 0.0, 0.04, 99.96])
def test_a_rule_says_the_nearest_mark_and_stands_there(value: float) -> None:
    face = instrument_faces.scale(value, 0.1, "cm", 1, "rule")
    assert float(read_label(": " + face.said, "cm")) == pytest.approx(value, abs=0.0501)
    assert f"rule: {face.said}" in face.drawing
    shift = float(re.search(r'transform="translate\((-?[\d.]+) 40\)"', face.drawing)[1])
    assert shift == pytest.approx(face.moves["at"] + face.moves["per"] * value, abs=0.01)
    off = value / 0.1 - round(value / 0.1)
    assert ("on it" in face.said) == (abs(off) < 0.1)


@pytest.mark.parametrize(("division", "lines"), [(1.0, 10), (1.0, 20), (1.0, 50)])
def test_a_caliper_says_which_line_meets(division: float, lines: int) -> None:
    for value in [*DRAW.uniform(0, 140, 25), 0.0, 24.98, -0.03]:
        face = instrument_faces.vernier(value, division, lines, ("the scale", "vernier"), "caliper")
        least = division / lines
        assert float(read_label(f"caliper: {face.said}", "mm")) == pytest.approx(value, abs=0.51 * least)
        # The line that is said to meet lies nearer to a mark of the main scale than any other.
        shift = float(re.search(r"translate\((-?[\d.]+) 0\)", face.drawing)[1])
        marks = [float(x) + shift for x in re.findall(r"M(-?[\d.]+) 62v-", face.drawing)]
        own = [float(x) for x in re.findall(r"M(-?[\d.]+) 62v(?!-)", face.drawing)][: lines + 1]
        gaps = [min(abs(x - m) for m in marks) for x in own]
        meets = int(re.search(r"line (\d+) of", face.said)[1])
        assert gaps[meets] <= min(gaps) + 0.02


def test_a_circle_of_half_degrees_with_minutes() -> None:
    for value in [*DRAW.uniform(0, 359, 25), 169.0, 31.4]:
        face = instrument_faces.vernier(value, 0.5, 30, ("the circle", "vernier"), "spectrometer", every=2, unit="°")
        text = read_label(f"spectrometer: {face.said}", "°")
        degrees, minutes = re.match(r"(\d+)°(\d+)′", text).groups()
        assert int(degrees) + int(minutes) / 60 == pytest.approx(value, abs=0.51 / 60)


def test_a_screw_says_sleeve_and_thimble() -> None:
    for value in [*DRAW.uniform(0, 24, 25), 0.74, 0.5, 0.499, 12.0]:
        face = instrument_faces.micrometer(value, "micrometer")
        assert float(read_label(f"micrometer: {face.said}", "mm")) == pytest.approx(value, abs=0.0051)


def test_beams_add_up() -> None:
    for value in [*DRAW.uniform(0, 600, 25), 99.96, 100.0, 9.99]:
        face = instrument_faces.beams(value, 0.1, "g", 1, "balance")
        assert float(read_label(f"balance: {face.said}", "g")) == pytest.approx(value, abs=0.051)


@pytest.mark.parametrize(("step", "decimals"), [(0.5, 1), (1.0, 0), (0.1, 1), (0.2, 1)])
def test_numbers_stand_at_their_marks(step: float, decimals: int) -> None:
    """A label is never rounded to a value that its mark does not have."""
    for face in (
        instrument_faces.thermometer(19.7, step, "°C", decimals, "thermometer"),
        instrument_faces.scale(19.7, step, "cm", decimals, "rule", look="dial", starts=False),
    ):
        for x, y, number in re.findall(
            r'<text x="(-?[\d.]+)" y="(-?[\d.]+)" class="face-number"[^>]*>(-?[\d.]+)<', face.drawing
        ):
            at = -(float(y) - 4.5) / 11 if "thermometer" in face.drawing[:200] else float(x) / 15
            assert float(number) == pytest.approx(at * step, abs=0.02 * step)


def test_a_thermometers_thread_ends_at_its_value() -> None:
    face = instrument_faces.thermometer(98.3, 0.5, "°C", 1, "thermometer")
    assert face.said == "nearest mark 98.5 °C, just short of it"
    shift = float(re.search(r"translate\(0 (-?[\d.]+)\)", face.drawing)[1])
    assert shift == pytest.approx(95 + 98.3 / 0.5 * 11, abs=0.01)


def test_a_dial_turns_with_its_value_and_numbers_are_its_marks() -> None:
    face = instrument_faces.dial(6.4, 0.2, 10.0, "V", 1, "meter")
    assert face.said == "nearest mark 6.4 V, on it"
    turns = re.findall(r"rotate\((-?[\d.]+) ", face.drawing)
    assert len(turns) == 2  # the pointer and its image
    assert [float(t) for t in turns] == pytest.approx([-52 + 104 * 0.64] * 2, abs=0.01)
    numbers = [float(n) for n in re.findall(r'class="face-number"[^>]*>(-?[\d.]+)<', face.drawing)]
    assert numbers == sorted(numbers)
    assert numbers[0] == 0
    assert numbers[-1] == 10
    both = instrument_faces.dial(-3.0, 1.0, 30.0, "", 0, "galvanometer", both=True)
    assert both.said == "nearest mark -3, on it"


def test_a_protractor_a_display_and_a_card() -> None:
    assert instrument_faces.protractor(8.2, 1.0, "protractor").said == "nearest mark 8°, just past it"
    assert instrument_faces.display("24.36", "V", "meter").said == "shows 24.36 V"
    assert instrument_faces.display("91", "", "counter").said == "shows 91"
    assert instrument_faces.card("3333", "nm", "grating").said == "says 3333 nm"


@pytest.mark.parametrize("value", [0.0, 1e-12, 1.7e9, -5.0, 1e6])
def test_values_far_from_their_usual_size_are_drawn(value: float) -> None:
    for face in (
        instrument_faces.scale(value, 0.1, "cm", 1, "rule", reach=(value - 1, value + 1), starts=False),
        instrument_faces.scale(value, 0.1, "cm", 1, "rule", reach=(-1e9, 1e9)),
        instrument_faces.thermometer(value, 0.5, "°C", 1, "thermometer"),
        instrument_faces.vernier(value, 1.0, 20, ("the scale", "vernier"), "caliper"),
        instrument_faces.dial(value, max(abs(value) / 20, 1e-13), max(abs(value), 1e-12), "V", 3, "meter", both=True),
    ):
        assert len(face.drawing) < 400_000
        assert "nan" not in face.drawing.lower()


def test_every_sign_and_motion_has_one_part_that_moves() -> None:
    for kind in ("needle", "current", "tilt", "tone", "string", "light", "spectrum"):
        assert indicators.sign(kind, "sign").count("sign-moves") == 1
    for kind in ("swing", "bounce", "circle", "turn"):
        assert indicators.motion(kind, "motion").count("sign-moves") == 1
