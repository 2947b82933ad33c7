"""What must hold for any data."""

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from uncertainties import ufloat, umath

from tests.core.machine import columns, program, run

LINE = {"f": {"series": "s", "x": "x", "y": "y", "model": "line"}}
seeds = st.integers(0, 10**6)
many = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])

METRES = program(
    series={"s": columns(x="m", y="s")},
    fits=LINE,
    results={"r": {"label": "r", "formula": "f.slope + mean(s.y)/max(s.x)", "unit": "s/m"}},
)


def data(seed: int, rows: int = 7) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    draw = np.random.default_rng(seed)
    x = np.sort(draw.uniform(1, 10, rows))
    u = draw.uniform(0.01, 0.2, rows)
    return x, 0.7 * x + 2 + draw.normal(0, u), u


def value_and_u(x: list[str], y: list[str], **rules: str) -> tuple[float, float]:
    found = run(METRES, series={"s": {"x": x, "y": y}}, rules=rules).results["r"]
    return found.value, found.u


@many
@given(seeds)
def test_rescaling_units_changes_nothing(seed: int) -> None:
    x, y, u = data(seed)
    plain = value_and_u([f"{v:.4f} ± 0.01" for v in x], [f"{v:.4f} ± {w:.4f}" for v, w in zip(y, u)])
    other = value_and_u(
        [f"{v * 100:.2f} ± 1.0 cm" for v in x], [f"{v * 1000:.1f} ± {w * 1000:.1f} ms" for v, w in zip(y, u)]
    )
    assert other == pytest.approx(plain, rel=1e-7)


@many
@given(seeds, st.randoms())
def test_the_order_of_rows_changes_nothing(seed: int, shuffler) -> None:
    x, y, u = data(seed)
    rows = [(f"{a:.4f} ± 0.01", f"{b:.4f} ± {w:.4f}") for a, b, w in zip(x, y, u)]
    plain = value_and_u([r[0] for r in rows], [r[1] for r in rows])
    shuffler.shuffle(rows)
    assert value_and_u([r[0] for r in rows], [r[1] for r in rows]) == pytest.approx(plain, rel=1e-7)


@many
@given(seeds, st.floats(0.1, 3))
def test_scaling_every_uncertainty_scales_u_and_moves_no_parameter(seed: int, factor: float) -> None:
    x, y, u = data(seed)
    rules = {"fit_uncertainty": "propagated", "abscissae": "york"}
    plain = value_and_u([f"{v:.6f} ± 0.01" for v in x], [f"{v:.6f} ± {float(w)!r}" for v, w in zip(y, u)], **rules)
    other = value_and_u(
        [f"{v:.6f} ± {0.01 * factor!r}" for v in x], [f"{v:.6f} ± {float(w * factor)!r}" for v, w in zip(y, u)], **rules
    )
    assert other[0] == pytest.approx(plain[0], rel=1e-9)
    # A quotient bends a little over the wider step, to the third order.
    assert other[1] == pytest.approx(plain[1] * factor, rel=1e-2)


@many
@given(seeds, st.sampled_from(["larger", "propagated", "scatter"]), st.sampled_from(["free", "forced"]))
def test_contributions_squared_add_up(seed: int, uncertainty: str, origin: str) -> None:
    x, y, _ = data(seed)
    analysis = run(
        METRES,
        series={"s": {"x": [f"{v:.2f}" for v in x], "y": [f"{v:.2f}" for v in y]}},
        rules={"fit_uncertainty": uncertainty, "origin": origin},
    )
    for result in analysis.results.values():
        if result.linear:  # where the law of propagation is no answer there is no u to make up
            assert sum(s.contribution**2 for s in result.budget) == pytest.approx(result.u**2, rel=1e-12)


@many
@given(seeds)
def test_a_value_left_out_is_as_if_never_read(seed: int) -> None:
    x, y, _ = data(seed)
    cells = {"x": [f"{v:.2f}" for v in x], "y": [f"{v:.2f}" for v in y]}
    out = run(METRES, series={"s": cells}, excluded={"s": {"7": "a test"}})
    short = run(METRES, series={"s": {key: column[:6] for key, column in cells.items()}})
    assert out.results["r"].value == pytest.approx(short.results["r"].value, rel=1e-9)
    assert out.results["r"].u == pytest.approx(short.results["r"].u, rel=1e-9)


EXPRESSIONS = [
    "a + b - c",
    "a*b/c",
    "a^2*sqrt(b)/c^3",
    "sin(a)*cos(b) + tan(c/4)",
    "exp(-a)*ln(b) + log10(c)",
    "atan2(a, b) + asin(a/9) - acos(b/9) + atan(c)",
    "4*pi^2*a/(b + c)^2",
    "abs(a - 2*b)*c^(-0.5)",
    "(a*b + b*c + c*a)/(a + b + c)",
]


@pytest.mark.parametrize("text", EXPRESSIONS)
def test_expressions_propagate_as_in_the_uncertainties_package(text: str) -> None:
    values = {"a": (1.3, 1e-4), "b": (2.1, 2e-4), "c": (0.7, 1e-4)}
    made = program(quantities={n: {"label": n} for n in values}, results={"r": {"label": "r", "formula": text}})
    found = run(made, quantities={n: f"{v} ± {u}" for n, (v, u) in values.items()}).results["r"]
    names = {n: ufloat(v, u) for n, (v, u) in values.items()} | {
        "pi": np.pi,
        "ln": umath.log,
        "sqrt": umath.sqrt,
        "abs": abs,
    }
    names |= {n: getattr(umath, n) for n in ("sin", "cos", "tan", "exp", "log10", "atan2", "asin", "acos", "atan")}
    other = eval(text.replace("^", "**"), {"__builtins__": {}}, names)
    assert found.value == pytest.approx(other.nominal_value, rel=1e-12)
    assert found.u == pytest.approx(other.std_dev, rel=1e-6)
