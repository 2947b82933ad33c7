"""The engine beyond the pendulum: every fit, instrument, option, prediction, combination and trace."""

import math

import numpy as np
import pytest
from scipy import optimize, stats
from uncertainties import ufloat
from uncertainties.umath import sin

from cavrel.core import definition as definitions
from cavrel.core.analysis.binding import combination
from cavrel.core.analysis.montecarlo import monte_carlo
from cavrel.core.definition.program import compile_program
from cavrel.core.document import result_document
from cavrel.core.errors import DefinitionError, RunError
from cavrel.core.findings import findings_of, monte_carlo_findings
from cavrel.core.findings.judge import judge
from tests.core.machine import columns, curve, definition, program, run

RNG = np.random.default_rng(5)


def texts(values: np.ndarray, u: float | None = None, decimals: int = 6) -> list[str]:
    return [f"{v:.{decimals}f}" + (f" ± {u}" if u else "") for v in values]


# --- fits -----------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("model", "function", "truth", "x"),
    [
        ("power", lambda x, A, p: A * x**p, (2.0, 0.5), np.linspace(0.5, 3, 9)),
        ("exponential", lambda x, A, k: A * np.exp(k * x), (5.0, -0.6), np.linspace(0, 4, 9)),
        ("rise", lambda x, A, tau, c: A * (1 - np.exp(-x / tau)) + c, (3.0, 20.0, 1.0), np.linspace(0, 80, 12)),
        (
            "damped",
            lambda x, A, tau, T, phi, c: A * np.exp(-x / tau) * np.cos(2 * np.pi * x / T + phi) + c,
            (4.0, 15.0, 8.0, 0.4, 10.0),
            np.linspace(0, 24, 25),
        ),
        ("parabola", lambda x, a, b, c: a * x**2 + b * x + c, (1.0, -2.0, 3.0), np.linspace(0, 4, 9)),
        ("proportional", lambda x, slope: slope * x, (2.5,), np.linspace(1, 5, 6)),
    ],
)
def test_every_model_is_that_of_curve_fit(model, function, truth, x) -> None:
    u = 0.03
    y = function(x, *truth) + np.random.default_rng(11).normal(0, u, len(x))
    analysis = curve(
        model, [f"{v:.6f} ± 1e-9" for v in x], texts(y, u), {"fit_uncertainty": "propagated", "abscissae": "ignore"}
    )
    best, covariance = optimize.curve_fit(
        function, np.round(x, 6), np.round(y, 6), p0=truth, sigma=np.full(len(x), u), absolute_sigma=True
    )
    found = analysis.fits["f"]
    assert found.made, found.reason
    values = np.array([p.value for p in found.parameters.values()])
    assert values == pytest.approx(best, rel=1e-5, abs=1e-6)
    assert [p.u for p in found.parameters.values()] == pytest.approx(np.sqrt(np.diag(covariance)), rel=2e-3)
    scatter = curve(
        model, [f"{v:.6f} ± 1e-9" for v in x], texts(y, u), {"fit_uncertainty": "scatter", "abscissae": "ignore"}
    ).fits["f"]
    _, by_scatter = optimize.curve_fit(function, np.round(x, 6), np.round(y, 6), p0=truth)
    assert [p.u for p in scatter.parameters.values()] == pytest.approx(np.sqrt(np.diag(by_scatter)), rel=2e-3)


def test_a_mean_is_that_of_its_readings() -> None:
    """Weighted mean of readings with stated uncertainties; alone, their standard error."""
    values, u = [9.9, 10.3, 10.0, 10.1], [0.1, 0.2, 0.1, 0.3]
    made = program(series={"s": columns(y="")}, fits={"m": {"series": "s", "y": "y", "model": "mean"}})
    fit = run(
        made, series={"s": {"y": [f"{v} ± {w}" for v, w in zip(values, u)]}}, rules={"fit_uncertainty": "propagated"}
    ).fits["m"]
    w = 1 / np.square(u)
    assert fit.parameters["mean"].value == pytest.approx((w * values).sum() / w.sum())
    assert fit.parameters["mean"].u == pytest.approx(1 / math.sqrt(w.sum()))
    plain = program(series={"s": columns(exact=True, y="")}, fits={"m": {"series": "s", "y": "y", "model": "mean"}})
    fit = run(plain, series={"s": {"y": [str(v) for v in values]}}).fits["m"]
    assert fit.parameters["mean"].u == pytest.approx(stats.sem(values))


