"""The catalogue's experiments on numbers computed by hand. Common practice, no source, unless a docstring names one."""

import math
from typing import Any

import pytest

from cavrel import catalogue
from cavrel.core.analysis import Analysis, analyse
from cavrel.core.findings import findings_of
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.verdict import verdict_of
from cavrel.core.logbook import run as runs
from cavrel.core.simulate import simulate

G_SCHOOL = {"g": 9.81}


def analysed(experiment: str, **parts: Any) -> Analysis:
    """One run of ``experiment`` from the parts of its document."""
    options = parts.get("options", {})
    program = catalogue.program_of(catalogue.experiments()[experiment], options=options)
    return analyse(program, runs.load({"format": "cavrel-run/1", "experiment": experiment, **parts}))


def findings(analysis: Analysis) -> tuple[Finding, ...]:
    return findings_of(analysis, catalogue.meanings_of(analysis.program.definition))


def shown(analysis: Analysis, name: str) -> float:
    """A result's value in its own unit."""
    found = analysis.results[name]
    assert not found.reason, found.reason
    return found.unit.from_si(found.value)


def test_pulley_from_one_trial() -> None:
    """Two turns from rest in 55 frames at 60 a second: 29.910 rad/s²; radius 20.2 mm, 0.955 N: 6.45e-4 kg m² without friction."""
    analysis = analysed(
        "stepped-pulley", series={"turns": {"m": ["100"], "D": ["40.4"], "F": [["0.955"]], "k": [["55"]]}}
    )
    alpha, radius = analysis.values["turns.alpha"].value[0], analysis.values["turns.r"].value[0]
    assert alpha == pytest.approx(29.910, abs=5e-4)
    assert radius * 0.955 / alpha == pytest.approx(6.45e-4, rel=1e-3)


@pytest.mark.parametrize(("known", "null", "unknown"), [("5", "46.5", 4.35), ("1", "69.0", 2.23), ("2", "54.3", 2.38)])
def test_bridge_with_the_unknown_left(known: str, null: str, unknown: float) -> None:
    analysis = analysed("metre-bridge", options={"gap": "left"}, series={"first": {"K": [known], "l": [[null]]}})
    assert shown(analysis, "R_1") == pytest.approx(unknown, abs=0.005)
    assert analysis.results["R_s"].reason


def test_the_other_gap_is_the_reciprocal() -> None:
    right = analysed("metre-bridge", series={"first": {"K": ["5"], "l": [["46.5"]]}})
    assert shown(right, "R_1") == pytest.approx(25 / (5 * 46.5 / 53.5), rel=1e-12)


def test_swapping_the_gaps_removes_end_errors() -> None:
    """A bad joint as long as 8 mm of wire at the left end: one gap alone is 1.5 percent off, both averaged a tenth of that."""
    ratio, joint = 4.42 / 5, 0.8
    left = (100 + joint) * ratio / (1 + ratio) - joint
    right = (100 + joint) / (1 + ratio) - joint
    series = {"first": {"K": ["5"], "l": [[f"{right:.4f}"]], "w": [[f"{left:.4f}"]]}}
    swapped = analysed("metre-bridge", options={"gap": "swapped"}, series=series)
    alone = analysed("metre-bridge", series={"first": {"K": ["5"], "l": [[f"{right:.4f}"]]}})
    assert abs(shown(swapped, "R_1") - 4.42) < 0.1 * abs(shown(alone, "R_1") - 4.42)


FLIER = {"m": "155.5", "l": "110.0", "n": "10", "t": ["19.87"] * 3}


def test_flier_and_the_radius_that_cannot_be() -> None:
    """0.1555 kg, ten laps in 19.87 s, r = 0.80 m, g = 9.8: F_c 1.244 N, weight 1.524 N, string 1.967 N, 39.2°; the string of 1.10 m says 46.7°."""
    analysis = analysed("conical-pendulum", rules={"g": 9.8}, quantities={**FLIER, "r": ["80"] * 3})
    assert shown(analysis, "F_c") == pytest.approx(1.244, abs=5e-4)
    assert shown(analysis, "F_g") == pytest.approx(1.524, abs=5e-4)
    assert shown(analysis, "F_T") == pytest.approx(1.967, abs=5e-4)
    assert shown(analysis, "theta_F") == pytest.approx(39.2, abs=0.05)
    assert shown(analysis, "theta_r") == pytest.approx(46.7, abs=0.05)
    apart = [finding for finding in findings(analysis) if finding.code == "apart" and finding.at == "results.theta_F"]
    assert len(apart) == 1


def test_a_flier_without_a_slip_is_not_suspected() -> None:
    radius = 110 * math.sqrt(1 - (9.8 * 1.987**2 / (4 * math.pi**2 * 1.10)) ** 2)
    analysis = analysed("conical-pendulum", rules={"g": 9.8}, quantities={**FLIER, "r": [f"{radius:.0f}"] * 3})
    assert not [finding for finding in findings(analysis) if finding.code == "apart"]


def coil(turns: str, length: str, meter: str) -> dict[str, Any]:
    return {"coils": {"N": [turns], "l": [length], "D": ["10.0"], "L_m": [[meter]]}}


