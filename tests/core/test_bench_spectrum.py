"""What the telescope of a spectrometer shows: every line of the lamp on both sides and in every order, wherever the sheet is."""

import numpy as np
import pytest
from pydantic import ValidationError

from cavrel import catalogue
from cavrel.core.bench import Bench
from cavrel.core.bench.shown import Shown
from cavrel.core.definition.simulation import Seek, Simulate
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.slots import Slot

MINUTE = np.radians(1 / 60)


def shown(
    experiment: str, slot: str, series: dict, options: dict | None = None, faults: tuple = (), take: int = 1
) -> Shown:
    of = catalogue.program_of(catalogue.experiments()[experiment], options=options or {})
    run = runs.load({"format": "cavrel-run/1", "experiment": experiment, "series": series})
    place = Slot.read(slot)
    assert place is not None
    return Bench(of, run, 11, faults).shown(place, take)


def places(seen: Shown) -> dict[tuple[int, int], float]:
    """By order and wavelength in whole nanometres, radians from the straight light."""
    assert seen.found is not None
    straight = next(line.at for line in seen.found.lines if not line.order)
    return {(line.order, round(line.wave * 1e9)): line.at - straight for line in seen.found.lines if line.order}


@pytest.mark.parametrize(("n", "name"), [(3, 656), (4, 486), (5, 434), (6, 410), (12, None)])
def test_hydrogen_shows_its_visible_lines_whatever_is_asked(n: int, name: int | None) -> None:
    """Angles by the grating's law from Balmer's formula, both written anew; nothing stands where a line of the ultraviolet would."""
    seen = shown("hydrogen-lines", "lines.theta_r.1.1", {"lines": {"n": [str(n)]}})
    at = places(seen)
    for m in (1, 2, 3):
        for level, nanometres in ((3, 656), (4, 486), (5, 434), (6, 410)):
            sine = m / (1.09677583e7 * (1 / 4 - 1 / level**2)) / (1.00028 * 1666.4e-9)
            if sine < 1:
                assert at[m, nanometres] == pytest.approx(np.arcsin(sine), abs=0.2 * MINUTE)
                assert at[-m, nanometres] == pytest.approx(-np.arcsin(sine), abs=0.2 * MINUTE)
            else:
                assert (m, nanometres) not in at
    near = [line for line in seen.found.lines if abs(line.at - seen.value) < 0.3 * MINUTE]
    assert [round(line.wave * 1e9) for line in near] == ([name] if name else [])
    assert all(390e-9 < line.wave < 750e-9 for line in seen.found.lines)


def test_second_orders_overlap_the_first_and_are_fainter() -> None:
    seen = shown("hydrogen-lines", "lines.theta_l.1.1", {"lines": {"n": ["3"]}})
    at, bright = places(seen), {(line.order, round(line.wave * 1e9)): line.bright for line in seen.found.lines}
    assert at[3, 434] < at[2, 656] < at[3, 486], "the third order lies among the second"
    assert bright[2, 656] == pytest.approx(bright[1, 656] / 2)
    assert bright[-1, 656] == bright[1, 656]


@pytest.mark.parametrize(
    ("faults", "left", "right"), [((), 23.193, 23.193), (("tilted",), None, None)], ids=["square", "askew"]
)
def test_a_grating_that_stands_askew_shifts_both_sides(faults: tuple, left: float | None, right: float | None) -> None:
    series = {"lines": {"n": ["3"]}}
    on_left = shown("hydrogen-lines", "lines.theta_l.1.1", series, faults=faults)
    on_right = shown("hydrogen-lines", "lines.theta_r.1.1", series, faults=faults)
    red_left = min(line.at for line in on_left.found.lines if line.order == -1 and line.wave > 600e-9)
    red_right = max(line.at for line in on_right.found.lines if line.order == 1 and line.wave > 600e-9)
    assert (red_left, red_right) == pytest.approx((on_left.value, on_right.value), abs=0.3 * MINUTE)
    half = np.degrees(red_right - red_left) / 2
    if left is not None:
        assert half == pytest.approx(left, abs=0.05)
    else:
        sine = 656.47 / (1.00028 * 1666.4)
        askew = (np.arcsin(sine + np.sin(0.03)) + np.arcsin(sine - np.sin(0.03))) / 2
        assert half == pytest.approx(np.degrees(askew), abs=0.05)
        assert abs(half - 23.193) > 0.005


def test_an_order_that_does_not_exist_shows_the_others() -> None:
    seen = shown("grating", "orders.theta_l.1.1", {"orders": {"j": ["9"]}}, {"light": "sodium"})
    at = places(seen)
    assert sorted({order for order, _ in at}) == [-5, -4, -3, -2, -1, 1, 2, 3, 4, 5]
    for order in (1, 4):
        assert at[order, 589] == pytest.approx(
            np.arcsin(order * 589.29 / 3333), rel=0.012
        )  # the spacing is the run's own


