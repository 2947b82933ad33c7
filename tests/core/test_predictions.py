"""Values predicted from a fit."""

import math

import numpy as np
import pytest
from scipy import stats

from cavrel.core.findings import findings_of
from tests.core.machine import columns, program, run

RNG = np.random.default_rng(5)


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
