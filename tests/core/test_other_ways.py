"""Other ways to one value, and what would reconcile two of them, against formulas computed by NumPy and SciPy."""

import math

import numpy as np
import pytest
from scipy import optimize

from cavrel import catalogue
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.analysis.reconciled import reconciled
from cavrel.core.definition.other_ways import FREE, ORIGIN, ROWS, other_ways
from cavrel.core.logbook.run import load

G = 9.81


def wire(origin: str = "free") -> dict:
    """A run document: stress is near proportional to strain, with an offset of half a millimetre."""
    loads = [200, 500, 800, 1100, 1400]
    marks = [14.55 + 0.0024 * load + shift for load, shift in zip(loads, (0.02, -0.03, 0.01, 0.02, -0.02), strict=True)]
    return {
        "format": "cavrel-run/1",
        "experiment": "young-modulus",
        "rules": {"weights": "equal", "origin": origin, "g": G},
        "quantities": {"l0": "200.0", "d": "0.300", "x0": "14.00"},
        "series": {"loads": {"m": [str(v) for v in loads], "x": [f"{v:.2f}" for v in marks]}},
    }


def analysed(document: dict, ways: str = "") -> tuple[Analysis, dict[str, str]]:
    definition = catalogue.experiments()[document["experiment"]]
    names: dict[str, str] = {}
    if ways:
        made, found = other_ways(definition, ways)
        definition, names = made, dict(found)
    return analyse(catalogue.program_of(definition), load(document)), names


def test_through_the_origin_with_an_intercept_and_row_by_row() -> None:
    document = wire()
    analysis, names = analysed(document, "E")
    area = math.pi * 0.300e-3**2 / 4
    y = np.array([float(v) for v in document["series"]["loads"]["m"]]) * 1e-3 * G / area
    x = (np.array([float(v) for v in document["series"]["loads"]["x"]]) - 14.00) * 1e-3 / 2.0
    by_hand = {FREE: np.polyfit(x, y, 1)[0], ORIGIN: (x @ y) / (x @ x)}
    for way, value in by_hand.items():
        assert analysis.results[names[way]].value == pytest.approx(value, rel=1e-6), way
    # The mean weighs rows by what is known of each; it lies among them, below the line that an offset does not touch.
    rows = y / x
    assert rows.min() < analysis.results[names[ROWS]].value < rows.max() < by_hand[FREE]
    assert analysis.results["E"].value == pytest.approx(by_hand[FREE], rel=1e-6)
    forced, names = analysed(wire("forced"), "E")
    assert forced.results["E"].value == pytest.approx(by_hand[ORIGIN], rel=1e-6)
    assert forced.results[names[FREE]].value == pytest.approx(by_hand[FREE], rel=1e-6)


@pytest.mark.parametrize(("experiment", "result"), [("spring", "l_0"), ("current-balance", "B")])
def test_what_is_no_slope_through_the_origin_has_no_other_way(experiment: str, result: str) -> None:
    definition = catalogue.experiments()[experiment]
    made, names = other_ways(definition, result)
    assert names == {} and made is definition


def flier(radius: str, length: str = "104.0") -> Analysis:
    times = ["18.26", "18.30", "18.24", "18.28", "18.27"]
    quantities = {"m": "148.5", "l": length, "r": radius, "n": "10", "t": times}
    document = {"format": "cavrel-run/1", "experiment": "conical-pendulum", "quantities": quantities, "rules": {"g": G}}
    return analysed(document)[0]


def test_which_radius_would_reconcile_the_time_with_the_geometry() -> None:
    analysis = flier("55.0")
    found = {one.key: one for one in reconciled(analysis, analysis.results["T_lap"])}
    lap = 1.827

    def misses(radius: float, length: float) -> float:
        return 2 * math.pi * math.sqrt(math.sqrt(length**2 - radius**2) / G) - lap

    radius = optimize.brentq(lambda r: misses(r, 1.04), 0.1, 1.0)
    length = optimize.brentq(lambda l: misses(0.55, l), 0.6, 2.0)  # noqa: E741
    assert found["r"].value == pytest.approx(radius, rel=1e-3) and found["r"].read == pytest.approx(0.55)
    assert found["l"].value == pytest.approx(length, rel=1e-3)
    assert [one.far for one in found.values()] == sorted(one.far for one in found.values())
    assert found["r"].far == pytest.approx(abs(radius - 0.55) / analysis.values["r"].u[0], rel=1e-3)


def test_ways_that_agree_ask_for_nothing_and_a_lost_factor_ten_is_found() -> None:
    assert reconciled(flier("61.7"), flier("61.7").results["T_lap"]) == []
    analysis = flier("6.17")
    found = {one.key: one.value for one in reconciled(analysis, analysis.results["T_lap"])}
    assert found["r"] == pytest.approx(0.617, rel=0.02)
