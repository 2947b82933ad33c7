"""The public interface for notebooks: its examples run, its numbers are those of NumPy and SciPy."""

import contextlib
import io
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from scipy import optimize

import cavrel
from cavrel.core.errors import CavrelError

TEXT = (Path(__file__).resolve().parent.parent / "docs" / "notebooks.md").read_text(encoding="utf-8")
EXAMPLES = [part.split("```")[0] for part in TEXT.split("```python\n")[1:]]


@pytest.mark.parametrize(("example", "says"), zip(EXAMPLES, ("1.96 ± 0.04", "['A', 'p'] (2, 2)", "9.")))
def test_the_examples_of_the_page_run(example: str, says: str) -> None:
    out = io.StringIO()
    with contextlib.redirect_stdout(out):
        exec(compile(example, "docs/notebooks.md", "exec"), {})
    assert out.getvalue().startswith(says)


def test_a_line_is_that_of_numpy() -> None:
    draw = np.random.default_rng(4)
    x = np.linspace(1.7e9, 1.7e9 + 60, 12)
    y = -0.4 * (x - x[0]) + 3 + draw.normal(0, 0.2, 12)
    found = cavrel.fit(x, y, u=0.2)
    (slope, _), covariance = np.polyfit(x - x[0], y, 1, w=np.full(12, 1 / 0.2), cov="unscaled")
    assert found.parameters["slope"].value == pytest.approx(slope, rel=1e-9)
    assert found.source == "propagated" and found.dof == 10
    assert found.parameters["slope"].u == pytest.approx(np.sqrt(covariance[0, 0]), rel=1e-6)
    assert found.covariance[0, 0] == pytest.approx(found.parameters["slope"].u ** 2, rel=1e-9)
    assert found.chi2 == pytest.approx(float((found.residuals**2).sum() / 0.04), rel=1e-9)


def test_without_uncertainties_the_scatter_speaks() -> None:
    x, y = np.arange(8.0), np.array([0.1, 1.2, 1.8, 3.1, 4.2, 4.8, 6.1, 6.9])
    found = cavrel.fit(x, y)
    _, covariance = np.polyfit(x, y, 1, cov=True)
    assert found.chi2 is None and found.p is None and found.source == "scatter"
    assert found.parameters["slope"].u == pytest.approx(np.sqrt(covariance[0, 0]), rel=1e-6)


def test_a_curve_has_the_covariance_of_scipy() -> None:
    x = np.linspace(0, 80, 12)
    y = 3 * (1 - np.exp(-x / 20)) + 1 + np.random.default_rng(5).normal(0, 0.03, 12)
    found = cavrel.fit(x, y, u=np.full(12, 0.03), model="rise")
    best, covariance = optimize.curve_fit(
        lambda x, A, t, c: A * (1 - np.exp(-x / t)) + c,
        x,
        y,
        p0=(3, 20, 1),
        sigma=np.full(12, 0.03),
        absolute_sigma=True,
    )
    assert [one.value for one in found.parameters.values()] == pytest.approx(best, rel=1e-4)
    if found.source == "propagated":
        assert found.covariance == pytest.approx(covariance, rel=2e-2, abs=1e-6)


@pytest.mark.parametrize(
    ("given", "says"),
    [
        (([1, 2], [1, 2, 3]), "x has 2 values and y has 3"),
        (([1, np.nan, 3], [1, 2, 3]), "finite"),
        (([1, 1, 1], [1, 2, 3]), "."),
        (([], []), "."),
    ],
)
def test_points_that_no_line_fits(given: tuple[list[float], list[float]], says: str) -> None:
    with pytest.raises(ValueError, match=says):
        cavrel.fit(*given)
    with pytest.raises(ValueError, match="u must be one positive number"):
        cavrel.fit([1, 2, 3], [1, 2, 3], u=[0.1, 0.2])
    with pytest.raises(ValueError, match="u must be one positive number"):
        cavrel.fit([1, 2, 3], [1, 2, 3], u=-1)


def test_what_cannot_be_read_says_where() -> None:
    with pytest.raises(CavrelError):
        cavrel.analyse({"format": "cavrel-run/1", "experiment": "levitation"})
    with pytest.raises(CavrelError, match="model"):
        cavrel.fit([1, 2, 3], [1, 2, 3], model="wavy")


def test_the_package_alone_loads_no_engine() -> None:
    code = "import sys, cavrel; assert cavrel.__version__; assert not {'numpy', 'scipy', 'flask'} & set(sys.modules)"
    subprocess.run([sys.executable, "-c", code], check=True)
