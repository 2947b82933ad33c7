"""What is extracted from the samples of a row."""

import math

import numpy as np
import pytest

from cavrel.core.errors import RunError
from tests.core.machine import columns, program, run

RNG = np.random.default_rng(5)


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


def test_samples_on_a_line_are_no_surer_than_their_last_digit() -> None:
    t = np.arange(0, 2, 0.02)
    values = [round(0.4 * x, 3) for x in t.tolist()]
    found = traced("slope", "m/s^2", rate="50 Hz", values=values, unit="m/s").values["runs.a"]
    spread = math.sqrt(float(((t - t.mean()) ** 2).sum()))
    assert found.u[0] == pytest.approx(1e-3 / math.sqrt(12) / spread, rel=0.5)
    in_cm = traced("slope", "m/s^2", rate="50 Hz", values=[round(100 * v, 1) for v in values], unit="cm/s").values[
        "runs.a"
    ]
    assert in_cm.value[0] == pytest.approx(0.4, rel=1e-3)
