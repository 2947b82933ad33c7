"""The time of a lap by the line through the presses."""

import numpy as np
import pytest

from cavrel.core.analysis.laps import lap_line


def test_it_is_the_line_of_numpy() -> None:
    draw = np.random.default_rng(3)
    moments = np.sort(1.9 * np.arange(1, 21) + draw.normal(0, 0.05, 20))
    line = lap_line(moments.tolist())
    (slope, _), covariance = np.polyfit(np.arange(21), np.r_[0, moments], 1, cov=True)
    assert line.lap == pytest.approx(slope, rel=1e-12)
    assert line.u == pytest.approx(np.sqrt(covariance[0, 0]), rel=1e-9)
    assert line.whole == pytest.approx(moments[-1] / 20)
    assert line.missed == line.doubled == ()


def test_its_uncertainty_covers() -> None:
    inside = 0
    for seed in range(400):
        draw = np.random.default_rng(seed)
        presses = 1.9 * np.arange(21) + draw.normal(0, 0.08, 21)
        line = lap_line((presses[1:] - presses[0]).tolist())
        inside += abs(line.lap - 1.9) < 2.093 * line.u
    assert 0.91 < inside / 400 < 0.98


def test_a_press_too_few_or_too_many_is_named() -> None:
    moments = [1.9 * i for i in range(1, 11) if i != 4]
    assert lap_line(moments).missed == (4,)
    assert lap_line([1.9, 3.8, 3.9, 5.7, 7.6, 9.5]).doubled == (3,)


@pytest.mark.parametrize(
    "moments", [[], [1.0, 2.0, 3.0], [1.0, 1.0, 2.0, 3.0], [0.0, 1.0, 2.0, 3.0], [3.0, 2.0, 1.0, 0.5]]
)
def test_no_line_where_there_is_none(moments: list[float]) -> None:
    assert lap_line(moments) is None


def test_far_from_the_usual_size() -> None:
    line = lap_line([1.7e9 * i for i in range(1, 11)])
    assert line.lap == pytest.approx(1.7e9)
    assert line.u >= 0