def test_a_formula_of_several_columns() -> None:
    """g from ranges of shots at several angles and speeds: one free parameter, two measured columns inside."""
    made = program(
        series={"shots": columns(phi="°", v="m/s", s="m")},
        fits={
            "f": {
                "series": "shots",
                "x": "phi",
                "y": "s",
                "model": "formula",
                "formula": "v^2*sin(2*phi)/g",
                "free": {"g": "5[m/s^2]"},
            }
        },
        results={"g": {"label": "g", "formula": "f.g", "unit": "m/s^2"}},
    )
    phi = np.array([30.0, 35, 40, 45, 50, 55, 60])
    speed = 3.0 + 0.01 * RNG.normal(size=7)
    s = speed**2 * np.sin(2 * np.radians(phi)) / 9.81
    shots = {
        "phi": [f"{v:.1f}" for v in phi],
        "v": [f"{v:.3f} ± 0.01" for v in speed],
        "s": [f"{v:.4f} ± 0.002" for v in s],
    }
    analysis = run(made, series={"shots": shots}, rules={"fit_uncertainty": "propagated"})
    g = analysis.results["g"]
    assert g.value == pytest.approx(9.81, rel=2e-3)
    # Each shot alone gives g with u(v), u(s), u(phi); weighted together they are the fit's uncertainty.
    single = []
    for a, v, r in zip(phi, speed, s):
        angle = ufloat(math.radians(a), math.radians(0.1) / math.sqrt(12))
        single.append((ufloat(v, 0.01) ** 2 * sin(2 * angle) / ufloat(r, 0.002)).std_dev)
    assert g.u == pytest.approx(1 / math.sqrt(sum(1 / u**2 for u in single)), rel=0.01)


def test_a_tangent_touches_where_it_is_told() -> None:
    x = np.linspace(0, 10, 21)
    analysis = curve("tangent", texts(x), texts(x**2 + 1), at="4", points=7)
    found = analysis.fits["f"].parameters
    assert found["slope"].value == pytest.approx(8, rel=1e-6)
    assert found["value"].value == pytest.approx(17, rel=1e-6)


def test_a_formula_with_error_bars_along_x_is_orthogonal_regression() -> None:
    from odrpack import odr_fit

    x = np.linspace(0.5, 3, 10)
    draw = np.random.default_rng(4)
    seen_x, seen_y = x + draw.normal(0, 0.03, 10), 2 * x**0.7 + draw.normal(0, 0.02, 10)
    fit = curve("power", texts(seen_x, 0.03), texts(seen_y, 0.02), {"fit_uncertainty": "propagated"}).fits["f"]
    other = odr_fit(
        lambda v, b: b[0] * v ** b[1],
        np.round(seen_x, 6),
        np.round(seen_y, 6),
        [2.0, 0.7],
        weight_x=1 / 0.03**2,
        weight_y=1 / 0.02**2,
    )
    assert [p.value for p in fit.parameters.values()] == pytest.approx(other.beta, abs=0.2 * min(other.sd_beta))
    assert fit.diagnostics is not None
    assert fit.diagnostics.chi2 == pytest.approx(other.sum_square, rel=0.05)


@pytest.mark.parametrize(
    ("model", "x", "y", "what"),
    [
        ("power", ["-1", "1", "2", "3"], ["1", "2", "3", "4"], "every x above zero"),
        ("line", ["1"], ["2"], "a line needs 2 complete rows; there is 1"),
        ("parabola", ["1", "1", "1", "1"], ["1", "2", "3", "4"], "all points stand at the same x"),
        ("parabola", ["1", "1", "2", "2"], ["1", "2", "3", "4"], "do not tell the parameters apart"),
        ("exponential", ["1", "2", "3"], ["0", "0", "0"], "depend on every parameter"),
        ("damped", ["1", "2", "3"], ["1", "2", "1"], "a damped oscillation needs 5 complete rows"),
        ("proportional", ["0", "0"], ["1", "2"], "all points stand at x = 0"),
    ],
)
def test_a_fit_that_cannot_be_made_says_why_and_the_rest_goes_on(
    model: str, x: list[str], y: list[str], what: str
) -> None:
    analysis = curve(model, x, y)
    assert what in analysis.fits["f"].reason
    findings = findings_of(analysis)
    assert any(f.code == "no-fit" and what in f.say[0].lower() + f.say[1:] for f in findings)
    assert analysis.values["s.x"].value[0] == float(x[0])


