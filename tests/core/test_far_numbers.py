"""Numbers far from their usual size: x far from its origin, tiny parameters, data without noise, huge and empty readings."""

import json
import math
import subprocess
import sys
from typing import Any

import numpy as np
import pytest
from scipy import optimize

from cavrel.core.analysis import runner
from cavrel.core.analysis.montecarlo import monte_carlo
from cavrel.core.document import result_document, result_text
from cavrel.core.findings.verdict import verdict_of
from tests.core.machine import columns, curve, program, run

SPAN = np.linspace(-0.5, 0.5, 9)
NOISE = np.random.default_rng(0).normal(0, 0.03, 9)


def fitted(model: str, x: np.ndarray, y: np.ndarray):
    """A weighted fit of points with u = 0.03; x as typed, to nine decimals."""
    rules = {"fit_uncertainty": "propagated", "abscissae": "ignore"}
    analysis = curve(model, [f"{v:.9f} ± 1e-12" for v in x], [f"{v:.6f} ± 0.03" for v in y], rules)
    return analysis, np.array([float(f"{v:.9f}") for v in x])


@pytest.mark.parametrize("far", [1e3, 1e5, 1e7, 1e9])
def test_a_line_far_from_its_origin_keeps_its_uncertainty(far: float) -> None:
    analysis, x = fitted("line", far + SPAN, 2 * SPAN + 3 + NOISE)
    away = x - x.mean()
    spread = math.sqrt((away**2).sum())
    found = analysis.fits["f"].parameters
    assert found["slope"].u == pytest.approx(0.03 / spread, rel=1e-6)
    assert found["intercept"].u == pytest.approx(0.03 * math.sqrt(1 / 9 + (x.mean() / spread) ** 2), rel=1e-6)
    slope = np.polyfit(away, np.round(2 * SPAN + 3 + NOISE, 6), 1)[0]
    assert found["slope"].value == pytest.approx(slope, rel=1e-6)
    # The curve is drawn, with its band, where the points lie.
    value, u = analysis.fits["f"].at(x)
    assert np.abs(value - (2 * SPAN + 3)).max() < 0.1
    assert (u < 0.03).all()


@pytest.mark.parametrize("far", [1e3, 1e5, 1e7, 1e9])
def test_a_parabola_far_from_its_origin(far: float) -> None:
    analysis, x = fitted("parabola", far + SPAN, SPAN**2 + NOISE)
    away = x - x.mean()
    design = np.stack([away**2, away, np.ones(9)], axis=1)
    exact = 0.03 * np.sqrt(np.diag(np.linalg.inv(design.T @ design)))
    assert analysis.fits["f"].parameters["a"].u == pytest.approx(exact[0], rel=1e-6)


@pytest.mark.parametrize("far", [1e3, 1e5, 1e7, 1e9])
def test_curves_far_from_their_origin(far: float) -> None:
    analysis, x = fitted("exponential", far + SPAN, np.exp(0.7 * SPAN))
    away = x - far
    _, covariance = optimize.curve_fit(
        lambda x, a, k: a * np.exp(k * x), away, np.exp(0.7 * SPAN), (1, 0.7), np.full(9, 0.03), absolute_sigma=True
    )
    assert analysis.fits["f"].parameters["k"].value == pytest.approx(0.7, abs=1e-5)
    assert analysis.fits["f"].parameters["k"].u == pytest.approx(math.sqrt(covariance[1, 1]), rel=1e-4)
    steep, x = fitted("power", far + SPAN, 3 * (1 + SPAN / far) ** far)
    # ln y = ln 3 + far·ln(x/far): locally an exponential in x.
    assert steep.fits["f"].parameters["p"].value == pytest.approx(far, rel=1e-5)
    assert steep.fits["f"].parameters["p"].u > 0


