"""The laboratory: what may lie in it, what an experiment takes out, what two versions differ in, and two people at one change."""

import math

import numpy as np
import pytest

from cavrel import catalogue
from cavrel.core import laboratory as laboratories
from cavrel.core.analysis import analyse
from cavrel.core.definition.rules import RULES, HouseRules
from cavrel.core.laboratory.changes import changes
from cavrel.core.laboratory.document import LaboratoryError
from cavrel.core.laboratory.edits import ChangedMeanwhile, drop, known_by, put, with_rules
from cavrel.core.logbook import run as runs
from cavrel.core.simulate import simulate
from cavrel.present.house import shown

SPRING = {"label": "green spring", "value": "31.4 N/m", "u": "0.2 N/m", "results": ["spring.k"]}
TAPE = {"label": "old tape", "kind": "metre rule", "least_count": "5 mm", "usual": True}


def take(document: dict, experiment: str) -> laboratories.Selection:
    return laboratories.taken(laboratories.load(document), catalogue.experiments()[experiment], catalogue.instruments())


@pytest.mark.parametrize(
    ("document", "said"),
    [
        ([], "one JSON object"),
        ({"shelves": {}}, "shelves"),
        ({"instruments": {"a": {"label": "scale"}}}, "kind"),
        ({"instruments": {"a": {"label": "scale", "kind": "x", "least_count": "one"}}}, "scale"),
        ({"instruments": {"a": {"label": "scale", "kind": "x", "accuracy": "good"}}}, "0.5 % + 2 digits"),
        ({"instruments": {"a": {"label": "meter", "kind": "x", "class": 1.5}}}, "full_scale"),
        ({"instruments": {"a": {"label": "scale", "kind": "x", "count": 0}}}, "count"),
        ({"instruments": {"a": {"label": "scale", "kind": "x", "calibrated": "last year"}}}, "calibrated"),
        ({"instruments": {"a": TAPE, "b": {**TAPE, "label": "new tape"}}}, "both the usual metre rule"),
        ({"accepted": {"k": {"label": "spring", "value": "31.4"}, "1k": SPRING}}, "1k"),
        ({"accepted": {"k": {**SPRING, "value": "stiff"}}}, "24.6 N/m"),
        ({"accepted": {"k": {**SPRING, "u": "0.2 m"}}}, "u is in m"),
        ({"accepted": {"k": {**SPRING, "u": "-0.2 N/m"}}}, "no sign"),
        ({"accepted": {"k": {**SPRING, "value": "1e999 N/m"}}}, "too large"),
        ({"accepted": {"a": SPRING, "b": {**SPRING, "label": "other spring"}}}, "both stand for spring.k"),
        ({"accepted": {"a": {**SPRING, "results": ["k"]}}}, "results"),
        ({"rules": {"repeats": "guess"}}, "repeats"),
        ({"rules": {"taste": 1}}, "taste"),
    ],
)
def test_what_cannot_lie_in_it_is_refused_with_its_place(document: object, said: str) -> None:
    with pytest.raises(LaboratoryError) as refused:
        laboratories.load(document)
    assert said in str(refused.value)


def test_what_an_experiment_takes_out() -> None:
    document = {
        "instruments": {"t": TAPE},
        "accepted": {"green": SPRING, "g_local": {"label": "g here", "value": "9.8145 m/s^2"}},
    }
    of_spring = take(document, "spring")
    assert of_spring.accepted["green"].results == ("k",)
    assert set(of_spring.accepted) == {"green", "g_local"}
    # What the task costs (a thread's end judged against the scale) stays, whatever reads it.
    assert of_spring.instruments["rule"] == {
        "label": "old tape",
        "kind": "metre rule",
        "least_count": "5 mm",
        "placement": "0.5 mm",
    }
    assert set(take(document, "grating").accepted) == set()
    assert not take({"instruments": {"t": {**TAPE, "usual": False}}}, "spring").instruments


def test_the_laboratorys_value_stands_in_the_analysis_and_its_g_above_the_rule() -> None:
    spring = catalogue.experiments()["spring"]
    document = simulate(catalogue.program_of(spring), 3)
    document["accepted"] = {
        "green": {"label": "green spring", "value": "31.4 N/m", "u": "0.2 N/m", "results": ["k"]},
        "g_local": {"label": "g here", "value": "9.9 m/s^2", "u": "0.1 m/s^2", "source": "fall tower"},
    }
    run = runs.load(document)
    with_own = analyse(catalogue.program_of(spring, None, None, run.accepted), run)
    plain_run = run.model_copy(update={"accepted": {}})
    plain = analyse(catalogue.program_of(spring), plain_run)
    own, before = with_own.results["k"], plain.results["k"]
    assert before.accepted is None
    assert own.accepted is not None and own.accepted.value == 31.4 and own.accepted.u == 0.2
    # k is proportional to g, and g is no longer taken as exact: by hand, k (9.9/g) and u² = (u_k 9.9/g)² + (0.1 k/g)².
    g = plain.accepted["g_local"].value
    assert own.value == pytest.approx(before.value * 9.9 / g, rel=1e-9)
    # The intercept's u and that of the masses ride along; g's own share is added in quadrature to all but the formula's part of it.
    share = np.hypot(before.u / before.value, 0.1 / 9.9)
    assert own.u / own.value == pytest.approx(share, rel=0.02)


