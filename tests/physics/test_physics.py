"""Every definition against independent physics, under each convention: the law's own error, and how often intervals hold."""

import pytest

from tests.physics import MODELS
from tests.physics.bench import bias, conventions, hold, most_bias, said

CASES = [(name, options) for name in sorted(MODELS) for options in conventions(name)]


@pytest.mark.parametrize(
    ("experiment", "options"), CASES, ids=[f"{name} {said(options)}".strip() for name, options in CASES]
)
def test_the_law_errs_by_less_than_a_third_of_its_uncertainty(experiment: str, options: dict[str, str]) -> None:
    found = bias(experiment, MODELS[experiment], options)
    assert found
    most = most_bias(experiment, said(options))
    assert {name: off for name, off in found.items() if not abs(off) <= most} == {}


def test_every_experiment_has_a_model() -> None:
    from cavrel import catalogue

    assert set(MODELS) == set(catalogue.experiments())


@pytest.mark.parametrize("experiment", ["stefan-constant", "torsion-balance", "half-life", "newton-second-law"])
def test_intervals_hold_as_often_as_they_say(experiment: str) -> None:
    """A sample of what ``./run physics`` counts for all of them; its figures stand in docs/decisions.md."""
    assert [one for one in hold(experiment, MODELS[experiment], 60, first=300) if not one.good] == []
