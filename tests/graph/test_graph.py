"""Drawings: scales, ticks, and what stands in the SVG."""

import math
import re
import xml.etree.ElementTree as ET

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cavrel.graph import fitted as drawn_line
from cavrel.graph import numberline, points, svg
from cavrel.graph.points import Axis, Mark
from cavrel.graph.scale import fit_scale, nice_step

X, Y = Axis("length", "L", "m"), Axis("period squared", "T²", "s²")


@given(st.floats(-1e6, 1e6), st.floats(1e-9, 1e6))
def test_a_scale_holds_its_data_and_has_a_few_round_ticks(low: float, span: float) -> None:
    scale = fit_scale(low, low + span, 0, 100, 5)
    slack = 1e-8 * scale.step + 4 * math.ulp(abs(low) + span)  # far under a pixel, or less than a number can tell apart
    assert scale.low <= low + slack
    assert scale.high >= low + span - slack
    assert 1 <= len(scale.ticks()) <= 9
    assert scale.at(scale.low) == 0
    assert scale.at(scale.high) == pytest.approx(100)
    assert len({scale.text(t) for t in scale.ticks()}) == len(scale.ticks())


def test_steps_are_round() -> None:
    assert [nice_step(v, 5) for v in (1.0, 7.0, 10.0, 23.0)] == [0.2, 2.0, 2.0, 5.0]


def test_data_that_reach_near_zero_are_drawn_from_zero() -> None:
    assert fit_scale(0.6, 1.8, 0, 1, 5).low == 0
    assert fit_scale(9.7, 9.9, 0, 1, 5).low > 9


def test_ticks_are_written_with_a_real_minus_and_powers_of_ten() -> None:
    scale = fit_scale(-2e-6, 5e-6, 0, 1, 5)
    assert scale.text(-2e-6).startswith("−")
    assert scale.unit("m") == "10⁻⁶ m"


def marks() -> list[Mark]:
    states = ["read", "suspect", "out", "read"]
    return [
        Mark(x=0.5 * (i + 1), y=2.0 * (i + 1), u_x=0.01, u_y=0.2, at=f"s.{i + 1}", label=f"Row {i + 1}", state=s)
        for i, s in enumerate(states)
    ]


def elements(text: str) -> list[ET.Element]:
    return list(ET.fromstring(text).iter())


def count(text: str, class_: str) -> int:
    return sum(1 for e in elements(text) if class_ in (e.get("class") or "").split())


def test_the_straight_line_shows_every_mark_in_its_state() -> None:
    grid = np.linspace(0, 2, 10)
    own = [m for m in marks() if m.state != "out"]
    fitted = drawn_line.FittedLine(grid, 4 * grid, np.full(10, 0.1), [(m, 0.05, 0.2) for m in own])
    text, times, hidden = drawn_line.straight_line(marks(), X, Y, fitted, "T² against L")
    assert count(text, "hollow") == 1
    assert count(text, "strike") == 1
    assert count(text, "fit") == 1
    assert count(text, "band") == 1
    assert count(text, "ring") == 2  # on the graph and among the residuals
    assert min(times) >= 1
    assert not hidden
    labelled = [e for e in elements(text) if e.get("data-at")]
    assert [e.get("aria-label") for e in labelled] == ["Row 1", "Row 2", "Row 3", "Row 4"]
    words = "".join("".join(e.itertext()) for e in elements(text) if e.tag.endswith("text"))
    assert "period squared\u00a0T²\u00a0/ s²" in words
    assert "residuals in s²" in words


def test_no_line_and_no_points_still_draw() -> None:
    assert count(drawn_line.straight_line(marks(), X, Y, None, "t")[0], "fit") == 0
    assert "first full row" in points.small([], X, Y, "t")
    ET.fromstring(points.raw_curve(marks()[:1], X, Y, (np.array([0.0, 1.0]), np.array([0.0, 1.0])), "t"))


