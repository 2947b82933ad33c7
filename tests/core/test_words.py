"""Rounding, judging, and what stands in the margin."""

import math

import pytest

from cavrel.core.analysis import analyse
from cavrel.core.definition.reference import ReferenceValue
from cavrel.core.definition.steps import Program
from cavrel.core.findings import findings_of
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.line_meanings import meanings
from cavrel.core.findings.verdict import verdict_of
from cavrel.core.logbook import run as runs
from cavrel.core.quantity.rounding import concise, fixed, in_step, percent, significant, with_u
from tests.core.machine import program, run


@pytest.mark.parametrize(
    ("value", "u", "rule", "text"),
    [
        (9.7912, 0.0382, "one_or_two", "9.79 ± 0.04 m/s²"),
        (9.7912, 0.0182, "one_or_two", "9.791 ± 0.018 m/s²"),
        (9.7912, 0.0962, "one_or_two", "9.79 ± 0.10 m/s²"),
        (9.7912, 0.0382, "two", "9.791 ± 0.038 m/s²"),
        (9.7912, 0.0182, "one", "9.79 ± 0.02 m/s²"),
        (-0.004, 0.03, "one_or_two", "0.00 ± 0.03 m/s²"),
        (-5.21, 0.3, "one_or_two", "−5.2 ± 0.3 m/s²"),
        (6.674e-11, 1.5e-13, "one_or_two", "(6.674 ± 0.015) × 10⁻¹¹ m/s²"),
        (123456.0, 2300.0, "one_or_two", "(1.23 ± 0.02) × 10⁵ m/s²"),
        (9.81, 0.0, "one_or_two", "9.810 m/s²"),
        (9.81, math.nan, "one_or_two", "9.810 m/s²"),
        (math.nan, 0.1, "one_or_two", ""),
    ],
)
def test_value_and_uncertainty_in_step(value: float, u: float, rule: str, text: str) -> None:
    assert with_u(value, u, "m/s^2", rule).replace("\u2009", " ") == text


def test_plain_ascii_on_request() -> None:
    assert with_u(-6.674e-11, 1.5e-13, "m/s^2", ascii_only=True) == "(-6.674 +- 0.015)e-11 m/s^2"


def test_other_numbers() -> None:
    assert concise(9.7912, 0.0382) == "9.79(4)"
    assert concise(12.3, 1.4) == "12.3(1.4)"
    assert fixed(-0.0001, 2) == "0.00"
    assert fixed(-1.25, 1).startswith("−")
    assert [significant(v, 2) for v in (0.0042, 1234.0, 0.0, 3.14159)] == ["0.0042", "1200", "0", "3.1"]
    assert [percent(v) for v in (0.04, 0.2, 3.14, 18.2)] == ["0.04", "0.20", "3.1", "18"]
    assert in_step(0.0, 0.0).value == "0"


@pytest.mark.parametrize(
    ("off", "z", "kind", "said"),
    [
        (0.2, 1.1, "agrees", "such a difference is not unusual|common"),
        (1.8, 3.1, "disagrees", "Only 1.8 % off, yet 3.1 standard uncertainties: a systematic error"),
        (
            4.0,
            0.5,
            "wide",
            "only because the result is known to no better than ±16 %, which agrees with almost any value",
        ),
        (1.0, 2.3, "doubtful", "rare by chance"),
        (45.0, 20.0, "disagrees", "45 % off, 20 standard uncertainties: look for a mistake first"),
    ],
)
def test_the_verdict_keeps_percent_and_uncertainty_apart(off: float, z: float, kind: str, said: str) -> None:
    made = program(
        quantities={"a": {"label": "a", "unit": "m"}},
        results={"x": {"label": "x", "formula": "a", "unit": "m", "accepted": "2[m]"}},
    )
    analysis = run(made, quantities={"a": f"{2 + off / 50:.6f} ± {off / 50 / z:.9f}"})
    found = verdict_of(analysis, analysis.results["x"])
    assert found.kind == kind
    assert any(part in found.text for part in said.split("|"))


GOOD = [
    ["31.07", "31.14", "30.98"],
    ["38.05", "38.12", "37.95"],
    ["43.94", "43.87", "44.06"],
    ["49.13", "49.02", "49.21"],
    ["53.81", "53.74", "53.90"],
]
LENGTHS = ["60.0", "90.0", "120.0", "150.0", "180.0"]


def findings(pendulum: Program, times=GOOD, lengths=LENGTHS, **more) -> tuple[Finding, ...]:
    return findings_of(
        analysed(pendulum, times, lengths, **more), meanings(pendulum.definition.model_dump_json(by_alias=True))
    )