def test_a_run_document_with_the_laboratorys_values_reads_back_and_names_its_faults() -> None:
    spring = catalogue.experiments()["spring"]
    value = laboratories.load({"accepted": {"green": SPRING}}).accepted["green"]
    assert value.value == "31.4 N/m"
    wrong = runs.load(
        {
            "format": "cavrel-run/1",
            "experiment": "spring",
            "accepted": {"green": {"label": "a", "value": "3 m", "results": ["k"]}},
        }
    )
    with pytest.raises(Exception, match=r"results\.k\.accepted"):
        catalogue.program_of(spring, None, None, wrong.accepted)
    gone = wrong.model_copy(
        update={"accepted": {"x": wrong.accepted["green"].model_copy(update={"results": ("nothing",)})}}
    )
    with pytest.raises(Exception, match="no result 'nothing'"):
        catalogue.program_of(spring, None, None, gone.accepted)


def test_changes_in_words() -> None:
    before = laboratories.load({"instruments": {"t": TAPE}, "accepted": {"green": SPRING}})
    after = laboratories.load(
        {
            "instruments": {
                "t": {**TAPE, "least_count": "1 mm", "usual": False},
                "s": {"label": "scale", "kind": "digital balance"},
            },
            "rules": {"rounding": "one", "g": 9.81},
        }
    )
    assert changes(before, after) == [
        "old tape: used by default yes → no, least count 5 mm → 1 mm",
        "scale added",
        "green spring removed",
        "g that results are compared with: latitude 45°, height 0 m → 9.81",
        "Figures of an uncertainty: one, and two where the first is a 1 → one",
    ]
    assert changes(after, after) == []


def test_two_people_who_change_different_things_both_keep_them_and_one_thing_is_asked_about() -> None:
    first = put(laboratories.EMPTY, "instruments", "", TAPE, "")
    assert list(first.instruments) == ["old_tape"]
    seen = known_by(first.instruments["old_tape"])
    theirs = put(first, "accepted", "", SPRING, "")
    mine = put(theirs, "instruments", "old_tape", {**TAPE, "count": 4}, seen)
    assert mine.accepted and mine.instruments["old_tape"].count == 4
    with pytest.raises(ChangedMeanwhile, match="changed it meanwhile"):
        put(mine, "instruments", "old_tape", TAPE, seen)
    gone = drop(mine, "instruments", "old_tape", known_by(mine.instruments["old_tape"]))
    assert not gone.instruments
    assert drop(gone, "instruments", "old_tape", seen) is gone
    with pytest.raises(ChangedMeanwhile, match="removed it"):
        put(gone, "instruments", "old_tape", TAPE, seen)


def test_names_are_made_of_labels_that_any_language_writes() -> None:
    made = laboratories.EMPTY
    for label in ("Größe 3", "Größe 3", "线", "3rd rule", "a" * 60):
        made = put(made, "instruments", "", {"label": label, "kind": "tape"}, "")
    assert list(made.instruments) == ["gr_e_3", "gr_e_3_2", "own", "own_3rd_rule", "a" * 20]


def test_rules_that_are_the_usual_ones_are_left_out() -> None:
    assert with_rules(laboratories.EMPTY, {"repeats": "sem", "rounding": "two"}).rules == {"rounding": "two"}
    with pytest.raises(LaboratoryError, match="acceptable"):
        with_rules(laboratories.EMPTY, {"acceptable": 0})


def test_every_rule_stands_in_words_and_every_choice_makes_something_of_its_example() -> None:
    assert set(RULES) == set(HouseRules.model_fields)
    for one in shown(HouseRules()):
        assert one.title and one.why and one.example
        assert one.makes if not one.choices else len({choice.makes for choice in one.choices}) > 1, one.name
        assert sum(choice.chosen for choice in one.choices) == (1 if one.choices else 0)


def test_the_worked_example_is_right_by_hand() -> None:
    """Five timings of ten swings: u of the mean, of one, half the range; each with the watch's own step next to it."""
    t = np.array([14.82, 14.91, 14.78, 14.95, 14.84])
    made = {c.value: c.makes for one in shown(HouseRules()) if one.name == "repeats" for c in one.choices}
    for value, u in (('"sem"', t.std(ddof=1) / math.sqrt(5)), ('"sd"', t.std(ddof=1)), ('"half_range"', np.ptp(t) / 2)):
        shown_u = float(made[value].split("±")[1].split("\u2009")[0])
        assert shown_u == pytest.approx(math.hypot(u, 0.01 / math.sqrt(12)) / 10, rel=0.02), value
        assert made[value].startswith(f"{t.mean() / 10:.4f}")
