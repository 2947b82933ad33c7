"""Whether readings have become steady, and the definition of a watch for it."""

import pytest

from cavrel import catalogue
from cavrel.core.analysis.steadiness import steadiness
from cavrel.core.errors import DefinitionError


def line(*values: float, every: float = 60.0) -> list[tuple[float, float]]:
    return [(i * every, v) for i, v in enumerate(values)]


def test_steady_after_so_long_within_the_band() -> None:
    state = steadiness({"a": line(20, 60, 90, 97.5, 98.0, 98.0, 97.5, 98.0, 98.0)}, 1.0, 300)
    assert (state.since, state.held, state.steady) == (180, 300, True)
    assert state.means["a"] == pytest.approx((97.5 + 98 + 98 + 97.5 + 98 + 98) / 6)


def test_not_yet_and_steady_no_longer() -> None:
    assert not steadiness({"a": line(97.5, 98.0, 98.0, 97.5)}, 1.0, 300).steady
    state = steadiness({"a": line(98, 98, 98, 98, 98, 98, 90)}, 1.0, 300)
    assert (state.since, state.steady, state.means) == (None, False, {})
    again = steadiness({"a": line(98, 98, 98, 90, 90.5)}, 1.0, 300)
    assert (again.since, again.held) == (180, 60)


def test_all_that_is_watched_over_the_same_stretch() -> None:
    early, late = line(*[98.0] * 8), line(50, 70, 90, *[97.0] * 5)
    state = steadiness({"a": early, "b": late}, 1.0, 300)
    assert (state.since, state.held, state.steady) == (180, 240, False)
    assert steadiness({"a": early, "b": []}, 1.0, 300).since is None
    assert steadiness({}, 1.0, 300).since is None


def test_two_readings_far_apart_are_too_few() -> None:
    assert not steadiness({"a": [(0.0, 98.0), (400.0, 98.0)]}, 1.0, 300).steady


@pytest.mark.parametrize(
    ("change", "place"),
    [
        ('timer = { kind = "steady", for = "5 min" }', "steps.2.timer"),
        ('timer = { kind = "steady", for = "5 min", band = "1 V" }', "steps.2.timer.band"),
        ('timer = { kind = "steady", for = "5 min", band = "0 K" }', "steps.2.timer.band"),
        ('timer = { kind = "steady", for = "5 min", band = "warm" }', "steps.2.timer.band"),
    ],
)
def test_a_watch_that_cannot_be_is_refused(change: str, place: str) -> None:
    text = (catalogue.HERE / "experiments" / "stefan-constant.toml").read_text()
    good = 'timer = { kind = "steady", for = "5 min", band = "1 K" }'
    assert good in text
    with pytest.raises(DefinitionError) as fault:
        catalogue.program_of(catalogue.read_toml(text.replace(good, change)))
    assert fault.value.place.startswith(place)
