"""What instruments declare: digits, classes, correlation, counts."""

import math

import numpy as np
import pytest

from cavrel.core.analysis import ResultAnalysis
from cavrel.core.analysis.montecarlo import monte_carlo
from cavrel.core.errors import DefinitionError, RunError
from cavrel.core.findings import findings_of
from tests.core.machine import program, run

RNG = np.random.default_rng(5)


def measured(instrument: dict[str, object], reading: str = "2.000") -> float:
    made = program(
        instruments={"meter": instrument},
        quantities={"U": {"label": "U", "unit": "V", "instrument": "meter"}},
        results={"r": {"label": "r", "formula": "U", "unit": "V"}},
    )
    return run(made, quantities={"U": reading}).results["r"].u


def test_percent_plus_digits() -> None:
    u = measured({"least_count": "0.001 V", "accuracy": "0.5 % + 2 digits"})
    # One limit: 0.010 V and 0.002 V add up before the root is taken (JCGM 100:2008, 4.3.7).
    assert u == pytest.approx(math.sqrt(0.012**2 / 3 + 0.001**2 / 12), rel=1e-9)


def test_limits_act_on_all_readings_or_on_each() -> None:
    """A wrong gain and offset cancel in the difference of equal readings; a bent scale does not."""
    for acts, wanted in (("together", 0.0), ("each", math.sqrt(2) * 0.012 / math.sqrt(3))):
        made = program(
            instruments={
                "meter": {
                    "least_count": "1e-9 V",
                    "accuracy": "0.5 %",
                    "class": 0.1,
                    "full_scale": "2 V",
                    "accuracy_acts": acts,
                }
            },
            quantities={n: {"label": n, "unit": "V", "instrument": "meter"} for n in ("a", "b")},
            results={"d": {"label": "d", "formula": "a - b"}, "s": {"label": "s", "formula": "a + b"}},
        )
        analysis = run(made, quantities={"a": "2.000", "b": "2.000"})
        assert analysis.results["d"].u == pytest.approx(wanted, abs=1e-6)
        total = 0.024 / math.sqrt(3) if acts == "together" else wanted
        assert analysis.results["s"].u == pytest.approx(total, rel=1e-4)
        drawn = monte_carlo(analysis, 40_000)["s"]
        assert drawn.u == pytest.approx(total, rel=0.02)


def test_a_reading_beyond_full_scale_is_remarked() -> None:
    made = program(
        instruments={"meter": {"least_count": "0.1 V", "class": 1.5, "full_scale": "10 V"}},
        quantities={"U": {"label": "U", "unit": "V", "instrument": "meter"}},
        results={"r": {"label": "r", "formula": "U", "unit": "V"}},
    )
    codes = {
        text: [f.code for f in findings_of(run(made, quantities={"U": text}))] for text in ("10.0", "10.1", "-12.0")
    }
    assert codes["10.0"] == []
    assert codes["10.1"] == codes["-12.0"] == ["over-range"]


def caliper(zero: str = "", reading: str = "20.00") -> ResultAnalysis:
    made = program(
        instruments={"caliper": {"least_count": "0.02 mm", "placement": "0.03 mm"}},
        quantities={"d": {"label": "d", "unit": "mm", "instrument": "caliper"}},
        results={"r": {"label": "r", "formula": "d", "unit": "mm"}},
    )
    return run(made, quantities={"d": reading}, **({"zeros": {"caliper": zero}} if zero else {})).results["r"]


def test_closed_jaws_are_placed_on_nothing() -> None:
    """A zero that is read adds its last digit, not the positioning on a specimen."""
    last, placed = 0.02 / math.sqrt(12), 0.03
    assert caliper().u * 1e3 == pytest.approx(math.hypot(last, placed), rel=1e-6)
    assert caliper("0.04").u * 1e3 == pytest.approx(math.sqrt(2 * last**2 + placed**2), rel=1e-6)
    assert caliper("0.04").value * 1e3 == pytest.approx(19.96)


def test_the_uncertainty_typed_with_a_zero_counts() -> None:
    assert caliper("0.30 ± 0.20").u * 1e3 == pytest.approx(math.sqrt(0.02**2 / 12 + 0.03**2 + 0.20**2), rel=1e-6)


def test_a_zero_read_several_times_has_a_scatter_of_its_own() -> None:
    texts = [0.02, 0.08, 0.05]
    found = caliper("; ".join(f"{t}" for t in texts))
    scatter = float(np.std(texts, ddof=1)) / math.sqrt(3)
    assert found.value * 1e3 == pytest.approx(20.0 - 0.05)
    assert found.u * 1e3 == pytest.approx(math.sqrt(0.02**2 / 12 + 0.03**2 + scatter**2), rel=1e-6)
    share = scatter**2 / (found.u * 1e3) ** 2
    assert found.dof == pytest.approx(2 / share**2, rel=1e-6)  # Welch-Satterthwaite
    # Readings that scatter less than their last digit keep what it exceeds them by.
    close = caliper("0.02; 0.02; 0.04")
    seen = float(np.std([0.02, 0.02, 0.04], ddof=1))
    last = 0.02 / math.sqrt(12)
    rest = max(last**2 - seen**2, 0.0)
    assert close.u * 1e3 == pytest.approx(math.sqrt(last**2 + 0.03**2 + seen**2 / 3 + rest), rel=1e-6)
    alike = caliper("0.02; 0.02; 0.02")
    assert alike.u * 1e3 == pytest.approx(math.sqrt(2 * last**2 + 0.03**2), rel=1e-6)
    with pytest.raises(RunError):
        caliper(";")


def test_folds_of_a_list_have_uncertainty() -> None:
    """Of a list of two readings: sum and mean add their variances, the largest has its own."""
    made = program(
        instruments={"rule": {"least_count": "1e-9 m", "placement": "1 mm"}},
        quantities={n: {"label": n, "unit": "m", "instrument": "rule"} for n in ("a", "b")},
        results={
            f: {"label": f, "formula": f"{f}(list(a, b))"} for f in ("mean", "sum", "first", "last", "min", "max")
        },
    )
    analysis = run(made, quantities={"a": "0.500 ± 0.003", "b": "0.700 ± 0.004"})
    wanted = {"mean": 0.0025, "sum": 0.005, "first": 0.003, "last": 0.004, "min": 0.003, "max": 0.004}
    for name, u in wanted.items():
        assert analysis.results[name].u == pytest.approx(u, rel=1e-6), name
    assert analysis.results["max"].value == pytest.approx(0.7)
    drawn = monte_carlo(analysis, 20_000)["mean"]
    assert drawn.u == pytest.approx(0.0025, rel=0.03)


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
