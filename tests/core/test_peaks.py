"""The time of a peak and the area of a pulse, against functions whose answer is known."""

import itertools
import math

import numpy as np
import pytest
from scipy import integrate

from cavrel.core.analysis import peaks
from cavrel.core.analysis.trace import extract
from cavrel.core.errors import RunError

T = np.linspace(0.0, 6.0, 400)


def gauss(t: np.ndarray, at: float, width: float) -> np.ndarray:
    return np.exp(-(((t - at) / width) ** 2))


def rising(t: np.ndarray) -> np.ndarray:
    """Steeper before its top, at 3, than behind it."""
    return np.where(t > 1, (t - 1) ** 2 * np.exp(-(t - 1)), 0.0)


@pytest.mark.parametrize(
    ("values", "top"),
    [
        (gauss(T, 3.137, 0.7), 3.137),
        (1 / (1 + ((T - 2.7) / 0.4) ** 2), 2.7),
        (5 - 3 * gauss(T, 1.21, 0.5) + 1e6, None),
        (1e-9 * gauss(T, 4.4, 0.3), 4.4),
        (rising(T), 3.0),
    ],
    ids=["bell", "resonance", "upside down", "small", "leaning"],
)
def test_a_peak_is_where_the_function_has_it(values: np.ndarray, top: float | None) -> None:
    found = extract("peak" if top is not None else "dip", T, values)
    assert found.value == pytest.approx(top or 1.21, abs=0.007)
    assert 0 < found.u < 0.02


def test_a_dip_is_no_peak() -> None:
    values = -gauss(T, 2.5, 0.4)
    assert extract("dip", T, values).value == pytest.approx(2.5, abs=0.003)
    with pytest.raises(RunError, match="no peak"):
        extract("peak", T, values)


@pytest.mark.parametrize(
    "values",
    [T, np.full(400, 3.0), np.random.default_rng(3).normal(size=400), gauss(T, 7.0, 2.0)],
    ids=["a slope", "nothing", "noise", "the foot of one"],
)
def test_what_does_not_rise_and_fall_is_refused(values: np.ndarray) -> None:
    with pytest.raises(RunError, match="rise to one and fall"):
        extract("peak", T, values)


def test_too_few_samples_are_refused() -> None:
    with pytest.raises(RunError, match="at least 7"):
        extract("peak", T, gauss(T, 3.0, 0.5), 2.95, 3.03)


@pytest.mark.parametrize("shape", [lambda t: gauss(t, 3.1, 0.7), rising], ids=["bell", "leaning"])
def test_the_uncertainty_of_a_peak_covers(shape) -> None:
    draw, many, top = np.random.default_rng(4), 300, 3.1 if shape(np.array([3.1]))[0] == 1 else 3.0
    size = 0.03 * float(np.ptp(shape(T)))
    inside = [
        abs((one := extract("peak", T, shape(T) + draw.normal(0, size, len(T)))).value - top) <= 2 * one.u
        for _ in range(many)
    ]
    assert 0.91 <= sum(inside) / many <= 1.0


def test_peaks_are_found_in_their_order_each_with_its_own_stretch() -> None:
    t = np.arange(0, 65, 0.05)
    tops = [7.0, 16.8, 26.5, 36.3, 46.1, 55.8]
    values = sum((i + 1) * gauss(t, top, 1.6) for i, top in enumerate(tops)) + 0.02 * t
    values = values + np.random.default_rng(1).normal(0, 0.03, len(t))
    found = peaks.find(t, values)
    assert [one.top for one in found] == pytest.approx(tops, abs=0.4)
    for one, after in itertools.pairwise(found):
        assert one.begin < one.top < one.end == after.begin
    for one, top in zip(found, tops, strict=True):
        assert extract("peak", t, values, one.begin, one.end).value == pytest.approx(top, abs=0.06)
    assert peaks.find(t, np.random.default_rng(2).normal(size=len(t))) == []
    assert peaks.find(t[:5], values[:5]) == []


def test_an_area_is_the_integral_with_the_noise_of_its_samples() -> None:
    t = np.sort(np.random.default_rng(6).uniform(0, 6, 300))
    draw, true = np.random.default_rng(7), integrate.quad(lambda x: math.exp(-(((x - 3) / 0.8) ** 2)), 1.0, 5.0)[0]
    pulse = gauss(t, 3.0, 0.8)
    clean = extract("area", t, pulse, 1.0, 5.0)
    assert clean.value == pytest.approx(integrate.trapezoid(pulse[(t >= 1) & (t <= 5)], t[(t >= 1) & (t <= 5)]))
    assert clean.value == pytest.approx(true, rel=2e-3)
    found = [extract("area", t, pulse + draw.normal(0, 0.05, 300), 1.0, 5.0) for _ in range(300)]
    scatter = float(np.std([one.value for one in found]))
    assert np.mean([one.u for one in found]) == pytest.approx(scatter, rel=0.15)
    assert extract("area", t, -pulse, 1.0, 5.0).value == pytest.approx(-clean.value)


def test_times_that_go_back_have_no_area_and_no_peak() -> None:
    t = np.array([0.0, 1.0, 2.0, 1.5, 3.0, 4.0, 5.0, 6.0])
    for kind in ("area", "peak"):
        with pytest.raises(RunError):
            extract(kind, t, np.array([0.0, 1, 2, 3, 4, 3, 2, 1]))
