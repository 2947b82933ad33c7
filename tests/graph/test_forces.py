"""The force picture: arrows to scale, arms, and the sum of torques in words."""

import re

import pytest

from cavrel.graph.forces import force_picture


def lengths(svg: str) -> list[float]:
    """Lengths of the arrows, in the order of the forces."""
    found = re.findall(r'<line x1="[\d.]+" y1="([\d.]+)" x2="[\d.]+" y2="([\d.]+)" class="force"', svg)
    return [float(below) - float(above) for above, below in found]


def test_arrows_are_to_scale() -> None:
    svg = force_picture(0.5, [("left", 0.2, 3.0), ("right", 0.8, 1.5)], "Two loads")
    first, second = lengths(svg)
    assert second / first == pytest.approx(0.5)
    assert "↺ 30.0 cm" in svg
    assert "↻ 30.0 cm" in svg
    assert "sum of torques 450 mN m" in svg


def test_balance_adds_up_to_nothing() -> None:
    svg = force_picture(0.4, [("left", 0.1, 2.0), ("right", 0.7, 2.0)], "Even")
    assert re.search(r"sum of torques (0|−?\d\.\d × 10⁻)", svg)
    assert 'aria-label="Even: pivot at 40.00 cm' in svg
