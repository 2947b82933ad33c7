"""What is extracted from the samples of a row."""

import math

import numpy as np
import pytest

from cavrel.core.errors import RunError
from tests.core.machine import columns, program, run

RNG = np.random.default_rng(5)


def traced(extract: str, column_unit: str, reversed_too: bool = False, **trace) -> object:
    column = {"label": "a", "unit": column_unit, "role": "measured", "from": "trace", "extract": extract}
    column |= {"reversed": True} if reversed_too else {}
    made = program(
        series={"runs": {"label": "Runs", "columns": {"F": {"label": "F", "unit": "N", "role": "set"}, "a": column}}},
        results={"a_mean": {"label": "a", "formula": "mean(runs.a)", "unit": column_unit}},
    )
    return run(made, series={"runs": {"F": ["0.1"]}}, traces={"runs": {"a": [trace]}})


@pytest.mark.parametrize(
    ("extract", "unit", "sign"), [("slope", "m/s^2", -1), ("mean", "m/s", -1), ("area", "m", -1), ("period", "s", 1)]
)
def test_a_sensor_that_counts_the_other_way(extract: str, unit: str, sign: int) -> None:
    """Every value changes its sign and keeps its uncertainty; a time stays, and a peak becomes a dip."""
    t = np.arange(0, 4, 0.02)
    v = 0.3 + 0.4 * t + np.sin(2 * np.pi * t) + RNG.normal(0, 0.01, len(t))
    samples = {"rate": "50 Hz", "values": v.tolist(), "unit": "m/s"}
    one, other = (traced(extract, unit, way, **samples).values["runs.a"] for way in (False, True))
    assert other.value[0] == pytest.approx(sign * one.value[0], rel=1e-9)
    assert other.u[0] == pytest.approx(one.u[0], rel=1e-9)
    assert one.value[0] > 0


def test_a_peak_of_a_reversed_sensor_is_where_its_samples_dip() -> None:
    t = np.arange(0, 4, 0.02)
    bell = {"rate": "50 Hz", "values": (-np.exp(-(((t - 1.7) / 0.4) ** 2))).tolist(), "unit": "V"}
    assert traced("peak", "s", True, **bell).values["runs.a"].value[0] == pytest.approx(1.7, abs=1e-3)
    assert traced("dip", "s", False, **bell).values["runs.a"].value[0] == pytest.approx(1.7, abs=1e-3)


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


def line_of(slope: float, seed: int) -> dict[str, object]:
    draw = np.random.default_rng(seed)
    t = np.arange(0, 2, 0.02)
    return {"rate": "50 Hz", "values": (slope * t + draw.normal(0, 0.01, len(t))).round(5).tolist(), "unit": "m/s"}


def several(traces: list[object], **more: object) -> object:
    column = {"label": "a", "unit": "m/s^2", "role": "measured", "from": "trace", "extract": "slope"}
    made = program(
        series={"runs": {"label": "Runs", "columns": {"F": {"label": "F", "unit": "N", "role": "set"}, "a": column}}},
        results={"a_mean": {"label": "a", "formula": "mean(runs.a)", "unit": "m/s^2"}},
    )
    return run(made, series={"runs": {"F": ["0.1"] * len(traces)}}, traces={"runs": {"a": traces}}, **more)


def test_several_trials_of_a_row_scatter_as_typed_ones_do() -> None:
    slopes = [0.50, 0.52, 0.54]
    found = several([[line_of(a, i) for i, a in enumerate(slopes)]]).values["runs.a"]
    each = [several([line_of(a, i)]).values["runs.a"].value[0] for i, a in enumerate(slopes)]
    assert found.value[0] == pytest.approx(np.mean(each), rel=1e-12)
    assert found.u[0] == pytest.approx(np.std(each, ddof=1) / math.sqrt(3), rel=1e-9)


def test_trials_that_agree_too_well_keep_the_noise_of_their_traces() -> None:
    same = line_of(0.5, 1)
    alone = several([same]).values["runs.a"].u[0]
    assert several([[same, same]]).values["runs.a"].u[0] == pytest.approx(alone / math.sqrt(2), rel=1e-9)


def test_a_trial_without_samples_or_left_out_does_not_count() -> None:
    a, b = line_of(0.5, 1), line_of(0.6, 2)
    one = several([a]).values["runs.a"].value[0]
    assert several([[a, None]]).values["runs.a"].value[0] == pytest.approx(one)
    left = several([[a, b]], excluded={"runs": {"a.1.2": "spoilt"}}).values["runs.a"]
    assert left.value[0] == pytest.approx(one)
