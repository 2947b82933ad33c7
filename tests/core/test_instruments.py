"""What instruments declare: digits, classes, correlation, counts."""

import math

import numpy as np
import pytest

from cavrel.core.errors import DefinitionError
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