def test_extreme_lines_are_those_through_the_corners() -> None:
    """Three points with equal boxes: the steepest line runs from the last box's top to the first one's bottom."""
    analysis = curve(
        "line",
        ["1 ± 1e-9", "2 ± 1e-9", "3 ± 1e-9"],
        ["1 ± 0.1", "2 ± 0.1", "3 ± 0.1"],
        {"fit_uncertainty": "extreme_lines"},
    )
    fit = analysis.fits["f"]
    assert fit.source == "extreme lines"
    assert fit.parameters["slope"].u == pytest.approx(0.1, rel=1e-5)
    none = curve(
        "line",
        ["1 ± 1e-9", "2 ± 1e-9", "3 ± 1e-9"],
        ["1 ± 0.1", "2.9 ± 0.1", "3 ± 0.1"],
        {"fit_uncertainty": "extreme_lines"},
    )
    assert none.fits["f"].source == "scatter"
    assert "no-extremes" in {f.code for f in findings_of(none)}


# --- instruments ----------------------------------------------------------------------------------------------------------


def measured(instrument: dict[str, object], reading: str = "2.000") -> float:
    made = program(
        instruments={"meter": instrument},
        quantities={"U": {"label": "U", "unit": "V", "instrument": "meter"}},
        results={"r": {"label": "r", "formula": "U", "unit": "V"}},
    )
    return run(made, quantities={"U": reading}).results["r"].u


def test_percent_plus_digits() -> None:
    u = measured({"least_count": "0.001 V", "accuracy": "0.5 % + 2 digits"})
    assert u == pytest.approx(math.sqrt((0.01**2 + 0.002**2) / 3 + 0.001**2 / 12), rel=1e-9)


def test_class_of_an_analogue_meter() -> None:
    u = measured({"least_count": "0.1 V", "class": 1.5, "full_scale": "10 V"}, "2.0")
    assert u == pytest.approx(math.sqrt(0.15**2 / 3 + 0.1**2 / 12), rel=1e-9)


def test_one_instrument_correlates_everything_read_with_it() -> None:
    """A zero offset cancels in a difference and counts twice in a sum; a calibration error cancels in a ratio."""
    made = program(
        instruments={"rule": {"least_count": "1e-6 m", "zero": "1 mm", "calibration": "1 %"}},
        quantities={n: {"label": n, "unit": "m", "instrument": "rule"} for n in ("a", "b")},
        results={
            "difference": {"label": "d", "formula": "a - b"},
            "total": {"label": "t", "formula": "a + b"},
            "ratio": {"label": "q", "formula": "a/b"},
        },
    )
    analysis = run(made, quantities={"a": "0.5", "b": "0.5"})
    assert analysis.results["difference"].u == pytest.approx(0, abs=1e-6)
    assert analysis.results["total"].u == pytest.approx(math.hypot(2e-3, 0.01), rel=1e-4)
    assert analysis.results["ratio"].u == pytest.approx(0, abs=2e-6)


@pytest.mark.parametrize(
    ("instrument", "place"),
    [({"accuracy": "very good"}, "accuracy"), ({"accuracy": "1 % + 2 digits"}, "accuracy"), ({"class": 1.5}, "class")],
)
def test_limits_that_cannot_be_read(instrument: dict[str, object], place: str) -> None:
    with pytest.raises(DefinitionError) as caught:
        program(instruments={"meter": instrument})
    assert caught.value.place == f"instruments.meter.{place}"


def test_counts_scatter_by_their_root() -> None:
    made = program(quantities={"n": {"label": "n", "count": True}}, results={"r": {"label": "r", "formula": "n"}})
    assert run(made, quantities={"n": "400"}).results["r"].u == pytest.approx(20)


# --- several results ------------------------------------------------------------------------------------------------------


def two_ways(a: str, b: str, **more) -> object:
    made = program(
        quantities={n: {"label": n, "unit": "T"} for n in ("a", "b")},
        results={
            "B1": {"label": "first", "formula": "a"},
            "B2": {"label": "second", "formula": "b", "accepted": "B1"},
            "B": {"label": "both", "combine": ["B1", "B2"], "accepted": "0.5[T]"},
        },
    )
    return run(made, quantities={"a": a, "b": b}, **more)