def test_other_parts_stand_in_the_picture_by_a_shape_of_their_own() -> None:
    names = [("Part B", 1.0), ("Part C", 40.0)]
    others = [
        drawn_line.OtherPoints(
            name=name,
            marks=[Mark(x=x, y=up * x, u_x=0, u_y=0, at=f"b.{x}", label="") for x in (1, 2)],
            x=np.array([1.0, 2.0]),
            y=np.array([up, 2 * up]),
        )
        for name, up in names
    ]
    alone, *_ = drawn_line.straight_line(marks(), X, Y, None, "t")
    text, *_ = drawn_line.straight_line(marks(), X, Y, None, "t", others)
    assert count(alone, "other-mark") == 0
    assert count(text, "other-mark") == 4 and count(text, "other-line") == 2
    shapes = [e.get("d") for e in elements(text) if e.get("class") == "other-mark"]
    assert len({len(re.findall(r"[-.\d]+", shape)) for shape in shapes[::2]}) == 2  # a square and a triangle
    assert [e.text for e in elements(text) if e.get("class") == "other-name"] == ["Part B", "Part C"]
    high = [float(e.text) for e in elements(text) if e.get("class") == "tick" and e.text and e.text[0].isdigit()]
    assert max(high) >= 80  # the axes hold what stands next to


def test_short_error_bars_are_magnified_and_the_tiniest_are_not() -> None:
    assert points.magnification([2.0, 2.0]) == 5
    assert points.magnification([0.004]) == 1
    assert points.magnification([40.0]) == 1
    assert points.magnification([0.0]) == 1


def test_each_axis_has_a_factor_of_its_own_and_the_picture_says_it() -> None:
    """Bars along y seen as they are, those along x five times too short to be seen."""
    x, y = fit_scale(0, 10, 0, 400, 5), fit_scale(0, 10, 400, 0, 5)
    near = [Mark(x=v, y=v, u_x=0.05, u_y=1.0, at="", label="") for v in (1, 5, 9)]
    assert points.magnified(near, x, y) == (5, 1)
    assert points.enlarged((5, 1)) == "error bars enlarged: 5 times along x"
    assert points.enlarged((1, 1)) == ""
    text, times, _ = drawn_line.straight_line(near, X, Y, None, "t")
    words = " ".join(e.text or "" for e in elements(text))
    assert points.enlarged(times) in words
    bars = [e for e in elements(text) if e.get("class") == "bar"]
    up = [abs(float(e.get("y1")) - float(e.get("y2"))) for e in bars if e.get("x1") == e.get("x2")]  # type: ignore[arg-type]
    assert max(up) == pytest.approx(2 * abs(_size(text, near)), rel=0.2)


def _size(text: str, near: list[Mark]) -> float:
    """Pixels of one unit of y in a drawing, from where its marks stand."""
    at = sorted(float(e.get("cy")) for e in elements(text) if e.get("class") == "dot")  # type: ignore[arg-type]
    return (at[-1] - at[0]) / (near[-1].y - near[0].y)


def test_the_number_line_has_the_accepted_band_and_every_value() -> None:
    entries = [
        numberline.Entry("slope", 9.82, 0.02, True),
        numberline.Entry("bench Wick", 9.79, 0.03),
        numberline.Entry("bench Foghorn", 14.0, 0.1),
    ]
    text = numberline.number_line(entries, (9.806, 0.001, "accepted 9.806"), "m/s²", "g")
    assert count(text, "accepted-ground") == 1
    assert count(text, "value") == 2
    assert "off the line" in text


def test_text_is_escaped() -> None:
    assert "<b>" not in svg.words(0, 0, "<b>&", "x")
    ET.fromstring(svg.drawing(10, 10, 'a "quoted" <title>', svg.words(0, 0, "<&>", "x")))


def test_a_crowded_small_graph_offers_only_what_is_odd() -> None:
    marks = [
        points.Mark(x=float(i), y=float(i), u_x=0.0, u_y=0.0, at=f"s.{i}", label=f"Row {i}", state="read")
        for i in range(points.MOST_TARGETS)
    ]
    assert points.small(marks, X, Y, "t").count('role="button"') == points.MOST_TARGETS
    odd = points.Mark(x=500.0, y=1.0, u_x=0.0, u_y=0.0, at="s.500", label="Row 500", state="suspect")
    crowded = points.small([*marks, odd], X, Y, "t")
    assert crowded.count('role="button"') == 1
    assert crowded.count('class="dot"') == points.MOST_TARGETS + 1


@pytest.mark.parametrize(("x", "y", "radius"), [(0.0, -62.0, 5.0), (12.345, 1e3, 4.4), (-0.004, 70.0, 2.4)])
def test_a_circle_is_the_tag_it_stands_for(x: float, y: float, radius: float) -> None:
    assert svg.circle(x, y, radius, "dot") == svg.tag("circle", cx=x, cy=y, r=radius, class_="dot")