def test_coils() -> None:
    """50 turns of 5 mm radius on 5.05 cm: 4.9 µH by the long formula; the meter's 5.9 less 0.7 for the leads: 5.2; 100 turns on twice
    the length 10.5, about double; 200 turns there 43.7, about four times that."""
    series = {
        "coils": {
            "N": ["50", "100", "200"],
            "l": ["50.5", "101.0", "101.0"],
            "D": ["10.0"] * 3,
            "L_m": [["5.9"], ["11.2"], ["44.4"]],
        }
    }
    analysis = analysed("coil-inductance", options={"formula": "long"}, quantities={"L_0": ["0.7"]}, series=series)
    mu = 4e-7 * math.pi
    assert mu * analysis.values["coils.S"].value[0] == pytest.approx(4.9e-6, abs=5e-8)
    assert analysis.values["coils.L"].value == pytest.approx([5.2e-6, 10.5e-6, 43.7e-6])
    ratios = analysis.values["coils.q"].value
    assert ratios[1] == pytest.approx(2, abs=0.1)
    assert ratios[2] / ratios[1] == pytest.approx(4, abs=0.2)
    assert analysis.values["coils.q_S"].value == pytest.approx([1, 2, 8])


def test_push_on_a_current() -> None:
    """A reading of 0.29 g is a force of 2.8 mN; a slope of 0.37 N/A over the length of the wire is the field."""
    currents = ["0.50", "1.00", "1.50", "2.00"]
    grams = [f"{0.37 * float(i) / 9.81 * 1000:.4f}" for i in currents]
    analysis = analysed(
        "current-balance",
        rules=G_SCHOOL,
        quantities={"l_A": "84.0"},
        series={"currents": {"I": currents, "m": [[g] for g in grams]}, "lengths": {"l": ["10"], "m": [["0.29"]]}},
    )
    assert analysis.values["lengths.F"].value[0] == pytest.approx(2.8e-3, abs=5e-5)
    assert shown(analysis, "B_A") == pytest.approx(0.37 / 0.084 * 1000, rel=1e-4)
    assert not any(finding.level == "danger" for finding in findings(analysis))


def test_too_much_current_is_a_danger() -> None:
    analysis = analysed("current-balance", series={"currents": {"I": ["2.40"], "m": [["0.80"]]}})
    assert [finding.level for finding in findings(analysis) if finding.code.startswith("check")] == ["danger"]


def test_voltmeter_from_a_galvanometer() -> None:
    """V = 3 V over n divisions of k: R = V/(n k) - G, least count V/n."""
    told = {"n": "30", "k": "20.00", "G": "100.0", "V": "3"}
    analysis = analysed("galvanometer-conversion", quantities={**told, "R_box": "4900"})
    assert shown(analysis, "R") == pytest.approx(3 / (30 * 20e-6) - 100)
    assert shown(analysis, "c") == pytest.approx(0.1)
    assert not any(finding.level == "danger" for finding in findings(analysis))
    overloaded = analysed("galvanometer-conversion", quantities={**told, "R_box": "2900"})
    assert any(finding.level == "danger" and finding.at == "quantities.R_box" for finding in findings(overloaded))


def test_shunt_of_an_ammeter() -> None:
    told = {"n": "30", "k": "20.00", "G": "100.0", "I": "0.3", "R_box": "0.2"}
    analysis = analysed("galvanometer-conversion", options={"meter": "ammeter"}, quantities=told)
    assert shown(analysis, "R") == pytest.approx(600e-6 * 100 / (0.3 - 600e-6))


def test_scale_without_tare_misses_the_origin() -> None:
    program = catalogue.program_of(catalogue.experiments()["current-balance"])
    spoilt = runs.load(simulate(program, 4, ["untared"]))
    assert any(finding.code == "intercept" for finding in findings(analyse(program, spoilt)))


def test_sink_or_float_has_a_probability() -> None:
    """Soap of 0.93 g/cm³ floats; the chance that it does is nearly one, and half where its density is water's own."""
    edges = {"k": ["0", "1", "2"], "a": [["80.00"], ["40.00"], ["20.00"]], "b": [["50.00"]] * 3, "h": [["25.00"]] * 3}
    for density, chance in ((0.93, 1.0), (0.99821, 0.5)):
        masses = [f"{density * volume:.1f}" for volume in (100, 50, 25)]
        analysis = analysed(
            "block-density",
            rules={"origin": "forced"},
            quantities={"theta": "20.0"},
            series={"pieces": {**edges, "m": masses}},
        )
        said = verdict_of(analysis, analysis.results["rho"]).side
        assert said is not None
        words, probability = said
        assert probability == pytest.approx(chance, abs=0.12)
        assert words in ("It floats on fresh water", "It sinks in fresh water")


def test_what_matters_in_stefans_constant() -> None:
    """A disc near room temperature under steam gives the constant within tens of percent, and every input has its share."""
    program = catalogue.program_of(catalogue.experiments()["stefan-constant"])
    analysis = analyse(program, runs.load(simulate(program, 2)))
    assert shown(analysis, "sigma") == pytest.approx(5.67e-8, rel=0.3)
    assert math.fsum(line.share for line in analysis.results["sigma"].budget) == pytest.approx(1)
    assert len(analysis.results["sigma"].budget) >= 6


def test_published_values_are_accepted_values_and_not_another_way() -> None:
    """Rydberg's constant, and the speed of sound at the temperature read, come from outside: a percent error is against them."""
    outside = {"hydrogen-lines": "R", "speed-of-sound": "v", "resonance-tube": "v", "block-density": "rho"}
    inside = {
        "string-waves": "mu",
        "oscillating-mass": "m_s",
        "conical-pendulum": "theta_F",
        "newton-second-law": "m_A",
    }
    for names, measured in ((outside, False), (inside, True)):
        for experiment, name in names.items():
            program = catalogue.program_of(catalogue.experiments()[experiment])
            found = analyse(program, runs.load(simulate(program, 3))).results[name]
            assert found.accepted is not None
            assert found.compared is not None and found.compared.measured is measured, experiment