def test_half_a_degree_lost_at_the_vernier_is_lost_once() -> None:
    series = {"lines": {"n": ["3", "4", "5", "6"]}}
    off = []
    for row in range(1, 5):
        for trial in range(1, 4):
            seen = shown("hydrogen-lines", f"lines.theta_l.{row}.{trial}", series, faults=("minutes",))
            red = next(line.at for line in seen.found.lines if (line.order, round(line.wave * 1e9)) == (-1, 656))
            off.append(np.degrees(red) - (180.21 - 23.193))
    assert sum(abs(o) > 0.4 for o in off) == 1
    assert max(off) == pytest.approx(0.5, abs=0.06)


def test_a_prism_bends_violet_most() -> None:
    at = places(shown("prism", "lines.theta_r.1.1", {"lines": {"lam": ["546.1"]}}))
    right = [at[1, nm] for nm in (405, 436, 546, 577, 579, 623)]
    assert right == sorted(right, reverse=True)
    assert at[1, 546] == pytest.approx(-at[-1, 546], abs=1e-9)
    index = 1.6032 + 0.00912 / 0.54607**2
    assert at[1, 546] == pytest.approx(
        2 * np.arcsin(index * np.sin(np.radians(60.05) / 2)) - np.radians(60.05), rel=0.01
    )


@pytest.mark.parametrize(
    "seek",
    [
        {"sign": "spectrum", "low": "0[°]", "high": "90[°]"},
        {"sign": "spectrum", "place": "order*wave/d", "width": "1[°]", "low": "0[°]", "high": "90[°]"},
        {"sign": "needle", "place": "order*wave/d", "width": "1[°]", "low": "0[°]", "high": "90[°]"},
    ],
)
def test_a_spectrum_says_the_place_of_its_lines_and_nothing_else_does(seek: dict) -> None:
    with pytest.raises(ValidationError):
        Seek(**seek)


def test_a_spectrum_without_a_lamp_is_refused() -> None:
    seek = {"sign": "spectrum", "place": "order*wave/d", "low": "0[°]", "high": "90[°]"}
    Simulate(seek={"x": seek}, lamp=[{"wave": "500[nm]"}])
    with pytest.raises(ValidationError, match="lamp"):
        Simulate(seek={"x": seek})


@pytest.mark.parametrize(("seconds", "share"), [("5", 0.25), ("20", 1.0), ("80", 4.0)])
def test_a_counter_counts_for_as_long_as_it_is_left_on(seconds: str, share: float) -> None:
    of = catalogue.program_of(catalogue.experiments()["half-life"])
    document = {"format": "cavrel-run/1", "experiment": "half-life", "quantities": {"dt": seconds}}
    slot = Slot.read("quantities.b.1")
    many = [Bench(of, runs.load(document), seed).shown(slot).value for seed in range(200)]
    assert np.mean(many) == pytest.approx(9 * share, abs=4 * np.sqrt(9 * share / 200))
    assert Bench(of, runs.load(document), 1).shown(slot).counts == float(seconds)


def test_a_quantity_is_found_in_the_field_as_well() -> None:
    """What is true by the simulation's truths alone, and read by no formula of its own."""
    document = catalogue.experiments()["prism"].document()
    own = {"sign": "spectrum", "place": "beta + order*alpha_0", "low": "100[°]", "high": "260[°]"}
    document["simulate"]["seek"]["alpha_l"] = own
    of = catalogue.program_of(catalogue.resolve(document))
    slot = Slot.read("quantities.alpha_l.1")
    assert slot is not None
    seen = Bench(of, runs.load({"format": "cavrel-run/1", "experiment": "prism"}), 3).shown(slot)
    left = [line.at for line in seen.found.lines if line.order == -1]
    assert left == pytest.approx([seen.value] * len(left), abs=1e-9)
    assert len(left) == 9


@pytest.mark.parametrize("wave", ["0[nm]", "-500[nm]", "1e300[m]", "1[nm]/0"])
def test_a_lamp_of_no_light_shows_nothing_and_breaks_nothing(wave: str) -> None:
    document = catalogue.experiments()["prism"].document()
    document["simulate"]["lamp"] = [{"wave": wave}, {"wave": "546[nm]"}]
    of = catalogue.program_of(catalogue.resolve(document))
    run = {"format": "cavrel-run/1", "experiment": "prism", "series": {"lines": {"lam": ["546"]}}}
    slot = Slot.read("lines.theta_r.1.1")
    assert slot is not None
    seen = Bench(of, runs.load(run), 3).shown(slot)
    assert {round(line.wave * 1e9) for line in seen.found.lines} == {546}
