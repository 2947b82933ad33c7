"""JCGM 101:2008, the examples of clause 9: distributions against the linear budget."""

import pytest

from cavrel.core.analysis import Analysis
from cavrel.core.analysis.montecarlo import monte_carlo
from tests.core.machine import program, run

DRAWS = 400_000


def rectangular(half: str) -> dict[str, object]:
    """An instrument whose only uncertainty is a printed limit."""
    return {"least_count": "1e-9 kg/m^3", "class": 1.0, "full_scale": f"{float(half) * 100} kg/m^3"}


def sum_of_four(limits: list[str], rule: str) -> Analysis:
    made = program(
        quantities={f"X{i + 1}": {"label": f"X{i + 1}"} for i in range(4)},
        results={"Y": {"label": "Sum", "formula": "X1 + X2 + X3 + X4"}},
    )
    return run(
        made,
        quantities={f"X{i + 1}": f"0 ± {limit}" for i, limit in enumerate(limits)},
        rules={"stated": rule, "rounding": "two"},
    )


def test_sum_of_normal_distributions() -> None:
    """9.2.2, table 2: u = 2.00, interval -3.92 to 3.92 both ways."""
    analysis = sum_of_four(["1", "1", "1", "1"], "standard")
    drawn = monte_carlo(analysis, DRAWS)["Y"]
    assert analysis.results["Y"].u == pytest.approx(2.0)
    assert pytest.approx(3.92, abs=0.005) == analysis.results["Y"].expanded_uncertainty
    assert (drawn.u, drawn.low95, drawn.high95) == pytest.approx((2.00, -3.92, 3.92), abs=0.03)
    assert drawn.agrees


def test_sum_of_rectangular_distributions() -> None:
    """9.2.3, table 3: u = 2.00; the shortest interval is -3.88 to 3.88, the linear one -3.92 to 3.92."""
    analysis = sum_of_four(["1.7320508"] * 4, "limit")
    drawn = monte_carlo(analysis, DRAWS)["Y"]
    assert analysis.results["Y"].u == pytest.approx(2.0, rel=1e-6)
    assert (drawn.u, drawn.low95, drawn.high95) == pytest.approx((2.00, -3.88, 3.88), abs=0.03)


def test_one_rectangular_distribution_that_dominates() -> None:
    """9.2.4, table 4: one of the four ten times as wide: u = 10.1, interval -17.0 to 17.0; the linear one, -19.9 to 19.9, does not hold."""
    analysis = sum_of_four(["1.7320508"] * 3 + ["17.320508"], "limit")
    drawn = monte_carlo(analysis, DRAWS)["Y"]
    assert analysis.results["Y"].u == pytest.approx(10.1, abs=0.05)
    assert pytest.approx(19.9, abs=0.05) == analysis.results["Y"].expanded_uncertainty
    assert (drawn.u, drawn.low95, drawn.high95) == pytest.approx((10.1, -17.0, 17.0), abs=0.1)
    assert not drawn.agrees


def test_mass_calibration() -> None:
    """9.3, table 6: δm = 1.234 mg, u = 0.0754 mg by distributions, interval 1.0834 to 1.3825 mg; 0.0539 mg by the first-order law,
    which the product of two deviations about zero escapes."""
    made = program(
        instruments={"air": rectangular("0.1"), "weight": rectangular("1000"), "reference": rectangular("50")},
        quantities={
            "m": {"label": "Reference mass", "unit": "mg"},
            "d": {"label": "Small mass", "unit": "mg"},
            "rho_a": {"label": "Air", "unit": "kg/m^3", "instrument": "air"},
            "rho_w": {"label": "Weight", "unit": "kg/m^3", "instrument": "weight"},
            "rho_r": {"label": "Reference", "unit": "kg/m^3", "instrument": "reference"},
        },
        results={
            "dm": {
                "label": "Deviation",
                "unit": "mg",
                "formula": "(m + d)*(1 + (rho_a - 1.2[kg/m^3])*(1/rho_w - 1/rho_r)) - 100000[mg]",
            }
        },
    )
    quantities = {"m": "100000.000 ± 0.050", "d": "1.234 ± 0.020", "rho_a": "1.20", "rho_w": "8000", "rho_r": "8000"}
    analysis = run(made, quantities=quantities, rules={"rounding": "two"})
    assert analysis.results["dm"].value * 1e6 == pytest.approx(1.2340, abs=1e-4)
    assert analysis.results["dm"].u * 1e6 == pytest.approx(0.0539, abs=5e-5)
    drawn = monte_carlo(analysis, DRAWS)["dm"]
    assert drawn.mean * 1e6 == pytest.approx(1.2341, abs=5e-4)
    assert drawn.u * 1e6 == pytest.approx(0.0754, abs=3e-4)
    assert drawn.low95 * 1e6 == pytest.approx(1.0834, abs=3e-3)
    assert drawn.high95 * 1e6 == pytest.approx(1.3825, abs=3e-3)
    assert not drawn.agrees
