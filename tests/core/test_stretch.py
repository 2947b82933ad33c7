"""The stretch proposed of a trace."""

import numpy as np
import pytest

from cavrel.core.analysis.stretch import propose


def run(seed: int, slow: bool = False) -> tuple[np.ndarray, np.ndarray, float, float, float]:
    """Rest, a run at a steady acceleration, and the stop, with noise: times, speeds, acceleration, when it begins and when it ends."""
    draw = np.random.default_rng(seed)
    rest, lasting, a = draw.uniform(0.2, 1), draw.uniform(0.8, 3), 10 ** draw.uniform(-1.5, 1)
    t = np.arange(int(50 * (rest + lasting + 0.5))) / 50
    v = a * np.clip(t - rest, 0, lasting)
    v[t > rest + lasting] = 0
    noise = draw.normal(0, draw.uniform(0.003, 0.02) * a * lasting, len(t))
    if slow:  # every sample holds half of the one before
        for i in range(1, len(noise)):
            noise[i] = 0.5 * noise[i - 1] + 0.87 * noise[i]
    return t, v + noise, a, rest, rest + lasting


@pytest.mark.parametrize("slow", [False, True])
def test_it_lies_within_the_run_and_gives_its_slope(slow: bool) -> None:
    good = 0
    for seed in range(60):
        t, v, a, begin, end = run(seed, slow)
        found = propose(t, v)
        assert found is not None
        assert found.before == "before the release: at rest"
        inside = (t >= found.begin) & (t <= found.end)
        slope = np.polyfit(t[inside], v[inside], 1)[0]
        good += abs(slope / a - 1) < 0.05 and begin - 0.1 < found.begin < found.end < end + 0.05
    assert good >= 57


def test_a_sign_that_counts_the_other_way_and_numbers_far_from_their_usual_size() -> None:
    t, v, _, _, _ = run(3)
    plain = propose(t, v)
    for change in (-v, 1e80 * v, 1e-80 * v, v + 5.0):
        other = propose(t, change)
        assert other is not None
        assert other.begin == pytest.approx(plain.begin, abs=0.05)
        assert other.end == pytest.approx(plain.end, abs=0.05)
    later = propose(t + 1.7e9, v)
    assert later is not None
    assert later.begin - 1.7e9 == pytest.approx(plain.begin, abs=0.05)


def test_nothing_is_proposed_of_noise_or_of_few_samples() -> None:
    t = np.linspace(0, 1, 200)
    assert propose(t, np.random.default_rng(1).normal(0, 1, 200)) is None
    assert propose(t, np.full(200, 3.0)) is None
    assert propose(t[:11], t[:11]) is None
    assert propose(t, np.full(200, np.nan)) is None


def test_a_curve_is_said_to_bend() -> None:
    t = np.linspace(0, 1, 200)
    noise = np.random.default_rng(2).normal(0, 0.003, 200)
    up, down = propose(t, t**2 + noise), propose(t, np.sqrt(t + 0.05) + noise)
    assert (up.straight, up.bends) == (False, "up")
    assert (down.straight, down.bends) == (False, "down")


def test_a_sensor_that_repeats_itself_is_not_taken_to_pieces() -> None:
    """Unrest that comes in steps, each exactly straight."""
    t = np.arange(130) / 50
    v = np.clip(0.79 * (t - 0.4), 0, 1.3) + 0.001 * ((np.arange(130) * 7919) % 13 - 6)
    found = propose(t, v.round(4))
    assert 0.35 < found.begin < 0.5
    assert 1.9 < found.end < 2.1


def test_coarse_steps_of_a_sensor() -> None:
    t, v, a, begin, end = run(5)
    found = propose(t, (v / (0.05 * a)).round() * 0.05 * a)
    assert begin - 0.15 < found.begin < found.end < end + 0.1
    assert found.end - found.begin > 0.6 * (end - begin)


def test_a_straight_line_is_one_piece() -> None:
    t = np.linspace(0, 2, 100)
    found = propose(t, 3 * t)
    assert found.straight
    assert found.before == found.after == ""
    assert len(found.pieces) == 1
