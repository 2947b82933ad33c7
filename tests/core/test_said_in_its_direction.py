"""What findings and verdicts say, each at its border and in its direction: exchanged, a sentence would be wrong."""

import numpy as np
import pytest
from scipy import stats

from cavrel.core.analysis import Analysis
from cavrel.core.findings import findings_of
from cavrel.core.findings.finding import Finding
from cavrel.core.findings.verdict import verdict_of
from tests.core.machine import columns, curve, program, run, texts

AGAINST_ZERO = program(
    quantities={"a": {"label": "a", "unit": "T", "repeats": 5}},
    results={"B": {"label": "field", "formula": "a", "accepted": "0.5[T]"}},
)


def said(analysis: Analysis) -> dict[str, Finding]:
    return {finding.code: finding for finding in findings_of(analysis)}


@pytest.mark.parametrize(("z", "word"), [(0.9, "common"), (1.1, "not unusual"), (1.6, "not unusual"), (1.7, "rare")])
def test_how_often_chance_makes_such_a_difference(z: float, word: str) -> None:
    """The borders of the normal distribution: 30 % at 1.036, 10 % at 1.645."""
    analysis = run(AGAINST_ZERO, quantities={"a": f"{0.5 + 0.001 * z:.6f} ± 0.001"})
    assert f"such a difference is {word}" in verdict_of(analysis, analysis.results["B"]).text


def test_few_readings_make_a_difference_less_rare() -> None:
    away = np.array([-2, -1, 0, 1, 2]) * 1e-3
    u = away.std(ddof=1) / np.sqrt(5)
    z = 1.8
    assert 0.1 < 2 * stats.t.sf(z, 4) < 0.3 and 2 * stats.norm.sf(z) < 0.1
    given = [f"{0.5 + z * u + v:.7f} ± 0.0000001" for v in away]
    analysis = run(AGAINST_ZERO, quantities={"a": given})
    assert "not unusual" in verdict_of(analysis, analysis.results["B"]).text


def test_every_result_that_another_way_contradicts_is_said() -> None:
    made = program(
        quantities={n: {"label": n, "unit": "m"} for n in "abc"},
        results={
            "x": {"label": "first", "formula": "a"},
            "y": {"label": "second", "formula": "b", "accepted": "x"},
            "z": {"label": "third", "formula": "c", "accepted": "x"},
        },
    )
    analysis = run(made, quantities={"a": "1.0 ± 0.01", "b": "1.001 ± 0.01", "c": "2.0 ± 0.01"})
    apart = [f for f in findings_of(analysis) if f.code == "apart"]
    assert [f.at for f in apart] == ["results.z"] and "third is 2" in apart[0].say


def test_settings_too_near_each_other_name_what_the_origin_and_each_row_would_say() -> None:
    x = np.array([10.0, 10.1, 10.2, 10.3])
    y = 3 * x + np.array([0.05, -0.05, 0.02, 0.04])
    found = said(curve("line", texts(x), texts(y, 0.05), origin=True))["undivided"]
    through = float(x @ y / (x @ x))
    rows = y / x
    for value in (through, rows.min(), rows.max()):
        assert f"{value:.4g}"[:5] in found.say
    assert "x covers only 3" in found.say and "Settings from" in found.say
    well = said(curve("line", texts(x), texts(3 * x, 1e-4), origin=True))["undivided"]
    assert "Settings from" not in well.say, "a slope known to 5 % needs no other settings"
    assert "undivided" not in said(
        curve("line", texts(np.arange(1.0, 5)), texts(3 * np.arange(1.0, 5), 0.05), origin=True)
    )


def test_values_that_scatter_too_much_are_no_curve() -> None:
    y = [f"{v} ± 0.01" for v in ("1.00", "1.10", "0.90", "1.05", "0.95")]
    made = program(series={"s": columns(x="", y="")}, fits={"f": {"series": "s", "y": "y", "model": "mean"}})
    mean = said(run(made, series={"s": {"x": list("12345"), "y": y}}))["scatter"]
    x = np.arange(1.0, 9)
    uneven = np.array([1, -1, -1, 1, 1, -1, -1, 1]) * 0.03
    line = said(curve("line", texts(x), texts(x + uneven, 0.01)))["scatter"]
    assert mean.title == "The values differ by more than they should"
    assert line.title == "More scatter than the error bars allow"


def test_a_bend_is_said_unless_one_point_alone_makes_it() -> None:
    x = np.linspace(1, 8, 8)
    bent = said(curve("line", texts(x), texts(x**2, 0.2)))
    assert bent["curved"].title == "The points bend up" and "off-line" not in bent
    assert said(curve("line", texts(x), texts(-(x**2), 0.2)))["curved"].title == "The points bend down"
    one = 2 * x
    one[7] += 6
    odd = said(curve("line", texts(x), texts(one, 0.2)))
    assert "off-line" in odd and "curved" not in odd and "scatter" not in odd
