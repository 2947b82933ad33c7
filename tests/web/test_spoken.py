"""Formulas in words: powers, fractions and roots are said, so that a report can be heard."""

import pytest

from cavrel.core.formula import mathml
from cavrel.core.formula.nodes import Name
from cavrel.core.formula.parse import parse
from cavrel.web.spoken import spoken


@pytest.mark.parametrize(
    ("formula", "words"),
    [
        ("4*pi^2/slope", "fraction 4 π squared over slope end fraction"),
        ("a/b", "a over b"),
        ("x^3", "x cubed"),
        ("x^(1/3)", "x to the power 1 over 3 end power"),
        ("(a + b)^2", "( a plus b ) squared"),
        ("sqrt(l/g)", "the square root of l over g end root"),
        ("R_1 - R_2", "R 1 minus R 2"),
    ],
)
def test_a_formula_is_said(formula: str, words: str) -> None:
    assert spoken(mathml.math(mathml.row(parse(formula)))) == words


def test_an_equation_is_said() -> None:
    assert (
        spoken(mathml.math(mathml.equation(Name("T"), parse("t/(2*N)")))) == "T equals fraction t over 2 N end fraction"
    )