def analysed(pendulum: Program, times=GOOD, lengths=LENGTHS, **more):
    body = {
        "format": "cavrel-run/1",
        "experiment": "pendulum",
        "series": {"swings": {"L": lengths, "t": times}},
        **more,
    }
    return analyse(pendulum, runs.load(body))


def codes(found: tuple[Finding, ...]) -> set[str]:
    return {f.code for f in found}


def changed(row: int, trial: int, text: str) -> list[list[str]]:
    return [[text if (i, j) == (row, trial) else t for j, t in enumerate(cells)] for i, cells in enumerate(GOOD)]


def test_a_clean_run_has_nothing_to_remark(pendulum: Program) -> None:
    assert findings(pendulum) == ()


@pytest.mark.parametrize(("text", "counted"), [("46.67", 19), ("51.58", 21)])
def test_a_miscount_is_recognised(pendulum: Program, text: str, counted: int) -> None:
    found = [f for f in findings(pendulum, changed(3, 1, text)) if f.code == "miscount"]
    assert len(found) == 1
    assert found[0].at == "swings.t.4.2"
    assert f"Were {counted} swings counted for 20?" in found[0].say


def test_swapped_digits_stand_apart(pendulum: Program) -> None:
    found = [f for f in findings(pendulum, changed(0, 0, "37.01")) if f.code == "stands-apart"]
    assert found[0].at == "swings.t.1.1"
    assert "5.95 s above the other trials" in found[0].say


def test_a_decimal_slip_is_implausible(pendulum: Program) -> None:
    found = findings(pendulum, lengths=["60.0", "9.00", "120.0", "150.0", "180.0"])
    assert any(f.code == "implausible" and f.at == "swings.L.2.1" for f in found)


def test_decimals_are_counted_in_the_typed_unit(pendulum: Program) -> None:
    assert codes(findings(pendulum, changed(1, 2, "38.0"))) == {"decimals-fewer"}
    assert codes(findings(pendulum, changed(1, 2, "38050 ms"))) == {"decimals-more"} - {"decimals-more"}
    assert codes(findings(pendulum, changed(1, 2, "38.051"))) == {"decimals-more"}


@pytest.mark.parametrize("length", ["60", "60.05", "600 mm"])
def test_nobody_is_asked_for_digits_of_what_was_set(pendulum: Program, length: str) -> None:
    assert codes(findings(pendulum, lengths=[length, "90.0", "120.0", "150.0", "180.0"])) == set()


def test_an_unreadable_reading_is_named_and_not_computed_with(pendulum: Program) -> None:
    found = [f for f in findings(pendulum, changed(1, 2, "37.9s5")) if f.code == "unreadable"]
    assert found[0].at == "swings.t.2.3"
    assert "kept as typed" in found[0].say


def test_a_wide_angle_is_against_the_rule(pendulum: Program) -> None:
    found = findings(pendulum, quantities={"theta": "25"})
    assert [f.say for f in found if f.code.startswith("check")] == [
        "So wide a swing dies away while it is timed, and the correction belongs to the angle at the start. Use less than 20°."
    ]
    assert codes(findings(pendulum, quantities={"theta": "4"})) == set()


def test_lengths_from_the_wrong_point_miss_the_origin(pendulum: Program) -> None:
    """8 cm left out of every length: the line crosses well above zero, and its slope is as good as ever."""
    found = findings(pendulum, lengths=[f"{float(v) - 8:.1f}" for v in LENGTHS])
    assert "intercept" in codes(found)


def test_a_row_set_wrong_stands_off_the_line(pendulum: Program) -> None:
    found = [f for f in findings(pendulum, lengths=["60.0", "90.0", "125.0", "150.0", "180.0"]) if f.code == "off-line"]
    assert [f.at for f in found] == ["swings.3"]
    assert found[0].row_out == ("swings", 3)


def test_percent_error_by_house_rule(pendulum: Program) -> None:
    plain, signed = (
        verdict_of(a, a.results["g"])
        for a in (analysed(pendulum), analysed(pendulum, rules={"percent_error": "signed"}))
    )
    assert plain.percent == pytest.approx(abs(signed.percent))
    low = analysed(pendulum, rules={"percent_error": "signed", "g": 9.9})
    assert verdict_of(low, low.results["g"]).percent < 0
    assert verdict_of(low, low.results["g"]).z < 0


def test_too_early_is_said_with_its_reason(pendulum: Program) -> None:
    analysis = analysed(pendulum, [["31.1"]], ["60.0"])
    verdict = verdict_of(analysis, analysis.results["g"])
    assert verdict.kind == "none"
    assert "a line needs 2 complete rows" in verdict.text.lower()


def test_accepted_values_say_where_they_come_from(pendulum: Program) -> None:
    accepted = analysed(pendulum).results["g"].accepted
    assert isinstance(accepted, ReferenceValue)
    assert "WGS 84" in accepted.source