def test_methods_are_combined_by_weight() -> None:
    """Agreeing methods: the weighted mean, its u from the weights, a Birge ratio under one."""
    both = two_ways("0.50 ± 0.01", "0.51 ± 0.02").results["B"]
    assert both.value == pytest.approx((0.50 / 1e-4 + 0.51 / 4e-4) / (1 / 1e-4 + 1 / 4e-4))
    assert both.u == pytest.approx(1 / math.sqrt(1 / 1e-4 + 1 / 4e-4), rel=1e-6)
    assert both.birge == pytest.approx(0.01 / math.hypot(0.01, 0.02), rel=1e-6)


def test_methods_that_disagree_widen_their_mean() -> None:
    both = two_ways("0.50 ± 0.01", "0.60 ± 0.01").results["B"]
    birge = 0.1 / math.hypot(0.01, 0.01)
    assert both.birge == pytest.approx(birge, rel=1e-6)
    assert both.u == pytest.approx(birge * 0.01 / math.sqrt(2), rel=1e-6)


@pytest.mark.parametrize(("rule", "percent"), [("mean", 100 * 0.02 / 0.51), ("second", 100 * 0.02 / 0.50)])
def test_two_measured_values_differ_by_house_rule(rule: str, percent: float) -> None:
    analysis = two_ways("0.50 ± 0.01", "0.52 ± 0.01", rules={"difference": rule})
    assert judge(analysis, analysis.results["B2"]).percent == pytest.approx(percent)


def test_results_that_share_everything_differ_by_nothing() -> None:
    made = program(
        quantities={"a": {"label": "a", "unit": "m"}},
        results={"x": {"label": "x", "formula": "2*a"}, "y": {"label": "y", "formula": "a + a", "accepted": "x"}},
    )
    analysis = run(made, quantities={"a": "1.0 ± 0.1"})
    assert analysis.results["y"].compared.u == pytest.approx(0, abs=1e-12)
    document = result_document(analysis, (), ())
    assert document["correlation"]["matrix"] == [
        [pytest.approx(1), pytest.approx(1)],
        [pytest.approx(1), pytest.approx(1)],
    ]


def test_a_singular_covariance_still_has_a_mean() -> None:
    weights, birge = combination(np.array([1.0, 1.0]), np.array([[1.0, 1.0], [1.0, 1.0]]), plain=False)
    assert weights.sum() == pytest.approx(1)
    assert birge == pytest.approx(0)


# --- predictions ----------------------------------------------------------------------------------------------------------


