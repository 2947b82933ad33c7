"""What a bench predicted, in its own words, against what it found."""

import pytest

from cavrel.core.findings.predicted import predicted
from tests.core.machine import program as made
from tests.core.machine import run


@pytest.mark.parametrize(
    ("text", "kind", "say"),
    [
        ("About 9.8 m/s², for we are at sea level.", "right", "within 10 %"),
        ("9,8", "right", "within 10 %"),
        ("980 cm/s²", "right", "within 10 %"),
        ("about 12", "wrong", "18 % from it"),
        ("below 10, because the thread is light", "right", "below it"),
        ("less than 9 m/s²", "wrong", "above it"),
        ("more than 9", "right", "above it"),
        ("at least 11", "wrong", "below it"),
        ("> 9.80", "close", "too close to tell"),
        ("between 9 and 10", "right", "between the two"),
        ("10 to 11", "wrong", "outside the two"),
        ("from 8 to 9.79", "close", "too close to tell"),
        ("it will be larger than on the Moon", "open", "no number"),
        ("9.8 kg", "right", ""),  # a word after the number that is no unit of this is passed over
        ("0.98 × 10^1", "right", "within 10 %"),
        ("0", "wrong", "not as predicted"),
        ("moreover 9.8", "right", "within 10 %"),
        ("−9.8", "wrong", "200 % from it"),
    ],
)
def test_words_are_held_against_the_result(text: str, kind: str, say: str) -> None:
    analysis = run(
        made(
            quantities={"g_m": {"label": "g", "unit": "m/s^2"}},
            results={"g": {"label": "g", "formula": "g_m", "unit": "m/s^2"}},
        ),
        quantities={"g_m": "9.81 ± 0.02"},
    )
    found = predicted(text, analysis.results["g"], 10.0)
    assert (found.kind, say in found.say) == (kind, True), found


def test_what_the_uncertainty_cannot_tell_is_left_open() -> None:
    parts = {
        "quantities": {"g_m": {"label": "g", "unit": "m/s^2"}},
        "results": {"g": {"label": "g", "formula": "g_m", "unit": "m/s^2"}},
    }
    analysis = run(made(**parts), quantities={"g_m": "9.8 ± 2"})
    assert predicted("7", analysis.results["g"], 10.0).kind == "close"
    assert predicted("5", analysis.results["g"], 10.0).kind == "wrong"
    assert predicted("above 8", analysis.results["g"], 10.0).kind == "close"


def test_before_there_is_a_result_nothing_is_marked() -> None:
    analysis = run(
        made(quantities={"g_m": {"label": "g", "unit": "m/s^2"}}, results={"g": {"label": "g", "formula": "g_m"}})
    )
    assert predicted("9.8", analysis.results["g"], 10.0).kind == "open"