def test_draws_far_from_the_origin_agree_with_the_exact_formula() -> None:
    made = program(
        series={"s": columns(x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"m": {"label": "m", "formula": "f.slope"}},
    )
    x = 1.7e9 + SPAN * 8
    texts = {"x": [f"{v:.3f} ± 0" for v in x], "y": [f"{v:.6f} ± 0.03" for v in 2 * (x - 1.7e9) + NOISE]}
    analysis = run(made, series={"s": texts}, rules={"fit_uncertainty": "propagated"})
    x = np.array([float(f"{v:.3f}") for v in x])
    exact = 0.03 / math.sqrt(((x - x.mean()) ** 2).sum())
    assert analysis.results["m"].u == pytest.approx(exact, rel=1e-5)
    assert monte_carlo(analysis, 40_000)["m"].u == pytest.approx(exact, rel=0.02)


T = np.arange(1.0, 9.0)


@pytest.mark.parametrize(
    ("model", "y", "truth"),
    [
        ("power", 4.905 * T**2, {"A": 4.905, "p": 2.0}),
        ("parabola", 4.905 * T**2, {"a": 4.905, "b": 0.0, "c": 0.0}),
        ("exponential", 3 * np.exp(-0.3 * T), {"A": 3.0, "k": -0.3}),
        ("rise", 4 * (1 - np.exp(-T / 3)), {"A": 4.0, "tau": 3.0, "c": 0.0}),
    ],
)
def test_readings_without_any_noise_settle(model: str, y: np.ndarray, truth: dict[str, float]) -> None:
    found = curve(model, [f"{v:.9g}" for v in T], [f"{v:.12g}" for v in y]).fits["f"]
    assert found.made, found.reason
    for name, value in truth.items():
        assert found.parameters[name].value == pytest.approx(value, rel=1e-8, abs=1e-8)


def test_a_swing_that_does_not_fade_has_a_period_and_no_end() -> None:
    t = np.linspace(0, 20, 60)
    y = 2 * np.cos(2 * np.pi * t / 5 + 0.3)
    found = curve("damped", [f"{v:.9g}" for v in t], [f"{v:.12g}" for v in y]).fits["f"]
    assert found.made, found.reason
    assert found.parameters["T"].value == pytest.approx(5, rel=1e-8)
    assert found.unbounded == ("tau",)
    assert math.isinf(found.parameters["tau"].value)
    fading = curve("damped", [f"{v:.9g}" for v in t], [f"{v:.9g}" for v in y * np.exp(-t / 30)]).fits["f"]
    assert fading.unbounded == ()
    assert fading.parameters["tau"].value == pytest.approx(30, rel=1e-5)


def test_parameters_as_small_as_nature_has_them() -> None:
    """A diode: saturation current of 2e-18 A and Boltzmann's constant, from a current against a voltage."""
    volts = np.linspace(0.4, 0.7, 10)
    amps = 2e-18 * (np.exp(1.602e-19 * volts / (1.380649e-23 * 300)) - 1)
    made = program(
        series={"s": columns(V="V", I="A")},
        fits={
            "f": {
                "series": "s",
                "x": "V",
                "y": "I",
                "model": "formula",
                "formula": "I0*(exp(1.602e-19[C]*V/(k*300[K])) - 1)",
                "free": {"I0": "1e-17[A]", "k": "1.5e-23[J/K]"},
            }
        },
    )
    series = {"V": [f"{v:.6f} ± 0" for v in volts], "I": [f"{v:.6e} ± {0.02 * v:.2e}" for v in amps]}
    found = run(made, series={"s": series}, rules={"fit_uncertainty": "propagated"}).fits["f"]
    assert found.made, found.reason
    assert found.parameters["k"].value == pytest.approx(1.380649e-23, rel=1e-4)

    def diode(v: np.ndarray, a: float, k: float) -> np.ndarray:
        return a * 1e-18 * (np.exp(1.602e-19 * v / (k * 1e-23 * 300)) - 1)

    _, covariance = optimize.curve_fit(diode, volts, amps, (2, 1.38), 0.02 * amps, absolute_sigma=True)
    assert found.parameters["k"].u == pytest.approx(1e-23 * math.sqrt(covariance[1, 1]), rel=1e-2)


def single(formula: str, unit: str, accepted: str | None = None, **texts: str):
    """One result of one or two quantities of metres or plain numbers."""
    made = program(
        quantities={name: {"label": name, "unit": text.partition("|")[2]} for name, text in texts.items()},
        results={"r": {"label": "r", "formula": formula, "unit": unit, **({"accepted": accepted} if accepted else {})}},
    )
    return run(made, quantities={name: text.partition("|")[0] for name, text in texts.items()})


@pytest.mark.parametrize(
    ("formula", "text"), [("1/a", "1.0 ± 2.0"), ("1/a", "1.0 ± 1.0"), ("sqrt(a)", "0.005 ± 0.01"), ("a^2", "0.0 ± 0.1")]
)
def test_where_the_law_of_propagation_is_no_answer_an_interval_is_given(formula: str, text: str) -> None:
    analysis = single(formula, "", a=text)
    result = analysis.results["r"]
    assert not result.linear
    assert math.isnan(result.u)
    low, high = result.interval
    assert low - 1e-6 <= result.value <= high
    assert "with 95 %" in result_text(analysis, result)
    drawn = monte_carlo(analysis, 20_000, seed=3)["r"]
    assert (low, high) == pytest.approx((drawn.low95, drawn.high95), abs=0.2 * (drawn.high95 - drawn.low95))


def test_a_distribution_is_drawn_when_somebody_looks(monkeypatch: pytest.MonkeyPatch) -> None:
    drawn: list[int] = []

    def counted(*given: Any, **named: Any) -> Any:
        drawn.append(1)
        return monte_carlo(*given, **named)

    monkeypatch.setattr(runner, "monte_carlo", counted)
    result = single("1/a", "", a="1.0 ± 2.0").results["r"]
    assert not result.linear and not drawn
    assert result.interval == result.interval
    assert len(drawn) == 1


def test_an_ordinary_quotient_stays_linear() -> None:
    result = single("1/a", "", a="1.0 ± 0.1").results["r"]
    assert result.linear
    assert result.u == pytest.approx(0.1, rel=0.02)


def test_draws_agree_by_the_tolerance_of_the_linear_uncertainty() -> None:
    """JCGM 101:2008, 8.1: the tolerance is that of the u that is put to the test."""
    analysis = single("a", "", a="10.00 ± 0.10")
    drawn = monte_carlo(analysis, 400_000)["r"]
    assert drawn.tolerance == pytest.approx(0.005)
    assert drawn.agrees


@pytest.mark.parametrize("text", ["1e80", "1e150 ± 1e-3", "-1e200", "1e-200", "0", "0.0 ± 0"])
def test_extreme_readings_stay_within_json(text: str) -> None:
    for analysis in (
        single("a^2*b^2", "m^4", a=f"{text}|m", b=f"{text}|m"),
        single("a/b", "", "0.5", a=f"{text}|m", b="2|m"),
        curve("line", ["1", "2", text], ["1", text, "3"]),
        curve("power", ["1", "2", "3"], ["1", text, text]),
        curve("mean", ["1", "2", "3"], [text, text, "1"]),
    ):
        json.dumps(result_document(analysis, (), ()), allow_nan=False)
        for result in analysis.results.values():
            assert isinstance(verdict_of(analysis, result).text, str)


def test_no_percentage_of_zero_nor_of_a_temperature() -> None:
    zero = single("a", "m", "0[m]", a="0.30 ± 0.20|m")
    assert math.isnan(verdict_of(zero, zero.results["r"]).percent)
    assert "no percentage of zero" in verdict_of(zero, zero.results["r"]).text
    # Zero that is a rounding error is no reference either: 4.9 × 10¹⁶ % of nothing.
    rounding = single("a", "m", "(0.1 + 0.2 - 0.3)*1[m]", a="0.30 ± 0.20|m")
    assert math.isnan(verdict_of(rounding, rounding.results["r"]).percent)
    small = single("a", "m", "1e-6[m]", a="0.30 ± 0.20|m")
    assert verdict_of(small, small.results["r"]).percent == pytest.approx(100 * (0.3 - 1e-6) / 1e-6)
    warm = single("a", "°C", "20[°C]", a="21.0 ± 0.2|°C")
    assert math.isnan(verdict_of(warm, warm.results["r"]).percent)
    assert "1.0 °C off" in verdict_of(warm, warm.results["r"]).text


def test_five_thousand_rows_need_no_square_of_memory() -> None:
    """In a process of its own, whose largest size is its own."""
    script = """
import numpy as np, resource
from cavrel import catalogue
from cavrel.core.logbook import run as runs
from cavrel.core.analysis import analyse
program = catalogue.program_of(catalogue.experiments()["pendulum"])
lengths = np.linspace(60, 160, 5000)
times = 20 * 2 * np.pi * np.sqrt(lengths / 981)
cells = {"L": [f"{v:.1f}" for v in lengths], "t": [[f"{v:.2f}", f"{v + 0.1:.2f}"] for v in times]}
run = runs.load({"format": "cavrel-run/1", "experiment": "pendulum", "series": {"swings": cells}})
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
assert analyse(program, run).results["g"].u > 0
print((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) // 1024)
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert int(done.stdout) < 300