def test_a_prediction_has_an_interval_and_says_when_it_reaches_outside() -> None:
    """Prediction interval of a straight line against the textbook formula (Draper and Smith, 1.4)."""
    x, y = np.array([1.0, 2, 3, 4, 5, 6]), np.array([2.1, 3.9, 6.2, 7.8, 10.1, 12.0])
    made = program(
        series={"s": columns(exact=True, x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        predict={
            "inside": {"label": "inside", "fit": "f", "at": "3.5"},
            "beyond": {"label": "beyond", "fit": "f", "at": "12"},
        },
    )
    analysis = run(made, series={"s": {"x": [str(v) for v in x], "y": [str(v) for v in y]}})
    line = stats.linregress(x, y)
    s = math.sqrt(((y - line.intercept - line.slope * x) ** 2).sum() / 4)
    for name, at in (("inside", 3.5), ("beyond", 12.0)):
        found = analysis.predictions[name]
        u = s * math.sqrt(1 / 6 + (at - x.mean()) ** 2 / ((x - x.mean()) ** 2).sum())
        assert found.value == pytest.approx(line.intercept + line.slope * at)
        assert found.u == pytest.approx(u, rel=1e-9)
        assert found.high - found.value == pytest.approx(stats.t.ppf(0.975, 4) * math.hypot(u, s), rel=1e-6)
    assert not analysis.predictions["inside"].outside
    assert [f.at for f in findings_of(analysis) if f.code == "extrapolated"] == ["predict.beyond"]


def test_a_stretched_band_is_read_the_right_way_up() -> None:
    """Lengths under 1, 3, 6 weights of 7 g: slope 0.0322 m/N, intercept 0.0916 m, k = 31.1 N/m; ten weights: 0.114 m (common practice, no source)."""
    made = program(
        law="F = k*(l - l_0)",
        quantities={
            "m": {"label": "One weight", "unit": "g", "exact": True},
            "g": {"label": "g", "unit": "m/s^2", "exact": True, "default": "9.81"},
        },
        series={
            "s": {
                "label": "Loads",
                "columns": {
                    "n": {"label": "n", "role": "set", "exact": True},
                    "l": {"label": "l", "unit": "cm", "role": "measured"},
                    "F": {"label": "F", "role": "derived", "formula": "n*m*g", "unit": "N"},
                },
            }
        },
        fits={"f": {"series": "s", "x": "F", "y": "l", "model": "line"}},
        results={"k": {"label": "k", "formula": "1/f.slope", "unit": "N/m"}},
        predict={"ten": {"label": "ten weights", "fit": "f", "at": "10*m*g", "unit": "cm"}},
    )
    analysis = run(made, quantities={"m": "7"}, series={"s": {"n": ["1", "3", "6"], "l": ["9.4", "9.8", "10.5"]}})
    fit = analysis.fits["f"].parameters
    assert fit["slope"].value == pytest.approx(0.0322, abs=5e-5)
    assert fit["intercept"].value == pytest.approx(0.0916, abs=5e-5)
    assert analysis.results["k"].value == pytest.approx(31.1, abs=0.1)
    assert analysis.predictions["ten"].value == pytest.approx(0.114, abs=5e-4)
    assert analysis.predictions["ten"].outside


# --- options and repeated series ------------------------------------------------------------------------------------------

BRIDGE = {
    "quantities": {"R": {"label": "Known", "unit": "ohm", "exact": True}},
    "series": {
        "first": columns(l="cm"),
        "second": {"label": "Second", "like": "first", "columns": {"l": {"label": "other null"}}},
    },
    "results": {"X": {"label": "Unknown", "formula": "R*(100[cm] - mean(first.l))/mean(first.l)", "unit": "ohm"}},
    "options": {
        "gap": {
            "label": "Gap of the unknown",
            "default": "right",
            "choices": {
                "right": {"label": "right"},
                "left": {"label": "left", "set": {"results.X.formula": "R*mean(first.l)/(100[cm] - mean(first.l))"}},
            },
        }
    },
}


def test_an_option_changes_a_formula() -> None:
    made = definition(**BRIDGE)
    for choice, expected in (("right", 5 * 53.5 / 46.5), ("left", 5 * 46.5 / 53.5)):
        chosen = compile_program(definitions.choose(made, {"gap": choice}), {})
        assert run(chosen, quantities={"R": "5"}, series={"first": {"l": ["46.5"]}}).results[
            "X"
        ].value == pytest.approx(expected)
    with pytest.raises(DefinitionError, match="none of its choices"):
        definitions.choose(made, {"gap": "middle"})
    with pytest.raises(DefinitionError, match="no such option"):
        definitions.choose(made, {"gaps": "left"})


def test_an_option_that_leads_nowhere_names_its_path() -> None:
    broken = {**BRIDGE, "options": {"gap": {**BRIDGE["options"]["gap"], "default": "left"}}}
    broken["options"]["gap"]["choices"] = {
        "left": {"label": "l", "set": {"results.Y.formula": "1"}},
        "right": {"label": "r"},
    }
    with pytest.raises(DefinitionError) as caught:
        definitions.choose(definition(**broken), {})
    assert caught.value.place == "options.gap.choices.left.set.results.Y.formula"


def test_a_series_like_another_has_its_columns() -> None:
    made = definition(**BRIDGE)
    assert made.series["second"].label == "Second"
    assert made.series["second"].columns["l"].unit == "cm"
    assert made.series["second"].columns["l"].label == "other null"
    with pytest.raises(DefinitionError, match="no series with columns"):
        definition(series={"a": {"label": "a", "like": "b"}})


# --- traces ---------------------------------------------------------------------------------------------------------------


def traced(extract: str, column_unit: str, **trace) -> object:
    column = {"label": "a", "unit": column_unit, "role": "measured", "from": "trace", "extract": extract}
    made = program(
        series={"runs": {"label": "Runs", "columns": {"F": {"label": "F", "unit": "N", "role": "set"}, "a": column}}},
        results={"a_mean": {"label": "a", "formula": "mean(runs.a)", "unit": column_unit}},
    )
    return run(made, series={"runs": {"F": ["0.1"]}}, traces={"runs": {"a": [trace]}})


def test_a_slope_from_a_chosen_stretch() -> None:
    t = np.arange(0, 4, 0.02)
    v = np.where(t < 1, 0.0, np.where(t < 3, 0.5 * (t - 1), 1.0))
    analysis = traced("slope", "m/s^2", rate="50 Hz", values=v.tolist(), unit="m/s", begin=1.1, end=2.9)
    assert analysis.values["runs.a"].value[0] == pytest.approx(0.5, rel=1e-9)
    whole = traced("slope", "m/s^2", rate="50 Hz", values=v.tolist(), unit="m/s")
    assert whole.values["runs.a"].value[0] != pytest.approx(0.5, rel=0.05)


def test_level_mean_and_period() -> None:
    t = np.arange(0, 20, 0.05)
    swing = 2 + np.exp(-t / 15) * np.cos(2 * np.pi * t / 1.7 + 0.3)
    period = traced("period", "s", times=t.tolist(), values=swing.tolist(), unit="V")
    assert period.values["runs.a"].value[0] == pytest.approx(1.7, rel=1e-6)
    values = [1.0, 1.1, 0.9, 1.0, 9.0]
    assert traced("mean", "V", rate="1 Hz", values=values, unit="V").values["runs.a"].value[0] == pytest.approx(2.6)
    assert traced("level", "V", rate="1 Hz", values=values, unit="V").values["runs.a"].value[0] == pytest.approx(1.0)


@pytest.mark.parametrize("correlation", [0.0, 0.9])
@pytest.mark.parametrize("extract", ["slope", "mean"])
def test_correlated_noise_widens_what_is_extracted(extract: str, correlation: float) -> None:
    """1000 traces of autoregressive noise: the value holds the truth 68.3 % of the time within 4 binomial errors and a small bias."""
    from cavrel.core.analysis.trace import extract as take

    draw = np.random.default_rng(12)
    t = np.arange(1000) * 0.02
    inside, many = 0, 1000
    for _ in range(many):
        white = draw.normal(0, 1, 1100)
        noise = np.empty(1100)
        noise[0] = white[0]
        for i in range(1, 1100):
            noise[i] = correlation * noise[i - 1] + white[i]
        found = take(extract, t, 0.3 * t + noise[100:] if extract == "slope" else 5 + noise[100:])
        inside += abs(found.value - (0.3 if extract == "slope" else 5)) <= found.u
    assert abs(inside / many - 0.6827) < 4 * math.sqrt(0.6827 * 0.3173 / many) + 0.01


@pytest.mark.parametrize(
    ("trace", "what"),
    [
        ({"rate": "50 m", "values": [1.0] * 9, "unit": "m/s"}, "no sampling rate"),
        ({"rate": "50 Hz", "values": [1.0, 2.0], "unit": "m/s"}, "holds 2 samples"),
        ({"rate": "50 Hz", "values": [1.0] * 9, "unit": "m"}, "is no a in m/s"),
    ],
)
def test_a_trace_that_says_nothing_is_a_fault_of_its_row(trace: dict, what: str) -> None:
    analysis = traced("slope", "m/s^2", **trace)
    assert what in analysis.sheet.faults[0].what
    assert math.isnan(analysis.results["a_mean"].value)


def test_a_trace_where_none_is_taken() -> None:
    made = program(series={"s": columns(x="m")})
    with pytest.raises(RunError, match="takes no trace"):
        run(made, traces={"s": {"x": [{"rate": "1 Hz", "values": [1.0]}]}})


# --- Monte Carlo ----------------------------------------------------------------------------------------------------------


def test_linear_models_agree_with_their_distributions() -> None:
    made = program(
        series={"s": columns(x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"b": {"label": "slope", "formula": "f.slope"}},
    )
    x = np.arange(1.0, 9)
    y = 2 * x + np.random.default_rng(3).normal(0, 0.1, 8)
    series = {"x": [f"{v} ± 1e-9" for v in x], "y": texts(y, 0.1)}
    analysis = run(made, series={"s": series}, rules={"fit_uncertainty": "propagated", "rounding": "one"})
    drawn = monte_carlo(analysis, 200_000)["b"]
    assert drawn.mean == pytest.approx(analysis.results["b"].value, abs=0.01 * drawn.u)
    assert drawn.u == pytest.approx(analysis.results["b"].u, rel=0.01)
    assert drawn.stable
    assert drawn.agrees
    assert monte_carlo_findings(analysis, {"b": drawn}) == ()


def test_scatter_draws_from_students_distribution() -> None:
    """Four points without error bars: the 95 % interval of the slope is Student's with two degrees of freedom."""
    made = program(
        series={"s": columns(exact=True, x="", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"b": {"label": "slope", "formula": "f.slope"}},
    )
    analysis = run(made, series={"s": {"x": ["1", "2", "3", "4"], "y": ["2.1", "3.9", "6.2", "7.8"]}})
    drawn = monte_carlo(analysis, 200_000)["b"]
    result = analysis.results["b"]
    assert result.coverage_factor == pytest.approx(4.30, abs=0.01)
    assert (drawn.high95 - drawn.low95) / 2 == pytest.approx(result.expanded_uncertainty, rel=0.02)


def test_extreme_lines_are_drawn_beside_a_larger_shared_component() -> None:
    """The rule's calibration dwarfs the extreme lines here; both must be in the draws, each once."""
    made = program(
        instruments={"rule": {"least_count": "1 mm", "placement": "1 mm", "calibration": "30 %"}},
        series={
            "s": {
                "label": "s",
                "columns": {
                    "x": {"label": "x", "role": "set", "exact": True},
                    "y": {"label": "y", "unit": "cm", "role": "measured", "instrument": "rule"},
                },
            }
        },
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "line"}},
        results={"b": {"label": "slope", "formula": "f.slope"}},
    )
    series = {"s": {"x": ["1", "2", "3"], "y": ["2.0", "4.0", "6.0"]}}
    analysis = run(made, series=series, rules={"fit_uncertainty": "extreme_lines"})
    assert analysis.fits["f"].source == "extreme lines"
    assert monte_carlo(analysis, 100_000)["b"].u == pytest.approx(analysis.results["b"].u, rel=0.01)


def test_a_bent_model_is_remarked_on() -> None:
    made = program(quantities={"x": {"label": "x"}}, results={"y": {"label": "y", "formula": "x^2"}})
    analysis = run(made, quantities={"x": "0.1 ± 1.0"})
    drawn = monte_carlo(analysis, 100_000)
    assert drawn["y"].low95 == pytest.approx(0, abs=0.01)
    assert drawn["y"].mean == pytest.approx(1.01, rel=0.02)
    assert "not-linear" in {f.code for f in monte_carlo_findings(analysis, drawn)}
    roots = program(quantities={"x": {"label": "x"}}, results={"y": {"label": "y", "formula": "sqrt(x)"}})
    lost = monte_carlo(run(roots, quantities={"x": "0.5 ± 0.5"}), 10_000)
    assert lost["y"].lost > 1000


def test_curved_fits_are_refitted_for_every_draw() -> None:
    x = np.linspace(0, 24, 20)
    y = 4 * np.exp(-x / 15) * np.cos(2 * np.pi * x / 8 + 0.4) + np.random.default_rng(2).normal(0, 0.05, 20)
    made = program(
        series={"s": columns(x="s", y="")},
        fits={"f": {"series": "s", "x": "x", "y": "y", "model": "damped"}},
        results={"T": {"label": "T", "formula": "f.T", "unit": "s"}},
    )
    series = {"x": [f"{v:.4f} ± 1e-6" for v in x], "y": texts(y, 0.05)}
    analysis = run(made, series={"s": series}, rules={"fit_uncertainty": "propagated"})
    drawn = monte_carlo(analysis, 20_000)["T"]
    assert drawn.lost == 0
    assert drawn.u == pytest.approx(analysis.results["T"].u, rel=0.03)


def test_draws_out_of_bounds() -> None:
    made = program(quantities={"x": {"label": "x"}}, results={"y": {"label": "y", "formula": "x"}})
    with pytest.raises(ValueError, match="1000 to"):
        monte_carlo(run(made, quantities={"x": "1"}), 10)
